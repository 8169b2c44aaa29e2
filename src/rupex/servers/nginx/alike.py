"""nginx files of one kind (see :mod:`rupex.servers.alike`): parsed once, the others cut out by the same offsets."""

from __future__ import annotations

import re
from typing import Final

from msgspec import Struct

from rupex.servers.alike import Language, Shapes, holds_any, shape_of
from rupex.servers.nginx.syntax import Directive, ParsedFile, SourceText, parse

_LANGUAGE: Final = Language(
    re.compile(r"^[ \t]*server_name[ \t]+([^;{}\"'\\$~*\n]+);", re.MULTILINE),
    re.compile(
        r"^[ \t]*(?:ssl_certificate|ssl_certificate_key|root|access_log|error_log)[ \t]+(/[^\s;{}\"'\\$]{4,})[^;{}\n]*;",
        re.MULTILINE,
    ),
)

# What an if may match a pattern against, so that the outcome does not hang on the site's own name.
_NAMELESS = re.compile(r"\(?\$(?:request_method|uri|request_uri|args|arg_\w+|scheme|http_(?!host\b)\w+|cookie_\w+)$")


class Template(Struct, eq=False):
    """The first file of its kind. ``is_opaque``: nothing in it looks into a name, so that what holds for one site holds for
    the others."""

    source: SourceText
    directives: list[Directive]
    is_opaque: bool


class Templates:
    """Reads files, each kind of them once."""

    def __init__(self) -> None:
        self._shapes: Shapes[Template] = Shapes()

    def parse(self, path: str, text: str) -> ParsedFile:
        """As :func:`~rupex.servers.nginx.syntax.parse`, with the same result."""
        found = self._shapes.find(text)
        if found is not None:
            template, tokens = found
            source = SourceText(path, text)
            source.template, source.tokens = template, tokens
            source.share_lines(template.source)
            return ParsedFile(source, [_cut(directive, source) for directive in template.directives], None)
        parsed = parse(path, text)
        shape = shape_of(text, _LANGUAGE) if parsed.problem is None and _is_plain(text) else None
        if shape is not None and _can_be_cut(parsed.directives, shape.tokens):
            template = Template(parsed.source, parsed.directives, _is_opaque(parsed.directives))
            parsed.source.template, parsed.source.tokens = template, shape.tokens
            self._shapes.add(text, shape, template)
        return parsed


def _is_plain(text: str) -> bool:
    """Whether no quotation goes over lines and no Lua is there, either of which may hold what looks like a directive."""
    return "_by_lua" not in text and not any(
        line.count(quote) % 2 for quote in "\"'" if quote in text for line in text.split("\n")
    )


def _can_be_cut(directives: list[Directive], tokens: tuple[str, ...]) -> bool:
    """Whether every word that holds a token stands in the text as it is, so that another file's can be cut out."""
    waiting = list(directives)
    while waiting:
        directive = waiting.pop()
        waiting += directive.children or ()
        for index, word in enumerate((directive.name, *directive.args)):
            if holds_any(word, tokens):
                written = directive.source.text[directive.spans[2 * index] : directive.spans[2 * index + 1]]
                if written != word:
                    return False
                directive.own = (*directive.own, index)
    return True


def _is_opaque(directives: list[Directive]) -> bool:
    """Whether nothing looks into a name, and no include is by one."""
    waiting = list(directives)
    while waiting:
        directive = waiting.pop()
        waiting += directive.children or ()
        if directive.name == "include" and directive.own:
            return False
        is_pattern = directive.name == "if" and "~" in "".join(directive.args[1:2])
        if is_pattern and _NAMELESS.match(directive.args[0]) is None:
            return False
    return True


def _cut(directive: Directive, source: SourceText) -> Directive:
    """The directive of another file at the same place."""
    name, args, spans = directive.name, directive.args, directive.spans
    if directive.own:
        words = [name, *args]
        for index in directive.own:
            words[index] = source.text[spans[2 * index] : spans[2 * index + 1]]
        name, args = words[0], tuple(words[1:])
    children = directive.children
    inner = None if children is None else [_cut(child, source) for child in children]
    return Directive(name, args, spans, source, directive.end, inner, directive.foreign)
