"""Who is let in: Require and its containers (mod_authz_core), and the older Order, Allow and Deny (mod_access_compat)."""

from __future__ import annotations

import ipaddress
from typing import Final, NamedTuple

from rupex.model import Provenance, Setting
from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.expressions import evaluate
from rupex.servers.apache.load import all_of, last_of
from rupex.servers.apache.sections import AppliedSection, Context, last_in
from rupex.servers.apache.syntax import Directive
from rupex.servers.common.patterns import UndeterminedError

_CONTAINERS: Final = ("requireall", "requireany", "requirenone")


class Decision(NamedTuple):
    """Whether a stranger gets in; ``status``: of the refusal; ``by``: the directive that decides."""

    is_let_in: bool
    status: int | None
    by: Directive | None


OPEN: Final = Decision(True, None, None)


def decide(context: Context, exchange: Exchange) -> Decision:
    """Whether a request of a stranger, from an address that no rule speaks of and without a password, is let in. Raises
    :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    older = _older(context, exchange)
    newer = _newer(context, exchange)
    satisfy = last_in(context, "satisfy")
    if older is not None and satisfy is not None and satisfy.args[:1] and satisfy.args[0].lower() == "any":
        return older if older.is_let_in else newer or older
    for decision in (older, newer):
        if decision is not None and not decision.is_let_in:
            return decision
    return OPEN


def closed(context: Context, exchange: Exchange) -> Setting[bool]:
    """Whether strangers are kept out, with the line that does it."""
    try:
        decision = decide(context, exchange)
    except UndeterminedError as undetermined:
        return Setting(None, None, undetermined.why)
    place: Provenance | None = None if decision.by is None else decision.by.provenance()
    return Setting(not decision.is_let_in, place)


def _newer(context: Context, exchange: Exchange) -> Decision | None:
    """The Require lines of the section merged last that has any (AuthMerging Off)."""
    for applied in reversed(context):
        lines = list(applied.directives.named("require", *_CONTAINERS))
        for section in applied.directives.named("limit", "limitexcept"):
            named = {word.upper() for word in section.args}
            if (exchange.method in named) is (section.key == "limit"):
                lines += section.inner.named("require", *_CONTAINERS)
        if lines:
            value, by = _any(lines, exchange)
            if value:
                return OPEN
            asks = any(_asks_for_user(line) for line in lines) and last_in(context, "authtype") is not None
            return Decision(False, 401 if asks else 403, by)
    return None


def _asks_for_user(line: Directive) -> bool:
    if line.children is not None:
        return any(_asks_for_user(child) for child in line.children)
    return bool(line.args) and line.args[0].lower() in (
        "valid-user",
        "user",
        "group",
        "ldap-user",
        "ldap-group",
        "file-owner",
    )


def _any(lines: list[Directive], exchange: Exchange) -> tuple[bool, Directive | None]:
    values = [(_one(line, exchange), line) for line in lines]
    return any(value for value, _ in values if value is not None), values[-1][1] if values else None


def _one(line: Directive, exchange: Exchange) -> bool | None:
    """Whether one line lets a stranger in; None where it says nothing."""
    if line.children is not None:
        values = [value for child in line.children if (value := _one(child, exchange)) is not None]
        if line.key == "requireall":
            return all(values)
        return any(values) if line.key == "requireany" else (False if any(values) else None)
    words = [word.lower() for word in line.args]
    is_not = words[:1] == ["not"]
    words = words[1:] if is_not else words
    value = _provider(words, line, exchange)
    if is_not:
        return False if value else None  # a negated line can refuse, and lets nobody in by itself
    return value


def _provider(words: list[str], line: Directive, exchange: Exchange) -> bool:
    match words:
        case ["all", "granted", *_]:
            return True
        case ["ip", *addresses]:
            return any(_is_everybody(address) for address in addresses)
        case ["method", *methods]:
            return exchange.method.lower() in methods
        case ["env", *names]:
            return any(name in {key.lower() for key in exchange.environment} for name in names)
        case ["expr", *_]:
            return evaluate(line.raw.split(None, 1)[1].strip().strip('"'), exchange)
        case _:
            return False  # host, local, user and group: a stranger is none of them


def _is_everybody(address: str) -> bool:
    try:
        return ipaddress.ip_network(address, strict=False).prefixlen == 0
    except ValueError:
        return False


def _older(context: Context, exchange: Exchange) -> Decision | None:
    """Order, Allow and Deny; a section with Allow or Deny lines of its own replaces those before."""
    order: Directive | None = None
    allow: list[Directive] = []
    deny: list[Directive] = []
    for applied in context:
        for lines, lines_of_directive in ((allow, _own(applied, "allow")), (deny, _own(applied, "deny"))):
            if lines_of_directive:
                lines[:] = lines_of_directive
        order = last_of(applied.directives, "order") or order
    if order is None and not allow and not deny:
        return None
    first = order.raw.replace(" ", "").lower() if order is not None else "deny,allow"
    is_allowed, is_denied = (any(_names_stranger(line, exchange) for line in lines) for lines in (allow, deny))
    closes_last = first in ("allow,deny", "mutual-failure")
    value = (is_allowed and not is_denied) if closes_last else (is_allowed or not is_denied)
    return OPEN if value else Decision(False, 403, deny[-1] if deny else order)


def _own(applied: AppliedSection, name: str) -> list[Directive]:
    return list(all_of(applied.directives, name))


def _names_stranger(line: Directive, exchange: Exchange) -> bool:
    words = [word.lower() for word in line.args]
    for word in words[1:] if words[:1] == ["from"] else words:
        if word == "all" or (word.startswith("env=") and word[4:] in {key.lower() for key in exchange.environment}):
            return True
    return False
