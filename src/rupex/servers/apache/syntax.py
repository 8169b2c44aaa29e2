"""Apache httpd's configuration language: text to a tree in which every directive has its place.

Follows ``ap_cfg_getline`` and ``ap_build_config`` of httpd 2.4 (server/util.c, server/config.c): one directive a line, a
backslash before the line's end joins the next one (also in a comment), ``#`` starts a comment only at the start of a line,
``<Name …>`` opens a section and ``</Name>`` ends it. Words are quoted with either quote; in quotes a backslash escapes the
quote and itself (``ap_getword_conf``).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache
from itertools import chain
from typing import Any, Final

from msgspec import Struct

from rupex.masking.quoting import quoted
from rupex.model import Provenance, Words, bounds
from rupex.model.provenance import How
from rupex.servers.common.source import SourceText, Span

_LINE = re.compile(r"((?:[^\n\\]|\\(?!\r?\n)|\\\r?\n)*+)(\n|\Z)")
_BLANK = re.compile(r"(?:[ \t\r\f\v]|\\\r?\n)*+")
_JOIN = re.compile(r"\\\r?\n")
_WORD = re.compile(r"""\s*+(?:"((?:[^"\\]|\\.)*+)"|'((?:[^'\\]|\\.)*+)'|(\S+))""", re.DOTALL)
_UNQUOTE = re.compile(r"""\\(["'\\])""")


class ConfigError(Struct, frozen=True):
    """What breaks the grammar, and in which line."""

    message: str
    line: int


class Directive(Struct, gc=False):
    """A directive or section.

    ``raw``: what stands behind the name, with definitions and parameters of macros filled in.
    ``source``: the file in which it is written.
    ``line``, ``column``: where it begins.
    ``start``, ``end``: its offsets there, to the end of its (joined) line; of a section to the end of its last line. -1 for a
    virtual host of a file that is written from a template: its file has to be read for them.
    ``children``: of a section, else None.
    ``head``: of a section, the offset behind its first line.
    ``via``: the lines by which it got here, the last first: uses of macros, and definitions of which it holds the value.
    """

    name: str
    raw: str
    source: SourceText
    line: int
    column: int
    start: int
    end: int
    children: Block | None = None
    head: int = -1
    via: tuple[Directive, ...] = ()

    @property
    def path(self) -> str:
        """The file in which it is written, in the host tree."""
        return self.source.path

    @property
    def words(self) -> tuple[Span, ...]:
        """Its name and its arguments as they are written, quotes included, without the angle brackets of a section."""
        begin, end = self.start, self.end if self.children is None else self.head
        return tuple(_words_of(self.source.text, begin, end, is_section=self.children is not None))

    @property
    def written(self) -> str:
        """What stands behind the name, as it is written."""
        words = self.words
        return self.source.text[words[1].start : words[-1].end] if len(words) > 1 else ""

    @property
    def opened(self) -> tuple[Span, Span] | None:
        """The ``<`` and ``>`` of a section's first line."""
        if self.children is None:
            return None
        last = (
            self.head
            - len(self.source.text[self.start : self.head])
            + len(self.source.text[self.start : self.head].rstrip())
        )
        return Span(self.start, self.start + 1), Span(last - 1, last)

    @property
    def closed(self) -> Span | None:
        """The last line of a section, such as ``</Directory>``; None where it is not closed."""
        if self.children is None or self.end <= self.head:
            return None
        start = self.source.text.rindex("</", self.head, self.end)
        return Span(start, start + len(self.source.text[start : self.end].rstrip()))

    @property
    def key(self) -> str:
        """The name as the server looks it up: case does not count."""
        return _lowered(self.name)

    @property
    def args(self) -> tuple[str, ...]:
        return split_words(self.raw)

    @property
    def word(self) -> str:
        """What stands behind the name, without quotes and in small letters: of a directive that takes one word, that word."""
        return _word(self.raw)

    @property
    def inner(self) -> Block:
        """What a section holds; nothing for a directive."""
        return self.children if self.children is not None else Block()

    @property
    def is_section(self) -> bool:
        return self.children is not None

    def provenance(self, how: How = "explicit", note: str | None = None) -> Provenance:
        return Provenance(how, self.path, self.line, self.column, note)

    def __str__(self) -> str:
        """The directive as one line, without what a section holds, and without values that may be secret."""
        from rupex.masking.texts import shown

        line = f"{self.name} {self.raw}".rstrip()
        return shown(f"<{line}>" if self.is_section else line, "apache")


class Block:
    """What stands in one file or section, in order, and by name. It is complete when it is first asked by name.

    ``model``: the same block of the template that its file is written from, itself in a file of none.
    ``words``: what the file has for the template's stand-ins, None in a file of no template.
    """

    __slots__ = ("_by_key", "_items", "_order")
    _by_key: dict[str, list[Directive]]
    _order: dict[int, int]

    def __init__(self, items: Iterable[Directive] = ()) -> None:
        self._items = list(items)

    def __iter__(self) -> Iterator[Directive]:
        return iter(self._items)

    def __len__(self) -> int:
        return len(self._items)

    def __getitem__(self, place: int) -> Directive:
        return self._items[place]

    def append(self, directive: Directive) -> None:
        self._items.append(directive)

    def __iadd__(self, more: Iterable[Directive]) -> Block:
        self._items += more
        return self

    @property
    def model(self) -> Block:
        return self

    @property
    def words(self) -> Words | None:
        return None

    def names(self) -> Iterable[str]:
        """What its directives and sections are called, each once."""
        return self._named().keys()

    def _named(self) -> dict[str, list[Directive]]:
        try:
            return self._by_key
        except AttributeError:
            self._by_key = self._index()
            return self._by_key

    def named(self, *keys: str) -> Sequence[Directive]:
        """The directives and sections called one of ``keys`` (lower case), in order."""
        by_key = self._named()
        if len(keys) == 1:
            return by_key.get(keys[0], ())
        held = [by_key[key] for key in keys if key in by_key]
        if len(held) <= 1:
            return held[0] if held else ()
        try:
            order = self._order
        except AttributeError:
            order = self._order = {id(directive): place for place, directive in enumerate(self._in_force())}
        return sorted(chain.from_iterable(held), key=lambda directive: order[id(directive)])

    def _index(self) -> dict[str, list[Directive]]:
        by_key: dict[str, list[Directive]] = {}
        for directive in self._in_force():
            by_key.setdefault(directive.key, []).append(directive)
        return by_key

    def _in_force(self) -> Iterator[Directive]:
        """What stands in it, and in Limit and LimitExcept, which hold for nothing but access: all else in them holds for every
        method (core.c, ap_limit_section)."""
        for directive in self:
            yield directive
            if directive.key in ("limit", "limitexcept"):
                yield from (inner for inner in directive.inner if inner.key not in _LIMITED)


_LIMITED: Final = frozenset(
    "require requireall requireany requirenone order allow deny satisfy limit limitexcept".split()
)
"""What Limit and LimitExcept hold for one method or another."""


class InstanceBlock(Block):
    """What stands in a virtual host of a file that is written from a template. It is read when somebody asks for it, by
    ``read``: most of what anybody asks is found by what the ``model`` has, the inside of the template's ``section``."""

    __slots__ = ("_read", "_words", "section")

    def __init__(self, section: Directive, words: Words, read: Callable[[], Block]) -> None:
        self.section, self._words, self._read = section, words, read

    def __getattr__(self, name: str) -> Any:
        if name != "_items":
            raise AttributeError(name)
        self._items = list(self._read())
        return self._items

    @property
    def model(self) -> Block:
        return self.section.inner

    @property
    def words(self) -> Words:
        return self._words


class ParsedFile(Struct, frozen=True):
    """The directives of one file, as far as they could be read."""

    source: SourceText
    directives: Block
    problem: ConfigError | None = None


def tokens(parsed: ParsedFile) -> Iterator[Span]:
    """Everything in a file that is no blank and no line end, in order: words, the angle brackets of sections, comments."""
    text, behind = parsed.source.text, 0
    for span in _written(parsed.directives):
        yield from _comments(text, behind, span.start)
        yield span
        behind = span.end
    yield from _comments(text, behind, len(text))


def _written(block: Block) -> Iterator[Span]:
    for directive in block:
        opened, closed = directive.opened, directive.closed
        yield from (*opened[:1], *directive.words, *opened[1:]) if opened is not None else directive.words
        if directive.children is not None:
            yield from _written(directive.children)
        if closed is not None:
            yield closed


def _comments(text: str, start: int, end: int) -> Iterator[Span]:
    """The lines between two spans, joined as the server joins them: where no directive is, a comment is."""
    for found in _LINE.finditer(text, start, end):
        line = Span(*found.span(1))
        begin = line.end - len(line.of(text).lstrip())
        if begin < line.end and _JOIN.sub("", line.of(text)).strip():
            yield Span(begin, begin + len(line.of(text)[begin - line.start :].rstrip()))
        if found.end() >= end:
            return


def _words_of(text: str, start: int, end: int, *, is_section: bool) -> Iterator[Span]:
    """The words of a directive, or of a section's first line, between two offsets. Lines are joined before words are read."""
    pieces = _JOIN.split(text[start:end])
    offsets: list[int] = []  # of each character of the joined line
    position = start
    for piece in pieces:
        offsets += range(position, position + len(piece))
        position += len(piece)
        joint = _JOIN.match(text, position)
        position = position if joint is None else joint.end()
    joined = "".join(pieces).rstrip()
    if is_section:
        joined = joined.removesuffix(">").rstrip()
    name = _SECTION_NAME.match(joined, 1) if is_section else re.compile(r"\S+").match(joined)
    if name is None:
        return
    for first, last in (name.span(), *(_stripped(found) for found in _WORD.finditer(joined, name.end()))):
        if first < last:
            yield Span(offsets[first], offsets[last - 1] + 1)


def _stripped(found: re.Match[str]) -> tuple[int, int]:
    return found.end() - len(found[0].lstrip()), found.end()


def split_words(raw: str) -> tuple[str, ...]:
    """The words of a directive's arguments, without their quotes."""
    found = []
    for word in _WORD.finditer(raw.rstrip()):  # blanks at its end would be looked at from each of them
        quoted = word[1] if word[1] is not None else word[2]
        found.append(word[3] if quoted is None else _UNQUOTE.sub(r"\1", quoted))
    return tuple(found)


@lru_cache(maxsize=4096)
def _lowered(name: str) -> str:
    return name.lower()


@lru_cache(maxsize=4096)
def _word(raw: str) -> str:
    return " ".join(split_words(raw)).lower()


_SECTION_NAME: Final = re.compile(r"[^\s>]*")


def parse(path: str, text: str) -> ParsedFile:
    """Read one file. What stands behind a break of the grammar is not read."""
    top, source = Block(), SourceText(path, text)
    open_sections: list[Directive] = []
    number = 1
    for match in _LINE.finditer(text):
        whole, first = match[1], number
        number += whole.count("\n") + 1
        joined = _JOIN.sub("", whole).strip()
        if not joined or joined.startswith("#"):
            if match.end() == len(text):
                break
            continue
        blank = _BLANK.match(whole)
        lead = blank[0] if blank is not None else ""
        first += lead.count("\n")
        column = len(lead) - (lead.rfind("\n") + 1) + 1
        start, end = match.start(1) + len(lead), match.end(1)
        children = open_sections[-1].children if open_sections else top
        assert children is not None
        if joined.startswith("</"):
            name = joined[2:].split(">")[0].strip()
            if not open_sections or open_sections[-1].key != name.lower():
                message = (
                    f"</{name}> without <{name}>"
                    if not open_sections
                    else f"</{name}> where </{open_sections[-1].name}> is due"
                )
                return ParsedFile(source, top, ConfigError(message, first))
            open_sections.pop().end = end
        elif joined.startswith("<"):
            name = _SECTION_NAME.match(joined, 1)[0]  # type: ignore[index]  # matches anything
            if not name or not joined.endswith(">"):
                return ParsedFile(source, top, ConfigError(f"{quoted(joined)} is no section: its > is missing", first))
            if len(open_sections) >= bounds.NESTING:
                return ParsedFile(source, top, ConfigError(f"more than {bounds.NESTING} sections in each other", first))
            section = Directive(
                name, joined[1 + len(name) : -1].strip(), source, first, column, start, end, Block(), head=end
            )
            children.append(section)
            open_sections.append(section)
        else:
            name, *rest = joined.split(None, 1)
            children.append(Directive(name, rest[0] if rest else "", source, first, column, start, end))
        if match.end() == len(text):
            break
    if open_sections:
        return ParsedFile(source, top, ConfigError(f"<{open_sections[-1].name}> is not closed", open_sections[-1].line))
    return ParsedFile(source, top)
