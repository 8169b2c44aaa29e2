"""Which nginx files can be instances of a template (see :mod:`rupex.servers.common.templates`)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import Final, NamedTuple

from rupex.model import Provenance
from rupex.model.templates import MARK
from rupex.servers.common.templates import Language
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.syntax import Directive

LANGUAGE: Final = Language(
    names=re.compile(r"^[ \t]*server_name[ \t]+([^;{}\"'\\$~*\n]+);", re.MULTILINE),
    paths=re.compile(
        r"^[ \t]*(?:ssl_certificate|ssl_certificate_key|root|access_log|error_log)[ \t]+(/[^\s;{}\"'\\$]+)[^;{}\n]*;",
        re.MULTILINE,
    ),
    keeps_parents=False,
)

_TAKES_WORDS: Final = frozenset(
    "server_name ssl_certificate ssl_certificate_key root access_log error_log return add_header proxy_set_header"
    " fastcgi_param uwsgi_param scgi_param".split()
)
"""Directives that do nothing with a name or path but to pass it on, use it as a whole, or hold it equal to another one."""

_NAMELESS = re.compile(r"\(?\$(?:request_method|uri|request_uri|args|arg_\w+|scheme|http_(?!host\b)\w+|cookie_\w+)$")
"""What an ``if`` may match a pattern against, so that the outcome does not hang on the site's own name."""

_FINDS_FILES: Final = frozenset(("root", "alias", "try_files", "index", "error_page"))
_FILE_TESTS: Final = frozenset(f"{no}-{test}" for no in ("", "!") for test in "fdex")
_SAME_FOR_ALL = re.compile(
    r"\$\{?(?:uri|document_uri|document_root|realpath_root|args|is_args|query_string|arg_\w+|[0-9])\b"
)
"""Variables that do not hang on the name that a request is for."""


class SiteTemplate(NamedTuple):
    """What a template holds.

    ``servers``: its server blocks, which is all it has, with what its includes bring.
    ``includes``: the files that it includes itself, each with the place in the template.
    ``size``: how many directives it has.
    """

    servers: list[Block]
    includes: list[tuple[str, Provenance]]
    size: int


def is_template(text: str, written: Iterable[Directive], children: list[Directive | Block]) -> bool:
    """Whether a file in stand-in words can be a template: ``written``, what stands in it itself, does nothing with a word but
    to use it as a whole; and lines and columns hold for each of its instances."""
    if not children or not all(isinstance(child, Block) and child.name == "server" for child in children):
        return False
    return all(_is_fit(directive, text) for directive in every(written))


def every(directives: Iterable[Directive]) -> Iterator[Directive]:
    """``directives`` and those in their blocks."""
    for directive in directives:
        yield directive
        yield from every(directive.children or ())


def _is_fit(directive: Directive, text: str) -> bool:
    """Whether a directive does nothing with a word but to use it as a whole, and begins in the same column in every file."""
    line = text.rfind("\n", 0, directive.start) + 1
    if MARK in text[line : directive.start] or directive.foreign is not None:
        return False
    if directive.name == "ssl_stapling":  # hangs on more of a certificate
        return False
    spans = directive.spans
    if any("\n" in text[start:end] for start, end in zip(spans[::2], spans[1::2], strict=True)):
        return False  # a word over several lines may hold what looks like a comment
    has_word = MARK in directive.name or any(MARK in word for word in directive.args)
    is_file_test = directive.name == "if" and _FILE_TESTS.issuperset(word.lstrip("(") for word in directive.args[:1])
    if (is_file_test or directive.name in _FINDS_FILES) and "$" in _SAME_FOR_ALL.sub("", " ".join(directive.args)):
        return False  # which file it finds, and whether that is there, hangs on the name
    if directive.name == "if":
        operator = directive.args[1] if len(directive.args) > 1 else ""
        if "~" in operator:
            return not has_word and _NAMELESS.match(directive.args[0]) is not None
        return not has_word or operator in ("=", "!=")
    return not has_word or directive.name in _TAKES_WORDS
