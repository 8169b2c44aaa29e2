"""Which httpd files can be instances of a template (see :mod:`rupex.servers.common.templates`)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Final, NamedTuple

from rupex.model.templates import MARK
from rupex.servers.apache.syntax import Block, Directive
from rupex.servers.common.templates import Language

LANGUAGE: Final = Language(
    names=re.compile(r"^[ \t]*Server(?:Name|Alias)[ \t]+([^<>\"'\\$*?:\n]+)$", re.MULTILINE | re.IGNORECASE),
    paths=re.compile(
        r"^[ \t]*(?:SSLCertificate(?:|Key|Chain)File|DocumentRoot|CustomLog|ErrorLog)[ \t]+(/[^\s<>\"'\\$]+)",
        re.MULTILINE | re.IGNORECASE,
    ),
    keeps_parents=True,
)

ACTS_WHILE_READ: Final = frozenset(
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

_TAKES_WORDS: Final = frozenset(
    "servername serveralias serveradmin sslcertificatefile sslcertificatekeyfile sslcertificatechainfile documentroot customlog"
    " errorlog redirect redirectpermanent redirecttemp header requestheader directory".split()
)
"""Directives that do nothing with a name or path but to pass it on, use it as a whole, or hold it equal to another one."""
_LAST_TAKES_WORDS: Final = frozenset("redirectmatch rewriterule alias scriptalias".split())
"""The same for all but their first argument."""


class SiteTemplate(NamedTuple):
    """What a template holds.

    ``hosts``: its virtual hosts, which is all it has.
    ``size``: how many directives it has, sections among them.
    ``used``: the names of those that are no sections.
    ``state``: what was loaded and defined when it was read, and has to be for its instances.
    """

    hosts: list[Directive]
    size: int
    used: frozenset[str]
    state: tuple[int, int]


def is_template(written: Block, read: Block, text: str) -> bool:
    """Whether a file in stand-in words can be a template: what is ``written`` in it does nothing with a word but to use it as a
    whole, and does not act while it is read; ``read``, what is left of it, is virtual hosts alone; and columns hold for each of
    its instances."""
    if not read or any(directive.key != "virtualhost" or directive.children is None for directive in read):
        return False
    return is_opaque(written) and all(_is_fit(directive, text) for directive in every(written))


def every(block: Block) -> Iterator[Directive]:
    """The directives of a block and of the sections in it."""
    for directive in block:
        yield directive
        yield from every(directive.inner)


def _is_fit(directive: Directive, text: str) -> bool:
    line = text.rfind("\n", 0, directive.start) + 1
    if MARK in text[line : directive.start] or MARK in directive.name or directive.key == "serverroot":
        return False
    if MARK not in directive.raw:
        return True
    if directive.key == "directory" and any(mark in directive.raw for mark in "*?[~"):
        return False
    if directive.key in _LAST_TAKES_WORDS:
        return MARK not in "".join(directive.args[:1])
    return directive.key in _TAKES_WORDS


def is_opaque(block: Block) -> bool:
    """Whether nothing in ``block`` looks into a name or hangs on what was read before it."""
    return all(
        not _looks(directive) and (directive.children is None or is_opaque(directive.children)) for directive in block
    )


def _looks(directive: Directive) -> bool:
    key, raw = directive.key, directive.raw
    if key in ACTS_WHILE_READ or key in _MAY_LOOK or "${" in raw or "expr" in raw.lower():
        return True
    match key:
        case "rewritecond":
            return "%{" in _NAMELESS.sub("", directive.args[0] if directive.args else "")
        case "rewriterule":
            return "%{" in "".join(directive.args[:1]) or "${" in raw
        case _:
            return key in _WITH_FORMATS and "%{" in raw
