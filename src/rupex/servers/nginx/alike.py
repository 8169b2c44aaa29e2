"""Configuration files that are one another under other names: read once, the others by putting their own words in.

Large hosts write their sites from a pattern. Two files are alike when they are the same text but for their server names,
certificates, document roots and logs, and for comments on lines of their own, all of the same length: then every word of
one stands where the other has it. Length costs little (sites 10 to 99 are alike) and keeps every position true.
"""

from __future__ import annotations

import re
from typing import Final

from msgspec import Struct

from rupex.servers.nginx.syntax import Directive, ParsedFile, SourceText, parse

_NAMES = re.compile(r"^[ \t]*server_name[ \t]+([^;{}\"'\\$~*\n]+);", re.MULTILINE)
_PATHS = re.compile(
    r"^[ \t]*(?:ssl_certificate|ssl_certificate_key|root|access_log|error_log)[ \t]+(/[^\s;{}\"'\\$]{4,})[^;{}\n]*;",
    re.MULTILINE,
)
_NAME = re.compile(r"(?:[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\.)+[a-z]{2,}")
_COMMENT = re.compile(r"^([ \t]*#)([^\n]*)", re.MULTILINE)
_MOST_TOKENS: Final = 64
"""Words of one file that are its own; a file with more is no site like others."""
_MOST_TEMPLATES: Final = 10_000
_LONGEST: Final = 1 << 16

# What an if may match a pattern against, so that the outcome does not hang on the site's own name.
_NAMELESS = re.compile(r"\(?\$(?:request_method|uri|request_uri|args|arg_\w+|scheme|http_(?!host\b)\w+|cookie_\w+)$")


class Template(Struct, eq=False):
    """The first file of its kind. ``tokens``: the words that are its own, the longest first. ``is_opaque``: nothing in it
    looks into a name, so that what holds for one site holds for the others."""

    source: SourceText
    directives: list[Directive]
    tokens: tuple[str, ...]
    is_opaque: bool


class Templates:
    """Reads files, each kind of them once."""

    def __init__(self) -> None:
        self._known: dict[tuple[object, ...], Template] = {}

    def parse(self, path: str, text: str) -> ParsedFile:
        """As :func:`~rupex.servers.nginx.syntax.parse`, with the same result."""
        found = _key(text)
        if found is None:
            return parse(path, text)
        key, tokens = found
        template = self._known.get(key)
        if template is None:
            parsed = parse(path, text)
            if parsed.problem is None and len(self._known) < _MOST_TEMPLATES and _can_be_cut(parsed.directives, tokens):
                opaque = _is_opaque(parsed.directives, tokens)
                template = self._known[key] = Template(parsed.source, parsed.directives, tokens, opaque)
                parsed.source.template, parsed.source.tokens = template, tokens
            return parsed
        source = SourceText(path, text)
        source.template, source.tokens = template, tokens
        source.share_lines(template.source)
        return ParsedFile(source, [_cut(directive, source, tokens) for directive in template.directives], None)


def _key(text: str) -> tuple[tuple[object, ...], tuple[str, ...]] | None:
    """What files that are alike have in common, and the words that are this one's own; None for no site of a kind."""
    if len(text) > _LONGEST or "\0" in text or "_by_lua" in text:
        return None
    found: dict[str, None] = {}
    endings: list[str] = []
    for names in _NAMES.findall(text):
        for name in names.split():
            if _NAME.fullmatch(name) is None:
                return None
            if name not in found:
                found[name] = None
                endings.append(name.split(".", name.count(".") - 1)[-1])  # what controls may ask of a name: its end
    if not found:
        return None
    for path in _PATHS.findall(text):
        if "//" not in path and "/." not in path and path.count("/") > 1:
            found[path[1:]] = None  # without its first slash, as paths in a tree are written
    if len(found) > _MOST_TOKENS:
        return None
    tokens = tuple(sorted(found, key=len, reverse=True))
    order = {token: index for index, token in enumerate(found)}
    canonical = _COMMENT.sub(lambda match: f"{match[1]}{len(match[2])}", text)
    for token in tokens:
        canonical = canonical.replace(token, f"\0{chr(0xE000 + order[token])}")
    for quote in "\"'":
        if quote in canonical and any(line.count(quote) % 2 for line in canonical.split("\n")):
            return None  # a quotation over lines may hold what looks like a comment or a directive
    in_order = tuple(found)
    return (canonical, tuple(endings), tuple(map(len, in_order))), in_order


def _holds(word: str, tokens: tuple[str, ...]) -> bool:
    return any(token in word for token in tokens)


def _can_be_cut(directives: list[Directive], tokens: tuple[str, ...]) -> bool:
    """Whether every word that holds a token stands in the text as it is, so that another file's can be cut out."""
    waiting = list(directives)
    while waiting:
        directive = waiting.pop()
        waiting += directive.children or ()
        for index, word in enumerate((directive.name, *directive.args)):
            if _holds(word, tokens):
                written = directive.source.text[directive.spans[2 * index] : directive.spans[2 * index + 1]]
                if written != word:
                    return False
                directive.own = (*directive.own, index)
    return True


def _is_opaque(directives: list[Directive], tokens: tuple[str, ...]) -> bool:
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


def _cut(directive: Directive, source: SourceText, tokens: tuple[str, ...]) -> Directive:
    """The directive of another file at the same place."""
    name, args, spans = directive.name, directive.args, directive.spans
    if directive.own:
        words = [name, *args]
        for index in directive.own:
            words[index] = source.text[spans[2 * index] : spans[2 * index + 1]]
        name, args = words[0], tuple(words[1:])
    children = directive.children
    inner = None if children is None else [_cut(child, source, tokens) for child in children]
    return Directive(name, args, spans, source, directive.end, inner, directive.foreign)
