"""The redirects of mod_alias (modules/mappers/mod_alias.c, httpd 2.4), and how its paths fit a URL."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING, Final, NamedTuple

from rupex.model.budget import filled
from rupex.model.numbers import whole_number
from rupex.servers.apache.exchange import Exchange, escaped
from rupex.servers.apache.expressions import fill
from rupex.servers.apache.load import all_of
from rupex.servers.apache.sections import Context
from rupex.servers.apache.syntax import Block, Directive
from rupex.servers.common.patterns import search

if TYPE_CHECKING:
    import regex

_WORDS: Final = {"permanent": 301, "temp": 302, "seeother": 303, "gone": 410}
_REDIRECTS: Final = ("redirect", "redirectmatch", "redirecttemp", "redirectpermanent")
_GROUP = re.compile(r"\\(.)|[$&](\d)?|&")
_ABSOLUTE = re.compile(r"[a-z][a-z0-9+.-]*://", re.IGNORECASE)


class AliasRedirect(NamedTuple):
    """A redirect of mod_alias: ``fake`` path or ``pattern``, to ``target`` (None: only a status)."""

    status: int
    fake: str | None
    pattern: str | None
    target: str | None
    directive: Directive


def read_moves(directives: Block) -> Iterator[AliasRedirect]:
    """The redirects of a server or section, in order (mod_alias)."""
    for directive in all_of(directives, *_REDIRECTS):
        words = list(directive.args)
        status = {"redirectpermanent": 301}.get(directive.key, 302)
        if directive.key in ("redirect", "redirectmatch") and words:
            word = words[0].lower()
            status_word = _WORDS.get(word) or (whole_number(word) if len(word) == 3 else None)
            if status_word is not None:
                status = status_word
                words.pop(0)
        has_target = 300 <= status < 400
        if not words:
            if not has_target:
                yield AliasRedirect(status, None, None, None, directive)
            continue
        if directive.key == "redirectmatch":
            yield AliasRedirect(status, None, words[0], words[1] if has_target and len(words) > 1 else None, directive)
        elif len(words) == 1 and has_target:
            yield AliasRedirect(status, None, None, words[0], directive)  # in a Location: for all of it
        else:
            yield AliasRedirect(status, words[0], None, words[1] if has_target and len(words) > 1 else None, directive)


def moves_of_sections(context: Context) -> Iterator[AliasRedirect]:
    """The redirects of sections, those of the section merged last first (merge_alias_dir_config)."""
    for applied in reversed(context):
        if applied.kind != "server":
            yield from read_moves(applied.directives)


def moved(move: AliasRedirect, exchange: Exchange, *, is_section: bool = False) -> str | None:
    """Where a redirect sends a request, an empty text for a status alone, None when it is not meant. Raises
    :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    uri = exchange.uri
    if move.pattern is not None:
        found = search(move.pattern, uri)
        if found is None:
            return None
        return "" if move.target is None else _escaped_url(with_groups(move.target, found))
    if move.fake is None:
        return fill(move.target or "", exchange) if is_section else None  # an empty text where it is only a status
    length = prefix_length(uri, move.fake)
    if length is None:
        return None
    return "" if move.target is None else move.target + escaped(uri[length:])


def prefix_length(uri: str, fake: str) -> int | None:
    """How much of ``uri`` the path ``fake`` takes, None when it does not fit: slashes in a row count as one, and what
    follows starts with a slash, unless ``fake`` ends in one (alias_matches)."""
    at = position = 0
    while at < len(fake):
        if fake[at] == "/":
            if uri[position : position + 1] != "/":
                return None
            while fake[at : at + 1] == "/":
                at += 1
            while uri[position : position + 1] == "/":
                position += 1
        else:
            if fake[at] != uri[position : position + 1]:
                return None
            at, position = at + 1, position + 1
    if fake.endswith("/"):
        return position
    return position if uri[position : position + 1] in ("", "/") else None


def rest_behind(uri: str, fake: str, length: int) -> str:
    return ("/" if fake.endswith("/") else "") + uri[length:]


def with_groups(text: str, found: regex.Match[str]) -> str:
    """``text`` with ``$1`` and ``&`` filled in by what a pattern captured (ap_pregsub)."""

    def group(number: int) -> str:
        return (found[number] or "") if number <= len(found.groups()) else ""

    def one(match: re.Match[str]) -> str:
        if match[1] is not None:
            return match[1] if match[1] in "$&\\" else match[0]
        if match[0] == "$":
            return "$"
        return group(int(match[2])) if match[2] is not None and match[0].startswith("$") else group(0)

    return filled(_GROUP, one, text)


def _escaped_url(url: str) -> str:
    """A target made of captures: the path behind the authority is escaped (RedirectMatch)."""
    found = _ABSOLUTE.match(url)
    if found is None:
        return escaped_uri(url)
    authority, slash, rest = url[found.end() :].partition("/")
    return found[0] + authority + slash + escaped_uri(rest)


def escaped_uri(text: str) -> str:
    """``text`` with what no URL may hold escaped; a question mark and percent signs stay."""
    return "".join(one if one in "?%#" else escaped(one) for one in text)
