"""Locations: read from their blocks, and found for a request as ``ngx_http_core_find_location`` finds them."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Final, Literal

from rupex.model.endpoint import Match
from rupex.servers.common.patterns import search
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.variables import Exchange

UPSTREAM_DIRECTIVES: Final = ("proxy_pass", "fastcgi_pass", "uwsgi_pass", "scgi_pass", "grpc_pass", "memcached_pass")


@dataclass(slots=True)
class Location:
    """A location block with the blocks it lies in, outermost (``http``) first and itself last."""

    block: Block
    chain: tuple[Block, ...]
    kind: Literal["exact", "prefix", "regex", "named"]
    pattern: str
    no_regex: bool
    ignore_case: bool
    children: list[Location] = field(default_factory=list)

    @property
    def is_internal(self) -> bool:
        """Closed to clients: ``internal`` stands in it, or in a location around it."""
        return self.kind == "named" or any("internal" in block.by_name for block in self.chain)

    @property
    def redirects_without_slash(self) -> bool:
        """Whether a request for its name without the last slash is sent to it (``auto_redirect`` of nginx)."""
        return self.pattern.endswith("/") and any(name in self.block.by_name for name in UPSTREAM_DIRECTIVES)


def scope_identity(location: Location | None) -> tuple[str, Match]:
    """The id and kind of the scope that a location is; None: the server block where no location matches."""
    if location is None:
        return "any", "any"
    if location.kind == "named":
        return f"named:{location.pattern}", "condition"
    return f"{location.kind}:{'(?i)' if location.ignore_case else ''}{location.pattern}", location.kind


def read_locations(parent: tuple[Block, ...]) -> list[Location]:
    """The locations of a block (a server or a location), in order, with theirs inside."""
    found = []
    for block in parent[-1].blocks("location"):
        location = _location(block, parent)
        if location is not None:
            location.children = read_locations(location.chain)
            found.append(location)
    return found


def _location(block: Block, parent: tuple[Block, ...]) -> Location | None:
    args = block.args
    chain = (*parent, block)
    if len(args) == 2:
        mark, pattern = args
    elif len(args) == 1:  # "location =/x" is legal too
        found = re.match(r"(\^~|~\*|=|~)?(.*)", args[0], re.DOTALL)
        assert found is not None
        mark, pattern = found[1] or "", found[2]
    else:
        return None
    match mark:
        case "=":
            return Location(block, chain, "exact", pattern, False, False)
        case "~" | "~*":
            return Location(block, chain, "regex", pattern, False, mark == "~*")
        case "^~" | "":
            kind: Literal["prefix", "named"] = "named" if pattern.startswith("@") and not mark else "prefix"
            return Location(block, chain, kind, pattern, mark == "^~", False)
        case _:
            return None


class AutoRedirect(Exception):  # noqa: N818  no error: the search ended with a redirect to this location
    def __init__(self, location: Location) -> None:
        super().__init__(location)
        self.location = location


def select_location(exchange: Exchange, locations: list[Location]) -> tuple[Location | None, bool]:
    """The location for a request (``ngx_http_core_find_location``): exact, longest prefix and what lies in it, patterns
    in order. Also whether the search was ended by an exact or pattern location. Keeps what a pattern captured.

    Raises :class:`UndeterminedError`, and :class:`AutoRedirect` where only the last slash is missing.
    """
    exact, best = _by_text(exchange.uri, locations)
    if exact is not None:
        return exact, True
    inner = None
    if best is not None and best.children:
        inner, ended = select_location(exchange, best.children)
        if ended:
            return inner, True
    if best is None or not best.no_regex:
        matching = _by_pattern(exchange, locations)
        if matching is not None:
            return matching, True
    return inner or best, False


def _by_text(uri: str, locations: list[Location]) -> tuple[Location | None, Location | None]:
    """The location whose text is the whole path, and the one with the longest prefix of it; see :func:`select_location`."""
    best: Location | None = None
    slash: Location | None = None
    for location in locations:
        kind, text = location.kind, location.pattern
        if kind == "exact" and text == uri:
            return location, None
        if kind == "prefix" and uri.startswith(text) and (best is None or len(text) > len(best.pattern)):
            best = location
        if text == uri + "/" and kind in ("exact", "prefix") and location.redirects_without_slash:
            slash = slash or location
    if slash is not None and (best is None or best.pattern != uri):
        raise AutoRedirect(slash)
    return None, best


def _by_pattern(exchange: Exchange, locations: list[Location]) -> Location | None:
    """The first location whose pattern matches, or the one inside it; what the pattern captured is kept."""
    for location in locations:
        if location.kind == "regex":
            match = search(location.pattern, exchange.uri, ignore_case=location.ignore_case)
            if match is not None:
                exchange.capture(match)
                inner, _ = select_location(exchange, location.children) if location.children else (None, False)
                return inner or location
    return None
