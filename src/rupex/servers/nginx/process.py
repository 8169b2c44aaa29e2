"""The way of one request through a server block: rewriting, location, access, content.

Follows the phases of ngx_http_core_module (src/http/ngx_http_core_module.c) and ngx_http_rewrite_module. The same code
answers one concrete request and finds out what a location does; it never guesses: where the way hangs on something
that only run time knows, the outcome says so.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Final, Literal

from rupex.model import Provenance, bounds
from rupex.model.endpoint import Match
from rupex.servers.nginx.load import Block
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.variables import Exchange
from rupex.servers.patterns import UndeterminedError, search

UPSTREAM_DIRECTIVES: Final = ("proxy_pass", "fastcgi_pass", "uwsgi_pass", "scgi_pass", "grpc_pass", "memcached_pass")
REDIRECT_STATUSES: Final = (301, 302, 303, 307, 308)

_REWRITE_NAMES: Final = frozenset({"return", "rewrite", "if", "set", "break"})
_IS_URL = re.compile(r"(?:https?://|\$scheme)")


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
        return self.kind == "named" or self.block.last("internal") is not None


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of a request. ``chain``: the blocks in force at its end, outermost first.

    ``status`` None: the content decides. ``closed``: the connection is closed without an answer (status 444).
    ``by``: the directive that decided, if one did. ``unknown``: why the way could not be followed to its end.
    """

    chain: tuple[Block, ...]
    location: Location | None
    status: int | None = None
    target: str | None = None
    closed: bool = False
    by: Directive | None = None
    body: str | None = None
    unknown: str | None = None
    steps: tuple[tuple[str, Provenance], ...] = ()

    @property
    def is_redirect(self) -> bool:
        return self.target is not None


@dataclass(frozen=True, slots=True)
class _Final:
    """A rewrite directive ended the request."""

    status: int
    target: str | None
    body: str | None
    by: Directive


def scope_identity(location: Location | None) -> tuple[str, Match]:
    """The id and kind of the scope that a location is; None: the server block where no location matches."""
    if location is None or location.kind == "named":
        return "any", "any"
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


def select_location(uri: str, locations: list[Location]) -> tuple[Location | None, bool]:
    """The location for ``uri`` (``ngx_http_core_find_location``): exact, longest prefix and what lies in it, patterns in
    order. Also whether the search was ended by an exact or pattern location. Raises :class:`UndeterminedError`."""
    best: Location | None = None
    for location in locations:
        if location.kind == "exact" and location.pattern == uri:
            return location, True
        if (
            location.kind == "prefix"
            and uri.startswith(location.pattern)
            and (best is None or len(location.pattern) > len(best.pattern))
        ):
            best = location
    found = best
    if best is not None and best.children:
        inner, ended = select_location(uri, best.children)
        if ended:
            return inner, True
        found = inner or best
    if best is None or not best.no_regex:
        for location in locations:
            if location.kind == "regex" and search(location.pattern, uri, ignore_case=location.ignore_case) is not None:
                inner, _ = select_location(uri, location.children)
                return inner or location, True
    return found, False


class Processor:
    """One server block, ready to take requests. ``chain``: its blocks, ``http`` first and ``server`` last."""

    def __init__(self, chain: tuple[Block, ...], locations: list[Location]) -> None:
        self.chain, self.locations = chain, locations
        self.rewrites = _REWRITE_NAMES.intersection(chain[-1].by_name)

    def answer(self, exchange: Exchange, forced: Location | None = None) -> Outcome:
        """Follow ``exchange`` to its end. ``forced``: the location that is asked about, whatever the URI would select
        first. Changes ``exchange`` as the server would."""
        location: Location | None = None
        steps: list[tuple[str, Provenance]] = []
        try:
            final = self._rewrite(self.chain[-1], exchange) if self.rewrites else None
            if final is not None and not isinstance(final, str):
                return self._ended(final, self.chain, None, exchange, steps)
            for _ in range(bounds.REWRITE_CYCLES + 1):
                location, _ = (forced, True) if forced is not None else select_location(exchange.uri, self.locations)
                forced = None
                chain = self.chain if location is None else location.chain
                if location is None:
                    return self._content(exchange, chain, None, steps)
                before = exchange.uri
                flag = (
                    self._rewrite(location.block, exchange)
                    if _REWRITE_NAMES.intersection(location.block.by_name)
                    else None
                )
                if isinstance(flag, _Final):
                    return self._ended(flag, chain, location, exchange, steps)
                if exchange.uri == before or flag == "break":
                    return self._content(exchange, chain, location, steps)
            return Outcome(self.chain, location, status=500, unknown=None, steps=tuple(steps))
        except UndeterminedError as undetermined:
            chain = self.chain if location is None else location.chain
            return Outcome(chain, location, unknown=undetermined.why, steps=tuple(steps))

    def _rewrite(self, block: Block, exchange: Exchange) -> _Final | str | None:
        """Run the rewrite directives of one block. A final answer; or ``last`` or ``break``; or None at its end."""
        for child in block.children:
            if child.name not in _REWRITE_NAMES:
                continue
            if isinstance(child, Block):
                if child.name == "if" and _condition(child, exchange):
                    result = self._rewrite(child, exchange)
                    if result is not None:
                        return result
                continue
            match child.name:
                case "return":
                    return _return(child, exchange)
                case "set" if len(child.args) == 2:
                    exchange.variables[child.args[0].removeprefix("$")] = exchange.fill(child.args[1])
                case "break":
                    return "break"
                case "rewrite" if len(child.args) >= 2:
                    result = _apply_rewrite(child, exchange)
                    if result is not None:
                        return result
        return None

    def _ended(
        self,
        final: _Final,
        chain: tuple[Block, ...],
        location: Location | None,
        exchange: Exchange,
        steps: list[tuple[str, Provenance]],
    ) -> Outcome:
        target = final.target
        if target is not None and target.startswith("/"):
            target = _absolute(target, chain, exchange)
        return Outcome(
            chain,
            location,
            status=None if final.status == 444 else final.status,
            target=target,
            closed=final.status == 444,
            by=final.by,
            body=final.body,
            steps=tuple(steps),
        )

    def _content(
        self,
        exchange: Exchange,
        chain: tuple[Block, ...],
        location: Location | None,
        steps: list[tuple[str, Provenance]],
    ) -> Outcome:
        denied = next((d for d in chain[-1].all("deny") if d.args[:1] == ("all",)), None)
        if denied is not None and next(chain[-1].all("allow"), None) is None and chain[-1].last("satisfy") is None:
            return Outcome(chain, location, status=403, by=denied, steps=tuple(steps))
        return Outcome(chain, location, steps=tuple(steps))


def _return(directive: Directive, exchange: Exchange) -> _Final:
    args = directive.args
    if not args:
        raise UndeterminedError("a return without a status")
    if len(args) == 1 and not args[0].isdigit():
        return _Final(302, exchange.fill(args[0]), None, directive)
    if not args[0].isdigit():
        raise UndeterminedError(f"{args[0]!r} is no status")
    status = int(args[0])
    text = exchange.fill(args[1]) if len(args) > 1 else None
    if status in REDIRECT_STATUSES and text is not None:
        return _Final(status, text, None, directive)
    return _Final(status, None, text, directive)


def _apply_rewrite(directive: Directive, exchange: Exchange) -> _Final | str | None:
    """``rewrite PATTERN REPLACEMENT [FLAG]`` (ngx_http_script_regex_start_code and _end_code)."""
    pattern, replacement = directive.args[:2]
    flag = directive.args[2] if len(directive.args) > 2 else ""
    found = search(pattern, exchange.uri)
    if found is None:
        return None
    exchange.captures = (found[0], *found.groups())
    keeps_args = not replacement.endswith("?")
    new = exchange.fill(replacement if keeps_args else replacement[:-1])
    path, mark, args = new.partition("?")
    if keeps_args and exchange.args:
        args = f"{args}&{exchange.args}" if mark else exchange.args
    if _IS_URL.match(replacement) or flag in ("redirect", "permanent"):
        target = path + (f"?{args}" if args else "")
        return _Final(301 if flag == "permanent" else 302, target, None, directive)
    exchange.uri, exchange.args = path, args
    return flag if flag in ("last", "break") else None


def _condition(block: Block, exchange: Exchange) -> bool:
    """The condition of an ``if`` (ngx_http_rewrite_if_condition)."""
    words = list(block.args)
    if not words or not words[0].startswith("(") or not words[-1].endswith(")"):
        raise UndeterminedError("an if whose condition has no parentheses")
    words[0] = words[0][1:]
    words[-1] = words[-1][:-1]
    words = [word for index, word in enumerate(words) if word or 0 < index < len(words) - 1]
    if len(words) == 1 and words[0].startswith("$"):
        return exchange.fill(words[0]) not in ("", "0")
    if len(words) == 2 and re.fullmatch(r"!?-[fdex]", words[0]):
        raise UndeterminedError(f"if ({' '.join(words)}) asks for a file")
    if len(words) != 3:
        raise UndeterminedError(f"if ({' '.join(words)[:60]}) cannot be read")
    left, operator, right = words
    value = exchange.fill(left)
    match operator:
        case "=":
            return value == exchange.fill(right)
        case "!=":
            return value != exchange.fill(right)
        case "~" | "~*" | "!~" | "!~*":
            found = search(right, value, ignore_case=operator.endswith("*"))
            if found is not None:
                exchange.captures = (found[0], *found.groups())
            return (found is None) == operator.startswith("!")
        case _:
            raise UndeterminedError(f"if with the operator {operator!r}")


def find(chain: tuple[Block, ...], name: str) -> Directive | None:
    """The directive ``name`` in force in the innermost block of ``chain``: its own, or the nearest above."""
    for block in reversed(chain):
        found = block.last(name)
        if found is not None:
            return found
    return None


def _absolute(path: str, chain: tuple[Block, ...], exchange: Exchange) -> str:
    """A relative redirect as it is sent (ngx_http_header_filter)."""

    def is_on(name: str, default: bool) -> bool:
        found = find(chain, name)
        return default if found is None or not found.args else found.args[0] == "on"

    if not is_on("absolute_redirect", True):
        return path
    host = exchange.server_name if is_on("server_name_in_redirect", False) else exchange.host
    usual = 443 if exchange.scheme == "https" else 80
    port = f":{exchange.port}" if is_on("port_in_redirect", True) and exchange.port not in (None, usual) else ""
    return f"{exchange.scheme}://{host}{port}{path}"
