"""The rewrite directives of one block: ``rewrite``, ``if``, ``set``, ``return`` and ``break`` (ngx_http_rewrite_module)."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Final

from rupex.masking.quoting import quoted
from rupex.model import Provenance
from rupex.model.budget import spend
from rupex.model.numbers import whole_number
from rupex.servers.common.patterns import UndeterminedError, search
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.content import Content
from rupex.servers.nginx.inventory import setters
from rupex.servers.nginx.locations import Location
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.variables import Exchange, escape_arguments, unescape_redirect

REDIRECT_STATUSES: Final = (301, 302, 303, 307, 308)
REWRITE_NAMES: Final = frozenset({"return", "rewrite", "if", "set", "break"})
REWRITING: Final = REWRITE_NAMES | setters()
"""The rewrite directives, and those that give variables a value that is not worked out."""

_IS_URL = re.compile(r"(?:https?://|\$scheme)")
_MOST_STEPS: Final = 200


@dataclass(frozen=True, slots=True)
class Ended:
    """A rewrite directive ended the request."""

    status: int
    target: str | None
    body: str | None
    by: Directive


@dataclass(slots=True)
class Way:
    """Where a request has got to: its location and the blocks in force, and what happened so far."""

    chain: tuple[Block, ...]
    location: Location | None = None
    steps: list[tuple[str, Provenance]] = field(default_factory=list)
    error: int | None = None
    in_error_page: bool = False

    def tell(self, message: str, place: Provenance) -> None:
        if len(self.steps) < _MOST_STEPS:
            self.steps.append((message, place))


def run_rewrites(block: Block, exchange: Exchange, way: Way, content: Content, *, lenient: bool) -> Ended | str | None:
    """Run the rewrite directives of one block. A final answer; or ``last`` or ``break``; or None at its end. ``lenient``: a
    condition that only run time knows and that can do no more than refuse, or send on inside, is taken not to hold. Raises
    :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    for child in block.in_order(REWRITING):
        spend(1)
        if child.name in setters():
            exchange.lose(child)
            continue
        if isinstance(child, Block):
            if child.name != "if":
                continue
            try:
                holds = _condition(child, exchange, way, content)
            except UndeterminedError:
                if lenient and _can_be_passed_over(child):
                    continue
                raise
            if holds:
                way.tell("this condition holds", child.provenance())
                if way.location is not None:  # inside a location, the if block's own settings are in force
                    way.chain = (*way.location.chain, child)
                result = run_rewrites(child, exchange, way, content, lenient=lenient)
                if result is not None:
                    return result
            continue
        match child.name:
            case "return":
                return _return(child, exchange)
            case "set" if len(child.args) == 2:
                exchange.give(child.args[0].removeprefix("$"), exchange.fill(child.args[1]))
            case "break":
                exchange.changed = False
                return "break"
            case "rewrite" if len(child.args) >= 2:
                before = exchange.uri
                result = _apply_rewrite(child, exchange)
                if exchange.uri != before:
                    way.tell(f"the URI is rewritten to {exchange.uri}", child.provenance())
                if result is not None:
                    return result
    return None


def _can_be_passed_over(block: Block) -> bool:
    """Whether an ``if`` can do no more than refuse, set variables, or send the request on inside the server."""
    for child in block.children:
        if isinstance(child, Block):
            return False
        if child.name == "return":
            code = whole_number(child.args[0]) if child.args else None
            if code is None or not 400 <= code < 500:
                return False
        elif child.name == "rewrite":
            if len(child.args) < 2 or _IS_URL.match(child.args[1]) or child.args[2:] in (("redirect",), ("permanent",)):
                return False
        elif child.name not in ("set", "break", "access_log", "limit_rate"):
            return False
    return True


def _return(directive: Directive, exchange: Exchange) -> Ended:
    args = directive.args
    if not args:
        raise UndeterminedError("a return without a status")
    status = whole_number(args[0])
    if status is None:
        if len(args) > 1:
            raise UndeterminedError(f"{quoted(args[0])} is no status")
        return Ended(302, exchange.fill(args[0]), None, directive)
    text = exchange.fill(args[1]) if len(args) > 1 else None
    if status in REDIRECT_STATUSES and text is not None:
        return Ended(status, text, None, directive)
    return Ended(status, None, text, directive)


def _apply_rewrite(directive: Directive, exchange: Exchange) -> Ended | str | None:
    """``rewrite PATTERN REPLACEMENT [FLAG]`` (ngx_http_script_regex_start_code and _end_code)."""
    pattern, replacement = directive.args[:2]
    flag = directive.args[2] if len(directive.args) > 2 else ""
    found = search(pattern, exchange.uri)
    if found is None:
        exchange.captures = ()  # a pattern that fails here takes the location's captures along
        return None
    exchange.capture(found)
    redirects = _IS_URL.match(replacement) is not None or flag in ("redirect", "permanent")
    if redirects and exchange.escaped:
        exchange.captures = tuple(None if c is None else escape_arguments(c) for c in exchange.captures)
    keeps_args = not replacement.endswith("?")
    new = exchange.fill(replacement if keeps_args else replacement[:-1])
    path, mark, args = new.partition("?")
    if keeps_args and exchange.args:
        args = f"{args}&{exchange.args}" if mark else exchange.args
    if redirects:
        target = path + (f"?{args}" if args else "")
        if exchange.escaped:
            target = unescape_redirect(target)
        return Ended(301 if flag == "permanent" else 302, target, None, directive)
    if not path:
        return Ended(500, None, None, directive)
    exchange.uri, exchange.args = path, args
    exchange.is_internal = True
    exchange.changed = flag != "break"
    exchange.is_off_location = exchange.is_off_location or flag == "break"
    return flag if flag in ("last", "break") else None


def _condition(block: Block, exchange: Exchange, way: Way, content: Content) -> bool:
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
        return _file_test(words[0], words[1], exchange, way, content)
    if len(words) != 3:
        raise UndeterminedError(f"if ({quoted(' '.join(words))}) cannot be read")
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
                exchange.capture(found)
            else:
                exchange.captures = ()
            return (found is None) == operator.startswith("!")
        case _:
            raise UndeterminedError(f"if with the operator {quoted(operator)}")


def _file_test(test: str, word: str, exchange: Exchange, way: Way, content: Content) -> bool:
    root = content.root_of(way.chain, exchange)
    exchange.root, exchange.filename = root, content.path_of(exchange.uri, way.chain, exchange)
    kind = content.kind(exchange.fill(word), root) if exchange.asks_files else None
    if kind is None or test.endswith("x"):
        raise UndeterminedError(f"if ({test} {quoted(word)}) asks for a file that the tree does not show")
    holds = {"f": kind == "file", "d": kind == "folder", "e": kind != "missing"}[test[-1]]
    return holds != test.startswith("!")
