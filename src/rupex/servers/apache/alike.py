"""httpd files of one kind (see :mod:`rupex.servers.common.alike`): parsed once, the others cut out by the same offsets."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any, Final, NamedTuple

from msgspec import Struct

from rupex.model import Likeness, Pattern
from rupex.servers.apache.syntax import Block, Directive, ParsedFile, parse
from rupex.servers.common.alike import Language, Shapes, holds_any, shape_of

_LANGUAGE: Final = Language(
    re.compile(r"^[ \t]*Server(?:Name|Alias)[ \t]+([^<>\"'\\$*?:\n]+)$", re.MULTILINE | re.IGNORECASE),
    re.compile(
        r"^[ \t]*(?:SSLCertificate(?:|Key|Chain)File|DocumentRoot|CustomLog|ErrorLog)[ \t]+(/[^\s<>\"'\\$]{4,})",
        re.MULTILINE | re.IGNORECASE,
    ),
)

_CONDITIONS: Final = frozenset("ifmodule ifversion ifdirective ifsection".split())
_ACTS_WHILE_READ: Final = frozenset(
    "define undefine loadmodule include includeoptional ifdefine iffile macro undefmacro use".split()
)
_MAY_LOOK: Final = frozenset(
    "if elseif else setenvif setenvifnocase setenvifexpr rewritemap sslusestapling virtualdocumentroot virtualscriptalias".split()
)
"""What may ask for the name that a request is for, or for what the certificate says."""
_WITH_FORMATS: Final = frozenset(("header", "requestheader"))
_NAMELESS = re.compile(
    r"%\{(?:HTTPS|REQUEST_METHOD|REQUEST_URI|REQUEST_SCHEME|QUERY_STRING|THE_REQUEST|HTTP:(?!Host)[\w-]+|HTTP_(?!HOST)\w+)\}",
    re.IGNORECASE,
)


class Template(Struct, eq=False):
    """The first file of its kind. ``is_opaque``: nothing in it looks into a name or hangs on what is read before it, so that
    what holds for one site holds for the others; ``is_still``: nothing in it acts while it is read; ``size``: how many
    directives it has, sections among them; ``names``: those that are no sections."""

    directives: Block
    pattern: Pattern
    is_opaque: bool
    is_still: bool
    size: int
    names: frozenset[str]


class AlikeFile(NamedTuple):
    """A file that is another one under other names, and how it comes of that."""

    path: str
    text: str
    likeness: Likeness


class AlikeBlock(Block):
    """A section of a file that is another one under other names. It is cut out of the file when somebody asks what is in it:
    most of what anybody asks is found by what the ``first`` of its kind has."""

    __slots__ = ("_file", "_first")

    def __init__(self, first: Block, file: AlikeFile) -> None:
        self._first, self._file = first, file

    def __getattr__(self, name: str) -> Any:
        if name != "_items":
            raise AttributeError(name)
        self._items = _cut(self._first, self._file)
        return self._items

    @property
    def first(self) -> Block:
        return self._first

    @property
    def likeness(self) -> Likeness | None:
        return self._file.likeness


class Templates:
    """Reads files, each kind of them once. ``kinds``: of each file that is of one, the kind and its own words."""

    def __init__(self) -> None:
        self._shapes: Shapes[Template] = Shapes()
        self.kinds: dict[str, tuple[Template, tuple[str, ...]]] = {}

    def of(self, path: str) -> Template | None:
        """The kind of a file, None for one of no kind."""
        found = self.kinds.get(path)
        return None if found is None else found[0]

    def parse(self, path: str, text: str) -> ParsedFile:
        """As :func:`~rupex.servers.apache.syntax.parse`, with the same result."""
        found = self._shapes.find(text)
        if found is not None:
            template, tokens = self.kinds[path] = found
            file = AlikeFile(path, text, Likeness(template.pattern, path, tokens))
            return ParsedFile(Block(_cut(template.directives, file)))
        parsed = parse(path, text)
        # A line that goes on in the next one is not where its words are.
        shape = (
            shape_of(text, _LANGUAGE) if parsed.problem is None and "\\\n" not in text and "\r" not in text else None
        )
        if shape is not None and _can_be_cut(parsed.directives, text, shape.tokens):
            every = list(_every(parsed.directives))
            template = Template(
                parsed.directives,
                Pattern(path, shape.tokens),
                is_opaque(parsed.directives),
                not any(d.key in _ACTS_WHILE_READ | _CONDITIONS | {"serverroot"} or "${" in d.raw for d in every),
                len(every),
                frozenset(d.key for d in every if d.children is None),
            )
            self.kinds[path] = template, shape.tokens
            self._shapes.add(text, shape, template)
        return parsed


def _every(block: Block) -> Iterator[Directive]:
    for directive in block:
        yield directive
        yield from _every(directive.inner)


def _can_be_cut(block: Block, text: str, tokens: tuple[str, ...]) -> bool:
    """Whether what holds a token stands in the text as it is, so that another file's can be cut out."""
    for directive in block:
        if holds_any(directive.name, tokens):
            return False
        if holds_any(directive.raw, tokens):
            directive.own = text.find(directive.raw, directive.start + len(directive.name))
            if directive.own < 0 or "\n" in text[directive.start : directive.own]:
                return False
        if directive.children is not None and not _can_be_cut(directive.children, text, tokens):
            return False
    return True


def _cut(block: Block, file: AlikeFile) -> list[Directive]:
    """The directives of another file at the same places."""
    path, text = file.path, file.text
    found = []
    for one in block:
        raw = text[one.own : one.own + len(one.raw)] if one.own >= 0 else one.raw
        children = None if one.children is None else AlikeBlock(one.children, file)
        found.append(Directive(one.name, raw, path, one.line, one.column, one.start, one.end, children, one.own))
    return found


def is_opaque(block: Block) -> bool:
    """Whether nothing in ``block`` looks into a name or hangs on what was read before it."""
    return all(
        not _looks(directive) and (directive.children is None or is_opaque(directive.children)) for directive in block
    )


def _looks(directive: Directive) -> bool:
    key, raw = directive.key, directive.raw
    if key in _ACTS_WHILE_READ or key in _MAY_LOOK or "${" in raw or "expr" in raw.lower():
        return True
    match key:
        case "rewritecond":
            return "%{" in _NAMELESS.sub("", directive.args[0] if directive.args else "")
        case "rewriterule":
            return "%{" in "".join(directive.args[:1]) or "${" in raw
        case _:
            return key in _WITH_FORMATS and "%{" in raw
