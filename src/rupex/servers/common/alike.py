"""Configuration files that are one another under other names: read once, the others by putting their own words in.

Large hosts write their sites from a pattern. Two files are alike when they are the same text but for their server names,
certificates, document roots and logs, and for comments on lines of their own, all of the same length: then every word of
one stands where the other has it. Length costs little (sites 10 to 99 are alike) and keeps every position true.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Final, Generic, NamedTuple, Protocol, Self, TypeVar

from msgspec import Struct

from rupex.model import Likeness

Made = TypeVar("Made")

_NAME = re.compile(r"(?:[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\.)+[a-z]{2,}")
_PATHS = re.compile(r"[^\s;{}\"'\\$#<>]+")
_MOST_TOKENS: Final = 64
"""Words of one file that are its own; a file with more is no site like others."""
_MOST_KINDS: Final = 10_000
_MOST_OF_A_LENGTH: Final = 4
"""Kinds of files of one length that are tried."""
_LONGEST: Final = 1 << 16


class Language(NamedTuple):
    """Where a language has what differs from site to site: the lines of ``names``, several in the first group, and those
    of ``paths``, one absolute path in the first group."""

    names: re.Pattern[str]
    paths: re.Pattern[str]


class Shape(Struct, eq=False):
    """The text of the first file of a kind, of whose length the others are. ``tokens``: the words that are its own, its names
    first; ``endings``: of its names; ``same``: what is the same, each with its offset; ``places``: offset, length and number of
    each word of its own; ``comments``: offset and length; ``common``: all that is the same; ``nesting``: which tokens are parts
    of which others, each in one place; ``counts``: in how many tokens each is."""

    tokens: tuple[str, ...]
    endings: tuple[str, ...]
    same: list[tuple[int, str]]
    places: list[tuple[int, int, int]]
    comments: list[tuple[int, int]]
    common: str
    nesting: list[tuple[int, int]]
    counts: list[int]

    def fit(self, text: str) -> tuple[str, ...] | None:
        """The tokens of ``text`` where it is alike, which has as many characters; None where it is not."""
        if not all(text.startswith(piece, start) for start, piece in self.same):
            return None
        words: list[str | None] = [None] * len(self.tokens)
        for start, length, number in self.places:
            word = text[start : start + length]
            if word != words[number] and (words[number] is not None or "\n" in word):
                return None
            words[number] = word
        for start, length in self.comments:
            # a comment that ended with a backslash would make the next line its own, for httpd
            if text.find("\n", start, start + length) >= 0 or text[start + length - 1] == "\\":
                return None
        tokens = tuple(word for word in words if word is not None)
        for name, ending in zip(tokens, self.endings, strict=False):
            if not name.endswith(ending) or _NAME.fullmatch(name) is None:
                return None
        paths = "/".join(("", *tokens[len(self.endings) :], ""))
        if "//" in paths or "/." in paths or _PATHS.fullmatch(paths) is None:
            return None
        # Each word of its own, none part of another where the first's was not, and none of what all have in common:
        # a site that names another site is not like one that names itself.
        if any(tokens[one] not in tokens[other] for one, other in self.nesting) or _counts(tokens) != self.counts:
            return None
        return None if any(token in self.common for token in tokens) else tokens


class Shapes(Generic[Made]):
    """The kinds of files met so far, each with what was made of the first."""

    def __init__(self) -> None:
        self._known: dict[int, list[tuple[Shape, Made]]] = {}
        self._count = 0

    def find(self, text: str) -> tuple[Made, tuple[str, ...]] | None:
        """What was made of the first file of the kind of ``text``, and the tokens that ``text`` has."""
        for shape, made in self._known.get(len(text), ()):
            tokens = shape.fit(text)
            if tokens is not None:
                return made, tokens
        return None

    def add(self, text: str, shape: Shape, made: Made) -> None:
        """Remember ``text``, of which ``shape`` is the shape, as the first of a kind."""
        if self._count < _MOST_KINDS:
            self._known.setdefault(len(text), []).insert(0, (shape, made))
            del self._known[len(text)][_MOST_OF_A_LENGTH:]
            self._count += 1


class Part(Protocol):
    """A part of a file. ``first``: the same part of the first file of its kind, itself in one of no kind."""

    @property
    def first(self) -> Self: ...
    @property
    def likeness(self) -> Likeness | None: ...


Some = TypeVar("Some", bound=Part)


class ByKind(Generic[Some, Made]):
    """Reads parts of files, of each kind the first only: what ``read`` finds in the others is that in their own words."""

    def __init__(self, read: Callable[[Some], Made]) -> None:
        self._read = read
        self._known: dict[int, tuple[Made, Some]] = {}  # the part is kept, so that its id stays its own

    def __call__(self, part: Some) -> Made:
        first = part.first
        known = self._known.get(id(first))
        if known is None:
            known = self._known[id(first)] = (self._read(first), first)
        found: Made = known[0] if part.likeness is None else part.likeness.moved(known[0])
        return found


def shape_of(text: str, language: Language) -> Shape | None:
    """The shape of a site's file; None for what is no site of a kind."""
    if len(text) > _LONGEST or "\0" in text:
        return None
    found: dict[str, None] = {}
    endings: list[str] = []
    for names in language.names.findall(text):
        for name in names.split():
            if _NAME.fullmatch(name) is None:
                return None
            if name not in found:
                found[name] = None
                labels = name.split(".")  # what a control may ask of a name is how it ends: ".internal", ".home.arpa"
                endings.append("." + ".".join(labels[-2:] if labels[-1] == "arpa" else labels[-1:]))
    if not found:
        return None
    for path in language.paths.findall(text):
        if "//" not in path and "/." not in path and path.count("/") > 1:
            found[path.strip("/")] = None  # as paths in a tree are written
    tokens = tuple(found)
    if len(tokens) > _MOST_TOKENS:
        return None
    same, places, comments = _pieces(text, tokens)
    if len({number for _, _, number in places}) < len(tokens):
        return None  # a word that stands only inside others is nobody's own
    nesting = [(i, j) for i, one in enumerate(tokens) for j, other in enumerate(tokens) if i != j and one in other]
    counts = _counts(tokens)
    if sum(counts) != len(tokens) + len(nesting):
        return None  # one that is twice in another
    common = "\n".join(piece for _, piece in same)
    return Shape(tokens, tuple(endings), same, places, comments, common, nesting, counts)


def holds_any(word: str, tokens: tuple[str, ...]) -> bool:
    """Whether something of the file's own is in ``word``."""
    return any(token in word for token in tokens)


def _counts(tokens: tuple[str, ...]) -> list[int]:
    """How often each token is in all of them, itself among them."""
    together = "\n".join(tokens)
    return [together.count(token) for token in tokens]


def _pieces(
    text: str, tokens: tuple[str, ...]
) -> tuple[list[tuple[int, str]], list[tuple[int, int, int]], list[tuple[int, int]]]:
    """Where in ``text`` what is the same stands, where each of ``tokens``, and where comments: as :class:`Shape` has them."""
    order = {token: index for index, token in enumerate(tokens)}
    longest_first = "|".join(map(re.escape, sorted(tokens, key=len, reverse=True)))
    same: list[tuple[int, str]] = []
    places: list[tuple[int, int, int]] = []
    comments: list[tuple[int, int]] = []
    at = 0
    for found in re.finditer(rf"^[ \t]*#[^\n]*|{longest_first}", text, re.MULTILINE):
        start, number = found.start(), order.get(found[0])
        if number is None:
            start += found[0].index("#") + 1
            if start < found.end():
                comments.append((start, found.end() - start))
        else:
            places.append((start, found.end() - start, number))
        same.append((at, text[at:start]))
        at = found.end()
    same.append((at, text[at:]))
    return same, places, comments
