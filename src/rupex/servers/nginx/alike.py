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
_PATH = re.compile(r"[^\s;{}\"'\\$#]+")
_MOST_TOKENS: Final = 64
"""Words of one file that are its own; a file with more is no site like others."""
_MOST_TEMPLATES: Final = 10_000
_MOST_OF_A_LENGTH: Final = 4
"""Kinds of files of one length that are tried."""

_LONGEST: Final = 1 << 16

# What an if may match a pattern against, so that the outcome does not hang on the site's own name.
_NAMELESS = re.compile(r"\(?\$(?:request_method|uri|request_uri|args|arg_\w+|scheme|http_(?!host\b)\w+|cookie_\w+)$")


class Template(Struct, eq=False):
    """The first file of its kind. ``tokens``: the words that are its own. ``is_opaque``: nothing in it looks into a name,
    so that what holds for one site holds for the others. ``pieces``: the text in parts, each with the offsets at which it
    starts and ends and the token that it is (-1: the same in every file, -2: a comment); ``common``: what is the same;
    ``nesting``: which tokens are parts of which others."""

    source: SourceText
    directives: list[Directive]
    tokens: tuple[str, ...]
    endings: tuple[str, ...]
    is_opaque: bool
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
                if "\n" in here:
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
        # Each word of its own, none part of another where the template's was not, and none of what all have in common:
        # a site that names another site is not like one that names itself.
        if len(set(tokens)) < len(tokens) or _nesting(tokens) != self.nesting:
            return None
        return None if any(token in self.common for token in tokens) else tokens


def _nesting(tokens: tuple[str, ...]) -> list[tuple[int, int]]:
    """Which tokens are parts of which others."""
    return [(i, j) for i, one in enumerate(tokens) for j, other in enumerate(tokens) if i != j and one in other]


class Templates:
    """Reads files, each kind of them once."""

    def __init__(self) -> None:
        self._known: dict[int, list[Template]] = {}
        self._count = 0

    def parse(self, path: str, text: str) -> ParsedFile:
        """As :func:`~rupex.servers.nginx.syntax.parse`, with the same result."""
        for template in self._known.get(len(text), ()):
            tokens = template.fit(text)
            if tokens is not None:
                source = SourceText(path, text)
                source.template, source.tokens = template, tokens
                source.share_lines(template.source)
                return ParsedFile(source, [_cut(directive, source) for directive in template.directives], None)
        parsed = parse(path, text)
        found = _own_words(text) if parsed.problem is None and self._count < _MOST_TEMPLATES else None
        if found is not None and _can_be_cut(parsed.directives, found[0]):
            tokens, endings = found
            pieces = _pieces(text, tokens)
            if pieces is not None:
                opaque = _is_opaque(parsed.directives)
                common = "\n".join(piece for piece, _, _, token in pieces if token == -1)
                nesting = _nesting(tokens)
                template = Template(parsed.source, parsed.directives, tokens, endings, opaque, pieces, nesting, common)
                parsed.source.template, parsed.source.tokens = template, tokens
                self._known.setdefault(len(text), []).insert(0, template)
                del self._known[len(text)][_MOST_OF_A_LENGTH:]
                self._count += 1
        return parsed


def _own_words(text: str) -> tuple[tuple[str, ...], tuple[str, ...]] | None:
    """The words of a file that are its own, its names first, and the endings of those; None for no site of a kind."""
    if len(text) > _LONGEST or "\0" in text or "_by_lua" in text:
        return None
    if any(line.count(quote) % 2 for quote in "\"'" if quote in text for line in text.split("\n")):
        return None  # a quotation over lines may hold what looks like a comment or a directive
    found: dict[str, None] = {}
    endings: list[str] = []
    for names in _NAMES.findall(text):
        for name in names.split():
            if _NAME.fullmatch(name) is None:
                return None
            if name not in found:
                found[name] = None
                labels = name.split(".")  # what a control may ask of a name is how it ends: ".internal", ".home.arpa"
                endings.append("." + ".".join(labels[-2:] if labels[-1] == "arpa" else labels[-1:]))
    if not found:
        return None
    for path in _PATHS.findall(text):
        if "//" not in path and "/." not in path and path.count("/") > 1:
            found[path[1:]] = None  # without its first slash, as paths in a tree are written
    return (tuple(found), tuple(endings)) if len(found) <= _MOST_TOKENS else None


def _pieces(text: str, tokens: tuple[str, ...]) -> list[tuple[str, int, int, int]] | None:
    """``text`` in parts, see :class:`Template`."""
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
