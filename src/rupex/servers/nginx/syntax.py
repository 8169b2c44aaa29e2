"""nginx's configuration language: text to a tree in which every token has its span.

Follows ``ngx_conf_read_token`` and ``ngx_conf_parse`` of nginx (src/core/ngx_conf_file.c), which know words, quotes,
``;``, braces and comments and nothing else. What surprises people: a ``#`` or a quote inside a word belongs to the
word, so does a ``}``; a backslash is dropped only before quotes and itself, and makes tabs and line ends.
Offsets count characters from 0; lines and columns count from 1.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct

from rupex.masking.quoting import quoted
from rupex.model import Provenance, bounds
from rupex.model.provenance import How
from rupex.servers.common.source import SourceText, Span

# White space and comments before a token, then the token. Possessive throughout: no text can make it go back and forth.
_TOKEN = re.compile(
    r"""
    (?: [ \t\r\n]++ | \#[^\n]*+ )*+
    (?: ([;{}])                                        # 1 ends a directive, opens or closes a block
    | "((?:[^"\\]++|\\.)*+)" (?: (?=([ \t\r\n;{)])) | ) # 2 quoted word, 3 what has to follow it
    | '((?:[^'\\]++|\\.)*+)' (?: (?=([ \t\r\n;{)])) | ) # 4 quoted word, 5 what has to follow it
    | ((?:[^ \t\r\n;{}\#"'\\$] | \\. | \$\{*+) (?:[^ \t\r\n;{\\$]++ | \\. | \$\{*+)*+)  # 6 bare; ${ opens no block
    )
    """,
    re.VERBOSE | re.DOTALL,
)
_BLANK = re.compile(r"(?:[ \t\r\n]++|\#[^\n]*+)*+")
_ESCAPE = re.compile(r"\\([\"'\\trn])")
_ESCAPED = {"t": "\t", "r": "\r", "n": "\n"}

# One token of a Lua block: strings, long brackets and comments may hold braces that do not count.
_LUA = re.compile(
    r"""--\[(=*)\[.*?\]\1\] | --[^\n]*+ | \[(=*)\[.*?\]\2\] | "(?:[^"\\\n]|\\.)*+" | '(?:[^'\\\n]|\\.)*+'
      | ([{}]) | [^-\["'{}]++ | .""",
    re.VERBOSE | re.DOTALL,
)


class Directive(Struct, gc=False):
    """A directive: ``name`` and ``args`` unquoted; ``spans`` has start and end of each of these words as written.

    ``children`` is None for one that ends with ``;``. ``foreign`` is the text between the braces of a block in another
    language. ``end`` lies behind its ``;`` or ``}``. ``place`` keeps its provenance once that was asked for, ``written`` that
    with its text.
    """

    name: str
    args: tuple[str, ...]
    spans: tuple[int, ...]
    source: SourceText
    end: int = 0
    children: list[Directive] | None = None
    foreign: str | None = None
    place: Provenance | None = None
    written: Provenance | None = None

    @property
    def start(self) -> int:
        return self.spans[0]

    @property
    def words(self) -> tuple[Span, ...]:
        """Its name and its arguments as they are written, quotes included."""
        return tuple(map(Span, self.spans[::2], self.spans[1::2]))

    @property
    def opened(self) -> Span | None:
        """The ``{`` of a block."""
        if self.children is None:
            return None
        brace = _BLANK.match(self.source.text, self.spans[-1]).end()  # type: ignore[union-attr]  # matches anything
        return Span(brace, brace + 1)

    @property
    def closed(self) -> Span | None:
        """The ``;`` of a directive, the ``}`` of a block; None where a block is not closed, or its text ends too early."""
        is_there = self.end > 0 and self.source.text[self.end - 1] == (";" if self.children is None else "}")
        return Span(self.end - 1, self.end) if is_there and self.opened != Span(self.end - 1, self.end) else None

    def provenance(self, how: How = "explicit", note: str | None = None) -> Provenance:
        if how != "explicit" or note is not None:
            return self.source.provenance(self.spans[0], how, note)
        if self.place is None:
            self.place = self.source.provenance(self.spans[0])
        return self.place

    def as_overruled(self) -> Provenance:
        """Its provenance with its text, for what overrules it: one of the http block is overruled by that of each site."""
        if self.written is None:
            self.written = self.provenance(note=str(self))
        return self.written

    def __str__(self) -> str:
        """The directive as one line, as written, without what a block holds, and without values that may be secret."""
        from rupex.masking.texts import shown

        return " ".join(shown(self.source.text[self.spans[0] : self.spans[-1]], "nginx").split())


def tokens(parsed: ParsedFile) -> Iterator[Span]:
    """Everything in a file that is no blank, in order: words, ``;`` and braces, comments, and the text of blocks in another
    language."""
    text, behind = parsed.source.text, 0
    for span in _written(parsed.directives):
        yield from _comments(text, behind, span.start)
        yield span
        behind = span.end
    yield from _comments(text, behind, len(text))


def _written(directives: list[Directive]) -> Iterator[Span]:
    for directive in directives:
        yield from directive.words
        if directive.opened is not None:
            yield directive.opened
        if directive.foreign is not None and directive.opened is not None:
            yield Span(directive.opened.end, directive.opened.end + len(directive.foreign))
        yield from _written(directive.children or [])
        if directive.closed is not None:
            yield directive.closed


def _comments(text: str, start: int, end: int) -> Iterator[Span]:
    return (Span(*found.span()) for found in re.compile(r"#[^\n]*").finditer(text, start, end))


class SyntaxProblem(Struct, frozen=True):
    """What breaks the grammar, and where. ``bound``: it is only too large for Rupex."""

    message: str
    line: int
    bound: bool = False


class ParsedFile(Struct, frozen=True):
    """The directives of one file; with a problem, those before it (blocks left open are closed)."""

    source: SourceText
    directives: list[Directive]
    problem: SyntaxProblem | None


def parse(path: str, text: str) -> ParsedFile:
    """Read one file. Never raises: what breaks the grammar ends the reading and is told in ``problem``."""
    source = SourceText(path, text)
    top: list[Directive] = []
    try:
        _parse(source, top)
    except _BrokenError as broken:
        line, _ = source.position(min(broken.offset, len(text)))
        return ParsedFile(source, top, SyntaxProblem(broken.message, line, broken.bound))
    return ParsedFile(source, top, None)


class _BrokenError(Exception):
    def __init__(self, message: str, offset: int, *, bound: bool = False) -> None:
        super().__init__(message, offset)
        self.message, self.offset, self.bound = message, offset, bound


def _parse(source: SourceText, top: list[Directive]) -> None:
    text, next_token = source.text, _TOKEN.match
    open_blocks: list[Directive] = []
    enclosing: list[list[Directive]] = []
    current = top
    words: list[str] = []
    spans: list[int] = []
    position = 0
    while True:
        token = next_token(text, position)
        if token is None:
            break
        kind = token.lastindex
        position = token.end()
        if kind == 6:
            word = token[6]
        elif kind == 1:
            mark = token[1]
            if mark == "}":
                if words:
                    raise _BrokenError('unexpected "}", expecting ";"', position - 1)
                if not open_blocks:
                    raise _BrokenError('unexpected "}"', position - 1)
                open_blocks.pop().end = position
                current = enclosing.pop()
                continue
            if not words:
                raise _BrokenError(f'unexpected "{mark}"', position - 1)
            directive = Directive(words[0], tuple(words[1:]), tuple(spans), source, position)
            words = []
            spans = []
            current.append(directive)
            if mark == "{":
                if directive.name.endswith("_by_lua_block"):
                    position = directive.end = _end_of_lua(text, position, directive)
                    continue
                if len(open_blocks) >= bounds.NESTING:
                    message = f"more than {bounds.NESTING} blocks inside each other are not read"
                    raise _BrokenError(message, position - 1, bound=True)
                enclosing.append(current)
                current = directive.children = []
                open_blocks.append(directive)
            continue
        else:
            group = 2 if kind in (2, 3) else 4
            if token[group + 1] is None and position < len(text):
                raise _BrokenError(f'unexpected "{text[position]}" after a quoted word', position)
            word = token[group]
        spans.append(token.start(kind) if kind == 6 else token.start(group) - 1)
        spans.append(position)
        words.append(_ESCAPE.sub(_unescape, word) if "\\" in word else word)

    blank = _BLANK.match(text, position)
    rest = blank.end() if blank else position
    if rest < len(text):
        mark = text[rest]
        raise _BrokenError(
            f"the word that starts with {mark} is not closed" if mark in "\"'" else "the file ends in a word", rest
        )
    if words:
        raise _BrokenError(f'unexpected end of file after "{quoted(words[0])}", expecting ";" or "}}"', spans[0])
    if open_blocks:
        name = open_blocks[-1].name[:40]
        raise _BrokenError(f'the block "{quoted(name)}" is not closed, expecting "}}"', open_blocks[-1].start)


def _end_of_lua(text: str, position: int, block: Directive) -> int:
    """The offset behind the brace that closes a Lua block opened before ``position``; its text is kept."""
    depth, start = 1, position
    for token in _LUA.finditer(text, position):
        if token[3] is not None:
            depth += 1 if token[3] == "{" else -1
            if depth == 0:
                block.children, block.foreign = [], text[start : token.start()]
                return token.end()
    raise _BrokenError(f'the block "{block.name}" is not closed, expecting "}}"', block.start)


def _unescape(match: re.Match[str]) -> str:
    return _ESCAPED.get(match[1], match[1])
