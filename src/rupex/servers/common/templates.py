"""Recognizes files that are written from one template: read once, the others by their own words (see
:mod:`rupex.model.templates`).

Large hosts write their sites from a template. Two files are instances of one where they differ in nothing but host names, the
paths of their own certificates, document roots and logs, and in what stands in comments on lines of their own. Line numbers are
then the same, and nothing else has to be read again.

A host on which no two files are alike must not pay for this: after some misses only a few of its files are looked at.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Final, Generic, Literal, NamedTuple, Protocol, Self, TypeVar

from rupex.host import HostTree
from rupex.host.tree.paths import normalize_path
from rupex.model.templates import MARK, MOST_STAND_INS, Filled, Words, filler, name_stand_in, path_stand_in

Made = TypeVar("Made")

_NAME = re.compile(r"(?:[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\.)+[a-z]{2,}")
_PATH = re.compile(r"(?:/[\w.@+-]+){2,}")
_COMMENT = re.compile(r"^([ \t]*+#)[^\n]*+", re.MULTILINE)
_MOST_WORDS: Final = 64
"""Words of one file that are its own; a file with more is no site like others."""
_LONGEST: Final = 1 << 16
_MOST_TEMPLATES: Final = 2_000
_CREDIT: Final = 64
"""Files that are looked at in vain before most are not looked at any more."""
_EACH: Final = 16
"""Of the files that are not looked at, each so many one is looked at all the same: templates may come later."""


class Language(NamedTuple):
    """Where a language has the words of a site.

    ``names``: lines with host names, several in the first group.
    ``paths``: lines with the path of a file or folder of the site in the first group.
    ``keeps_parents``: only the last part of a path is a word, since settings of the folders above it may hold for it.
    """

    names: re.Pattern[str]
    paths: re.Pattern[str]
    keeps_parents: bool


class Template(NamedTuple, Generic[Made]):
    """What was ``made`` of a template, and its ``stand_ins``: that of the file itself, then those of its words in order."""

    made: Made
    stand_ins: tuple[str, ...]


class Templates(Generic[Made]):
    """The templates of one configuration, and the files seen once of which a second one would be the second of a template.

    ``tree``: a folder that is there is not a word of a site, for what lies in it may differ from site to site.
    """

    def __init__(self, language: Language, tree: HostTree) -> None:
        self._language, self._tree = language, tree
        self._known: dict[object, Template[Made] | Literal["seen once", "unfit"]] = {}
        self._numbers = self._skipped = 0
        self._credit = _CREDIT

    def find(self, path: str, text: str, make: Callable[[str, str], Made | None]) -> tuple[Made, Words] | None:
        """What was made of the template of ``text``, and the words of the file at ``path``; None for a file that is of none,
        or the first of its kind. ``make``: makes something of a path and the text of a template, None where that is not fit
        to be one."""
        if self._credit <= 0:
            self._skipped += 1
            if self._skipped % _EACH:
                return None
        found = self._find(path, text, make)
        self._credit = max(0, self._credit - 1) if found is None else min(_CREDIT, self._credit + _EACH)
        return found

    def _find(self, path: str, text: str, make: Callable[[str, str], Made | None]) -> tuple[Made, Words] | None:
        if len(text) > _LONGEST or "\0" in text:
            return None
        words = self._words_of(text)
        if words is None:
            return None
        skeleton = _COMMENT.sub(r"\1", text)
        for written in sorted(words.written, key=len, reverse=True):
            own = words.written[written]
            skeleton = skeleton.replace(written, f"{written.removesuffix(own)}\0{words.own.index(own)}\0")
        known = self._known.get(skeleton)
        if known is None and len(self._known) < _MOST_TEMPLATES:
            self._known[skeleton] = "seen once"
        elif known == "seen once":
            known = self._known[skeleton] = self._template(skeleton, words, make) or "unfit"
        if not isinstance(known, Template):
            return None
        return known.made, Words(dict(zip(known.stand_ins, (path, *words.own), strict=True)))

    def _words_of(self, text: str) -> _SiteWords | None:
        """The words of a site; None for what is no site."""
        language = self._language
        names: dict[str, None] = {}
        for line in language.names.findall(text):
            for name in line.split():
                if _NAME.fullmatch(name) is None:
                    return None
                names[name] = None
        if not names:
            return None
        written = {name: name for name in names}
        for path in dict.fromkeys(language.paths.findall(text)):
            if (
                "/." not in path
                and _PATH.fullmatch(path)
                and not path.startswith("/usr/")
                and not self._has_folder(path)
            ):
                written[path] = path[path.rindex("/") + 1 :] if language.keeps_parents else path[1:]
        own = tuple(dict.fromkeys(written.values()))
        return None if len(own) > _MOST_WORDS else _SiteWords(written, own, len(names))

    def _has_folder(self, path: str) -> bool:
        return next(self._tree.folders_among((normalize_path(path),)), None) is not None

    def _template(
        self, skeleton: str, words: _SiteWords, make: Callable[[str, str], Made | None]
    ) -> Template[Made] | None:
        first, count = self._numbers, len(words.own)
        if MARK in skeleton or first + 1 + count > MOST_STAND_INS:
            return None
        self._numbers += 1 + count
        stand_ins = [
            name_stand_in(first + index) if 0 < index <= words.names else path_stand_in(first + index)
            for index in range(1 + count)
        ]
        text = skeleton
        for index in range(count):
            text = text.replace(f"\0{index}\0", stand_ins[1 + index])
        made = make(stand_ins[0], text)
        return None if made is None else Template(made, tuple(stand_ins))


class _SiteWords(NamedTuple):
    """The words of one site.

    ``written``: what stands in its file, a name or a path, with the word in it, which is its end.
    ``own``: each word once, its names first.
    ``names``: how many of them are names.
    """

    written: dict[str, str]
    own: tuple[str, ...]
    names: int


class Part(Protocol):
    """A part of a file. ``model``: the same part of its template, itself in a file of none; ``words``: of the file, None in
    one of no template."""

    @property
    def model(self) -> Self: ...
    @property
    def words(self) -> Words | None: ...


Some = TypeVar("Some", bound=Part)


class ReadOnce(Generic[Some, Made]):
    """Reads parts of files, of those of a template the template's only: what ``read`` finds there is put into their words."""

    def __init__(self, read: Callable[[Some], Made]) -> None:
        self._read = read
        self._known: dict[int, tuple[Made, Some]] = {}  # the part is kept, so that its id stays its own
        self._fillers: dict[int, Filled | None] = {}

    def __call__(self, part: Some) -> Made:
        model, words = part.model, part.words
        known = self._known.get(id(model))
        if known is None:
            known = self._known[id(model)] = (self._read(model), model)
        if words is None:
            return known[0]
        if id(model) not in self._fillers:
            self._fillers[id(model)] = filler(known[0])
        fill = self._fillers[id(model)]
        found: Made = known[0] if fill is None else fill(words.own)
        return found
