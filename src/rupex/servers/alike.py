"""Configuration files that are one another under other names: read once, the others by putting their own words in.

Large hosts write their sites from a pattern. Two files are alike when they are the same text but for their server names,
certificates, document roots and logs, and for comments on lines of their own, all of the same length: then every word of
one stands where the other has it. Length costs little (sites 10 to 99 are alike) and keeps every position true.
"""

from __future__ import annotations

import re
from typing import Final, Generic, NamedTuple, TypeVar

from msgspec import Struct

Made = TypeVar("Made")

_NAME = re.compile(r"(?:[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\.)+[a-z]{2,}")
_PATH = re.compile(r"[^\s;{}\"'\\$#<>]+")
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
    """The text of the first file of a kind. ``tokens``: the words that are its own, its names first; ``endings``: of its
    names; ``pieces``: the text in parts, each with the offsets at which it starts and ends and the token that it is
    (-1: the same in every file, -2: a comment); ``common``: what is the same; ``nesting``: which tokens are parts of which
    others."""

    tokens: tuple[str, ...]
    endings: tuple[str, ...]
    pieces: list[tuple[str, int, int, int]]
    nesting: list[tuple[int, int]]
    common: str

    def fit(self, text: str) -> tuple[str, ...] | None:
        """The tokens of ``text`` where it is alike, which has as many characters; None where it is not."""
        found: dict[int, str] = {}
        for piece, start, end, token in self.pieces:
            here = text[start:end]
            if token == -1:
                if here != piece:
                    return None
            elif token == -2:
                if "\n" in here or here.endswith("\\"):
                    return None
            elif found.setdefault(token, here) != here:
                return None
        tokens = tuple(found[index] for index in range(len(self.tokens)))
        names = len(self.endings)
        for name, ending in zip(tokens, self.endings, strict=False):
            if not name.endswith(ending) or _NAME.fullmatch(name) is None:
                return None
        if any(_PATH.fullmatch(path) is None or "//" in path or "/." in path for path in tokens[names:]):
            return None
        # Each word of its own, none part of another where the first's was not, and none of what all have in common:
        # a site that names another site is not like one that names itself.
        if len(set(tokens)) < len(tokens) or _nesting(tokens) != self.nesting:
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
            found[path[1:]] = None  # without its first slash, as paths in a tree are written
    tokens = tuple(found)
    pieces = _pieces(text, tokens) if len(tokens) <= _MOST_TOKENS else None
    if pieces is None:
        return None
    common = "\n".join(piece for piece, _, _, token in pieces if token == -1)
    return Shape(tokens, tuple(endings), pieces, _nesting(tokens), common)


def holds_any(word: str, tokens: tuple[str, ...]) -> bool:
    """Whether something of the file's own is in ``word``."""
    return any(token in word for token in tokens)


def _nesting(tokens: tuple[str, ...]) -> list[tuple[int, int]]:
    """Which tokens are parts of which others."""
    return [(i, j) for i, one in enumerate(tokens) for j, other in enumerate(tokens) if i != j and one in other]


def _pieces(text: str, tokens: tuple[str, ...]) -> list[tuple[str, int, int, int]] | None:
    """``text`` in parts, see :class:`Shape`."""
    order = {token: index for index, token in enumerate(tokens)}
    longest_first = "|".join(map(re.escape, sorted(tokens, key=len, reverse=True)))
    pattern = re.compile(rf"^[ \t]*#[^\n]*|{longest_first}", re.MULTILINE)
    pieces, at = [], 0
    for found in pattern.finditer(text):
        start = found.start()
        token = order.get(found[0], -2)
        if token == -2:
            start += found[0].index("#") + 1
        pieces += [(text[at:start], at, start, -1), (found[0], start, found.end(), token)]
        at = found.end()
    pieces.append((text[at:], at, len(text), -1))
    seen = {token for *_, token in pieces}
    return pieces if all(index in seen for index in range(len(tokens))) else None
