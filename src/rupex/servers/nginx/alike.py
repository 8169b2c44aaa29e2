"""nginx files of one kind (see :mod:`rupex.servers.common.alike`): parsed once, the others cut out by the same offsets."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import Any, Final, NamedTuple

from msgspec import Struct

from rupex.model import Likeness, Pattern, Provenance
from rupex.servers.common.alike import Language, Shapes, holds_any, shape_of
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.syntax import Directive, ParsedFile, SourceText

_LANGUAGE: Final = Language(
    re.compile(r"^[ \t]*server_name[ \t]+([^;{}\"'\\$~*\n]+);", re.MULTILINE),
    re.compile(
        r"^[ \t]*(?:ssl_certificate|ssl_certificate_key|root|access_log|error_log)[ \t]+(/[^\s;{}\"'\\$]{4,})[^;{}\n]*;",
        re.MULTILINE,
    ),
)

# What an if may match a pattern against, so that the outcome does not hang on the site's own name.
_NAMELESS = re.compile(r"\(?\$(?:request_method|uri|request_uri|args|arg_\w+|scheme|http_(?!host\b)\w+|cookie_\w+)$")


class Kind(Struct, eq=False):
    """The first file of a kind, of which nothing looks into a name, so that what holds for one site holds for the others.
    ``children``: what it holds, includes in place; ``includes``: what it includes itself, by which line; ``size``: how many
    directives it has."""

    source: SourceText
    pattern: Pattern
    children: list[Directive | Block]
    includes: tuple[tuple[str, Provenance], ...]
    size: int


class AlikeFile(NamedTuple):
    """A file of a ``kind``: its ``children`` are those of the first file, in its own words."""

    kind: Kind
    children: list[Directive | Block]
    likeness: Likeness


class Kinds:
    """The kinds of files met so far."""

    def __init__(self) -> None:
        self._shapes: Shapes[Kind] = Shapes()

    def find(self, path: str, text: str) -> AlikeFile | None:
        """The file at ``path``, where it is of a kind that was met before."""
        found = self._shapes.find(text)
        if found is None:
            return None
        kind, tokens = found
        source = SourceText(path, text)
        source.tokens, source.likeness = tokens, Likeness(kind.pattern, path, tokens)
        source.share_lines(kind.source)
        return AlikeFile(kind, _own(kind.children, kind.source, source), source.likeness)

    def add(
        self, parsed: ParsedFile, children: list[Directive | Block], includes: Iterable[tuple[str, Directive]]
    ) -> None:
        """Remember a file that holds ``children`` as the first of its kind, where others may be like it."""
        source = parsed.source
        shape = shape_of(source.text, _LANGUAGE) if _is_plain(source.text) else None
        if shape is None or not _can_be_cut(parsed.directives, shape.tokens):
            return
        source.tokens = shape.tokens
        self._shapes.add(
            source.text,
            shape,
            Kind(
                source,
                Pattern(source.path, shape.tokens),
                children,
                tuple((path, include.provenance()) for path, include in includes if include.source is source),
                sum(1 for _ in _every(parsed.directives)),
            ),
        )


class AlikeBlock(Block):
    """A block of a file that is another one under other names. It is cut out of the file when somebody asks what is in it:
    most of what anybody asks is found by what the ``first`` of its kind has."""

    __slots__ = ("_first", "_source")

    def __init__(self, first: Block, source: SourceText) -> None:
        self._first, self._source = first, source

    def __getattr__(self, name: str) -> Any:
        if name not in Block.__slots__:
            raise AttributeError(name)
        first = self._first
        assert first.directive is not None
        assert first.source is not None
        Block.__init__(self, _cut(first.directive, self._source), _own(first.children, first.source, self._source))
        return getattr(self, name)

    @property
    def first(self) -> Block:
        return self._first

    @property
    def source(self) -> SourceText:
        return self._source

    @property
    def likeness(self) -> Likeness | None:
        return self._source.likeness

    @property
    def name(self) -> str:
        return self._first.name


def _own(children: list[Directive | Block], first: SourceText, source: SourceText) -> list[Directive | Block]:
    """``children`` of the ``first`` file, or of a block in it, as ``source`` has them. What an include brings is the same."""
    return [
        child if child.source is not first
        else AlikeBlock(child, source) if isinstance(child, Block)
        else _cut(child, source)
        for child in children
    ]  # fmt: skip


def _is_plain(text: str) -> bool:
    """Whether no quotation goes over lines and no Lua is there, either of which may hold what looks like a directive."""
    return "_by_lua" not in text and not any(
        line.count(quote) % 2 for quote in "\"'" if quote in text for line in text.split("\n")
    )


def _every(directives: Iterable[Directive]) -> Iterator[Directive]:
    """The directives of a file, those in blocks among them."""
    for directive in directives:
        yield directive
        yield from _every(directive.children or ())


def _can_be_cut(directives: list[Directive], tokens: tuple[str, ...]) -> bool:
    """Whether every word that holds a token stands in the text as it is, so that another file's can be cut out, and nothing
    looks into a name or is included by one."""
    for directive in _every(directives):
        for index, word in enumerate((directive.name, *directive.args)):
            if holds_any(word, tokens):
                written = directive.source.text[directive.spans[2 * index] : directive.spans[2 * index + 1]]
                if written != word or index == 0 or directive.name == "include":
                    return False
                directive.own = (*directive.own, index)
        is_pattern = directive.name == "if" and "~" in "".join(directive.args[1:2])
        if is_pattern and _NAMELESS.match(directive.args[0]) is None:
            return False
    return True


def _cut(directive: Directive, source: SourceText) -> Directive:
    """The directive of another file at the same place, without what it holds."""
    args, spans = directive.args, directive.spans
    if directive.own:
        words = list(args)
        for index in directive.own:
            words[index - 1] = source.text[spans[2 * index] : spans[2 * index + 1]]
        args = tuple(words)
    return Directive(directive.name, args, spans, source, directive.end, None, directive.foreign)
