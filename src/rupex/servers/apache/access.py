"""Who is let in: Require and its containers (mod_authz_core), and the older Order, Allow and Deny (mod_access_compat)."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Final, Literal, NamedTuple

from rupex.model import Provenance, Setting
from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.expressions import evaluate
from rupex.servers.apache.load import all_of, last_of
from rupex.servers.apache.outcome import Outcome
from rupex.servers.apache.sections import AppliedSection, Context, last_in
from rupex.servers.apache.syntax import Directive
from rupex.servers.apache.visitors import network_of
from rupex.servers.common.addresses import is_in, parse_address
from rupex.servers.common.patterns import UndeterminedError

_CONTAINERS: Final = ("requireall", "requireany", "requirenone")
_OF_USERS: Final = frozenset(
    "valid-user user group file-owner file-group dbd-group dbd-login dbm-group dbm-file-group claim claims_expr".split()
)
"""What is granted to those who have logged in."""

_Vote = Literal["granted", "denied", "no user", "neutral"]
"""What a line says: ``no user``, where a login may change a refusal."""


class Decision(NamedTuple):
    """Whether a visitor without a login gets in, from the address that is asked about, or from one that no rule names.

    ``status``: of the refusal, None where the module that asks for a login decides.
    ``by``: the directive that decides.
    """

    is_let_in: bool
    status: int | None
    by: Directive | None


OPEN: Final = Decision(True, None, None)


def decide(context: Context, exchange: Exchange) -> Decision:
    """Whether a request without a password is let in; one whose source is not known comes from an address that no rule names.
    Raises :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    older = _older(context, exchange)
    newer = _newer(context, exchange)
    satisfy = last_in(context, "satisfy")
    if older is not None and satisfy is not None and satisfy.args[:1] and satisfy.args[0].lower() == "any":
        return older if older.is_let_in else newer or older
    for decision in (older, newer):
        if decision is not None and not decision.is_let_in:
            return decision
    return OPEN


def refusal(context: Context, exchange: Exchange, modules: Collection[str]) -> Outcome | None:
    """The answer to a request that is not let in: by its method, without TLS, by address or for want of a login; None for one
    that is. Raises :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    if _is_same(context, exchange.let_in_under):
        return None
    methods, tls = last_in(context, "allowmethods"), last_in(context, "sslrequiressl")
    if methods is not None and "allowmethods" in modules and not _is_allowed(exchange, methods):
        return Outcome(context=context, status=405, by=methods, by_server=True, is_early=True)
    if tls is not None and exchange.scheme != "https":
        return Outcome(context=context, status=403, by=tls, by_server=True, is_early=True)
    decision = decide(context, exchange)
    if decision.is_let_in:
        return None
    if decision.status is None:
        kind = last_in(context, "authtype")
        raise UndeterminedError(f"{kind}: Rupex does not know how this module asks a visitor to log in")
    return Outcome(context=context, status=decision.status, by=decision.by, by_server=True, is_early=True)


def _is_same(context: Context, other: Context | None) -> bool:
    """Whether the very same sections hold (r->per_dir_config)."""
    if other is None or len(context) != len(other):
        return False
    return all(one.directives is another.directives for one, another in zip(context, other, strict=True))


def _is_allowed(exchange: Exchange, directive: Directive) -> bool:
    """Whether AllowMethods allows a request's method; ``reset`` with nothing behind it allows all."""
    words = [word.upper() for word in directive.args]
    if "RESET" in words:
        words = words[len(words) - words[::-1].index("RESET") :]
    return not words or _is_method(exchange, words)


def closed(context: Context, exchange: Exchange) -> Setting[bool]:
    """Whether such a visitor is kept out, with the line that does it."""
    try:
        decision = decide(context, exchange)
    except UndeterminedError as undetermined:
        return Setting(None, None, undetermined.why)
    place: Provenance | None = None if decision.by is None else decision.by.provenance()
    return Setting(not decision.is_let_in, place)


def _newer(context: Context, exchange: Exchange) -> Decision | None:
    """The Require lines of the section merged last that has any; together with those before it where AuthMerging says so."""
    found: _Vote | None = None
    by: Directive | None = None
    for applied in context:
        lines = list(applied.directives.named("require", *_CONTAINERS))
        for section in applied.directives.named("limit", "limitexcept"):
            if _is_method(exchange, section.args) is (section.key == "limit"):
                lines += section.inner.named("require", *_CONTAINERS)
        if not lines:
            continue
        own = _any(_told(line, exchange) for line in lines)
        merging = last_of(applied.directives, "authmerging")
        word = merging.raw.strip().lower() if merging is not None else "off"
        if found is not None and word in ("and", "or"):
            own = (_all if word == "and" else _any)((found, own))
        found, by = own, lines[-1]
    if found is None:
        return None
    if found == "granted":
        return OPEN
    return Decision(False, _status_of_login(context) if found == "no user" else 403, by)


def _status_of_login(context: Context) -> int | None:
    """The status for a visitor who must log in; None where a module decides how he is asked."""
    kind = last_in(context, "authtype")
    word = kind.args[0].lower() if kind is not None and kind.args else "none"
    return 403 if word == "none" else 401 if word in ("basic", "digest") else None


def _any(votes: Iterable[_Vote | UndeterminedError]) -> _Vote:
    """One that grants is enough; a login may change a refusal."""
    return _combined(votes, "granted", "denied")


def _all(votes: Iterable[_Vote | UndeterminedError]) -> _Vote:
    """One that refuses is enough; a login cannot change that."""
    return _combined(votes, "denied", "granted")


def _combined(votes: Iterable[_Vote | UndeterminedError], decisive: _Vote, other: _Vote) -> _Vote:
    """``decisive`` as soon as it comes; else ``no user`` where a login may change the result (apply_authz_sections). Raises the
    first vote that is not known where no other decides."""
    found: _Vote = "neutral"
    not_known: UndeterminedError | None = None
    for vote in votes:
        if isinstance(vote, UndeterminedError):
            not_known = not_known or vote
            continue
        if vote == decisive:
            return vote
        if found == "neutral" or (vote == "no user" and found == other):
            found = vote
    if not_known is not None:
        raise not_known
    return found


def _told(line: Directive, exchange: Exchange) -> _Vote | UndeterminedError:
    """What a line says, or why that is not known."""
    try:
        return _vote(line, exchange)
    except UndeterminedError as undetermined:
        return undetermined


def _vote(line: Directive, exchange: Exchange) -> _Vote:
    """What one line, or container of lines, says of such a visitor. What is negated can refuse, and never grants by itself."""
    if line.children is not None:
        votes = [_told(child, exchange) for child in line.children if child.key in ("require", *_CONTAINERS)]
        return _all(votes) if line.key == "requireall" else _negated(_any(votes), line.key == "requirenone")
    words = [word.lower() for word in line.args]
    is_not = words[:1] == ["not"]
    return _negated(_provided(words[1:] if is_not else words, line, exchange), is_not)


def _negated(vote: _Vote, is_negated: bool) -> _Vote:
    if not is_negated:
        return vote
    return "denied" if vote == "granted" else "neutral"


def _provided(words: list[str], line: Directive, exchange: Exchange) -> _Vote:
    if words and (words[0] in _OF_USERS or words[0].startswith("ldap-")):
        return "no user"
    return "granted" if _holds(words, line, exchange) else "denied"


def _holds(words: list[str], line: Directive, exchange: Exchange) -> bool:
    match words:
        case ["all", "granted", *_]:
            return True
        case ["ip", *networks]:
            return any(_lies_in(network, exchange) for network in networks)
        case ["local", *_] if exchange.source is not None:
            return _is_local(exchange)
        case ["host" | "forward-dns", *_] if exchange.source is not None:
            raise UndeterminedError(f"{line} ({line.provenance()}) goes by the name of the client's address")
        case ["method", *methods]:
            return _is_method(exchange, methods)
        case ["env", *names]:
            return any(name in {key.lower() for key in exchange.environment} for name in names)
        case ["expr", *_]:
            return evaluate(line.raw.split(None, 1)[1].strip().strip('"'), exchange)
        case _:
            return False  # host and local: such a visitor is none of them


def _is_method(exchange: Exchange, methods: Iterable[str]) -> bool:
    """Whether a request's method is one of ``methods``: HEAD is GET to the server (ap_method_number_of)."""
    names = {word.upper().replace("HEAD", "GET") for word in methods}
    return exchange.method.replace("HEAD", "GET") in names


def _lies_in(text: str, exchange: Exchange) -> bool:
    """Whether the client's address lies in a network; one of which nobody knows the address lies in what names everybody."""
    network, address = network_of(text), None if exchange.source is None else parse_address(exchange.source)
    if network is None:
        return False
    return network.prefixlen == 0 if address is None else is_in(address, network)


def _is_local(exchange: Exchange) -> bool:
    """Whether the client is on the server's own machine, as far as its address alone says so."""
    address = parse_address(exchange.source_text)
    return address is not None and address.is_loopback


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
        if not word.startswith("env=") and _is_address(word):
            if _lies_in(word, exchange):
                return True
        elif not word.startswith("env=") and exchange.source is not None:
            raise UndeterminedError(f"{line} ({line.provenance()}) goes by the name of the client's address")
    return False


def _is_address(word: str) -> bool:
    """Whether a word of Allow or Deny is an address or network, and not a part of a name."""
    return network_of(word) is not None
