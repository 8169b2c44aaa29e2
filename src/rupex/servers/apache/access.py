"""Who is let in: Require and its containers (mod_authz_core), and the older Order, Allow and Deny (mod_access_compat)."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from functools import reduce
from itertools import groupby
from typing import Final, Literal, NamedTuple

from rupex.model import Provenance, Setting
from rupex.servers.apache.connections import asking, by_certificate, by_expressions, is_asked_more, shows_enough
from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.expressions import evaluate
from rupex.servers.apache.load import all_of, last_of
from rupex.servers.apache.logins import asked_by_form, has_account, is_meant, status_of_login
from rupex.servers.apache.outcome import OPEN, Decision, Outcome
from rupex.servers.apache.sections import AppliedSection, Context, last_in
from rupex.servers.apache.syntax import Block, Directive
from rupex.servers.apache.visitors import network_of
from rupex.servers.common.addresses import is_in, parse_address
from rupex.servers.common.clients import SUCCESS
from rupex.servers.common.patterns import UndeterminedError

_CONTAINERS: Final = ("requireall", "requireany", "requirenone")
_REQUIRING: Final = ("require", *_CONTAINERS)
_LIMITS: Final = ("limit", "limitexcept")
_OLDER: Final = ("order", "allow", "deny", "satisfy")
_ASK_AGAIN: Final = frozenset(("allowmethods",))
"""Modules with which httpd checks access again for a request of its own (an index page), although the same sections hold. It
does so where a section is not one of folders, or the file does not exist (hooks registered by ap_hook_access_checker)."""
_BEHIND_FOLDERS: Final = ("file", "path", "condition")
_OF_USERS: Final = frozenset(
    "valid-user user group file-owner file-group dbd-group dbd-login dbm-group dbm-file-group claim claims_expr".split()
)
"""What is granted to those who have logged in."""

_Vote = Literal["granted", "denied", "no user", "neutral"]
"""What a line says: ``no user``, where a login may change a refusal."""


def decide(context: Context, exchange: Exchange, checked: Decision = OPEN) -> Decision:
    """Whether a request is let in; one whose source is not known comes from an address that no rule names, and one without an
    account does not log in. ``checked``: what is decided before Order, Allow and Deny. Raises
    :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    older, satisfy = _older(context, exchange)
    first = older if checked.is_let_in else checked
    if satisfy is not None and satisfy.args[:1] and satisfy.args[0].lower() == "any":
        if first is None or first.is_let_in:
            return first or OPEN  # and no login is asked for
        return _newer(context, exchange) or OPEN
    newer = _newer(context, exchange)
    for decision in (first, newer):
        if decision is not None and not decision.is_let_in:
            return decision
    return newer or older or OPEN


def refusal(context: Context, exchange: Exchange, modules: Collection[str], *, is_there: bool = True) -> Outcome | None:
    """The answer to a request that is not let in: by its method, without TLS, by address or for want of a login; None for one
    that is. ``is_there``: there is such a file. Raises :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    is_other = not is_there or any(applied.kind in _BEHIND_FOLDERS for applied in context)
    is_asked_again = is_other and not _ASK_AGAIN.isdisjoint(modules)
    if not is_asked_again and _is_same(context, exchange.let_in_under):
        return None
    if is_asked_more(context, exchange) and not exchange.is_tls13:
        if not shows_enough(context, exchange):
            # The new handshake fails.
            return Outcome(context=context, by=asking(context), is_closed=True, is_early=True)
        exchange.client = exchange.could_show
    decision = decide(context, exchange, _checked(context, exchange, modules))
    if decision.is_let_in:
        exchange.let_in_by = decision.by
        return None
    kind = last_in(context, "authtype")
    status = decision.status
    if status is None and kind is not None and kind.args[0].lower() == "form" and "auth_form" in modules:
        return asked_by_form(context, decision)
    if status in (None, 401) and kind is not None and f"auth_{kind.args[0].lower()}" not in modules:
        status = 500  # there is no module to ask for a login
    if status is None:
        raise UndeterminedError(f"{kind}: Rupex does not know how this module asks a visitor to log in")
    login = context if status == 401 else None
    return Outcome(context=context, status=status, by=decision.by, by_server=True, is_early=True, login=login)


def _checked(context: Context, exchange: Exchange, modules: Collection[str]) -> Decision:
    """What AllowMethods and SSLRequireSSL say, which are asked before Order, Allow and Deny, and for which Satisfy holds too."""
    methods, tls = _lines_in_force(context, "allowmethods"), last_in(context, "sslrequiressl")
    if methods and "allowmethods" in modules and not _is_allowed(exchange, methods):
        return Decision(False, 405, methods[-1])
    if tls is not None and exchange.scheme != "https":
        return Decision(False, 403, tls)
    is_refused = exchange.is_tls13 and is_asked_more(context, exchange)
    if is_refused and exchange.is_sample and shows_enough(context, exchange):
        is_refused = False  # one that offers to be asked gets in
    if is_refused:
        return Decision(False, 403, asking(context))
    return by_expressions(context, exchange)


def _is_same(context: Context, other: Context | None) -> bool:
    """Whether the very same sections hold (r->per_dir_config)."""
    if other is None or len(context) != len(other):
        return False
    return all(one.directives is another.directives for one, another in zip(context, other, strict=True))


def _lines_in_force(context: Context, name: str) -> list[Directive]:
    """All lines of the section merged last that has any."""
    said = (list(all_of(applied.directives, name)) for applied in reversed(context))
    return next((lines for lines in said if lines), [])


def _is_allowed(exchange: Exchange, lines: Iterable[Directive]) -> bool:
    """Whether AllowMethods lines allow a request's method: what they name together, behind the last ``reset``; all where that is
    nothing."""
    words = [word.upper() for line in lines for word in line.args]
    if "RESET" in words:
        words = words[len(words) - words[::-1].index("RESET") :]
    return not words or _is_method(exchange, words)


def closed(context: Context, exchange: Exchange) -> Setting[bool]:
    """Whether such a visitor is kept out, with the line that does it."""
    try:
        decision = decide(context, exchange, by_certificate(context, exchange))
    except UndeterminedError as undetermined:
        return Setting(None, None, undetermined.why)
    place: Provenance | None = None if decision.by is None or decision.is_let_in else decision.by.provenance()
    return Setting(not decision.is_let_in, place)


def _newer(context: Context, exchange: Exchange) -> Decision | None:
    """What Require lines say, first of a visitor who is not known; then of one who has logged in, where that may change it."""
    was_logged_in, exchange.is_logged_in = (
        exchange.is_logged_in,
        False,
    )  # before, for a page of its own (authorize_userless)
    merged = _required(context, exchange)
    exchange.is_logged_in = was_logged_in
    account = exchange.account
    if merged.vote == "no user" and account is not None and status_of_login(context) != 500:
        exchange.is_asked = True
        exchange.is_logged_in = has_account(context, exchange, account)
        merged = _required(context, exchange)
        if exchange.is_logged_in and merged.vote in ("denied", "neutral"):
            stops = last_in(context, "authzsendforbiddenonfailure")
            is_forbidden = stops is not None and stops.word == "on"
            return Decision(False, 403 if is_forbidden else status_of_login(context), merged.by)
    found, by = merged.vote, merged.by
    if found is None:
        kind = last_in(context, "authtype")
        # A module that asks for a login, and nothing that says who gets in by it, is an error of the server.
        is_asked = kind is not None and kind.args[:1] and kind.args[0].lower() != "none"
        return Decision(False, 500, kind) if is_asked else None
    if found in ("granted", "neutral"):
        return Decision(True, None, by)
    return Decision(False, status_of_login(context) if found == "no user" else 403, by)


def _required(context: Context, exchange: Exchange) -> _Merged:
    """The Require lines of the section merged last that has any; together with those before it where AuthMerging says so."""
    merged = _Merged(None, None, None)
    for _, group in groupby(context, lambda applied: _STEPS.get(applied.kind, applied.kind)):
        # The sections of one step are merged with each other before they are with those of the steps before.
        merged = reduce(_merged, (_said(applied, exchange) for applied in group), _Merged(None, None, None)).behind(
            merged
        )
    return merged


_STEPS: Final = {"server": "folder", "override": "folder"}
"""Kinds of sections that are merged in one go."""


class _Merged(NamedTuple):
    """What Require lines say: ``vote``, None for none; ``merging``: the AuthMerging with them; ``by``: the line that decides."""

    vote: _Vote | None
    merging: str | None
    by: Directive | None

    def behind(self, before: _Merged) -> _Merged:
        return _merged(before, self)


def _merged(before: _Merged, new: _Merged) -> _Merged:
    """``new`` behind what was said ``before`` (mod_authz_core.c, merge_authz_core_dir_config)."""
    if new.merging is None and new.vote is None:
        return before
    if before.vote is None or new.merging not in ("and", "or"):
        return new
    votes = (before.vote,) if new.vote is None else (before.vote, new.vote)
    return _Merged((_all if new.merging == "and" else _any)(votes), new.merging, new.by or before.by)


def _said(applied: AppliedSection, exchange: Exchange) -> _Merged:
    lines = list(_for_method(applied.directives, exchange, *_REQUIRING))
    is_saying = bool(lines) or any(_for_method(applied.directives, None, *_REQUIRING))
    votes = [_told(line, exchange) for line in lines]
    vote = _any(votes) if is_saying else None  # neutral, if all are for other methods
    granting = next((line for line, one in zip(lines, votes, strict=True) if one == "granted"), None)
    merging = last_of(applied.directives, "authmerging")
    word = None if merging is None else merging.word
    return _Merged(vote, word, _granting_in(granting, exchange) or (lines[-1] if lines else None))


def _granting_in(line: Directive | None, exchange: Exchange) -> Directive | None:
    """The line in a container that grants what the container does."""
    while line is not None and line.children is not None:
        inner = [
            child for child in _for_method(line.children, exchange, *_REQUIRING) if _told(child, exchange) == "granted"
        ]
        if not inner:
            break
        line = inner[0] if line.key == "requireany" else inner[-1]
    return line


def _for_method(directives: Block, exchange: Exchange | None, *names: str) -> Iterator[Directive]:
    """The directives of these names in force for a request's method, those in Limit and LimitExcept among them; all of them
    without a request."""
    for directive in directives.named(*names, *_LIMITS):
        if directive.key not in _LIMITS:
            yield directive
        elif exchange is None or _is_method(exchange, directive.args) is (directive.key == "limit"):
            yield from _for_method(directive.inner, exchange, *names)


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
        votes = [_told(child, exchange) for child in _for_method(line.children, exchange, *_REQUIRING)]
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
        if not exchange.is_logged_in:
            return "no user"
        return "granted" if is_meant(words[0], line, exchange) else "denied"
    if _holds(words, line, exchange):
        return "granted"
    # An expression that asks for the visitor's name may come out otherwise after a login (mod_authz_core.c, expr_lookup_fn).
    names_user = words[:1] == ["expr"] and "%{remote_user}" in line.raw.lower()
    return "no user" if names_user and not exchange.is_logged_in else "denied"


def _holds(words: list[str], line: Directive, exchange: Exchange) -> bool:
    match words:
        case ["all", "granted", *_]:
            return True
        case ["ip", *networks]:
            return any(_lies_in(network, exchange) for network in networks)
        case ["local", *_] if exchange.source is not None:
            return _is_local(exchange)
        case ["host", *names] if exchange.source is not None:
            called = _name_of_client(line, exchange)
            return any(_is_in_domain(called, name) for name in names)
        case ["forward-dns", *names] if exchange.source is not None:
            return _has_name(names, line, exchange)
        case ["method", *methods]:
            return _is_method(exchange, methods)
        case ["env", *names]:
            return any(exchange.environment.is_set(name) for name in names)
        case ["expr", *_]:
            return evaluate(line.raw.split(None, 1)[1].strip().strip('"'), exchange)
        case ["ssl"]:
            return exchange.scheme == "https"
        case ["ssl-verify-client", *_]:
            return exchange.client is not None and exchange.client[0] == SUCCESS
        case ["all" | "host" | "forward-dns" | "local", *_]:
            return False  # a visitor without a known address or name is none of them
        case _:
            raise UndeterminedError(f"Rupex does not know to whom {line} ({line.provenance()}) grants access")


def _name_of_client(line: Directive, exchange: Exchange) -> str:
    """What the client's address is called. Raises :class:`~rupex.servers.common.patterns.UndeterminedError` where the host's own
    table does not say it."""
    address = parse_address(exchange.source_text)
    found = None if address is None or exchange.host_names is None else exchange.host_names.name_of(address)
    if found is None:
        raise UndeterminedError(f"{line} ({line.provenance()}) goes by the name of the client's address")
    return found


def _has_name(names: Iterable[str], line: Directive, exchange: Exchange) -> bool:
    """Whether one of ``names`` is that of the client's address. Raises as :func:`_name_of_client`."""
    address, known = parse_address(exchange.source_text), exchange.host_names
    said = [() if known is None else known.addresses_of(name) for name in names]
    if any(address in addresses for addresses in said):
        return True
    if not all(said):
        raise UndeterminedError(f"{line} ({line.provenance()}) goes by the addresses of a name")
    return False


def _is_in_domain(name: str, domain: str) -> bool:
    """Whether a name is, or ends with, ``domain`` at a dot (in_domain)."""
    domain = domain.lower()
    return name == domain or (name.endswith(domain) and (domain.startswith(".") or name[: -len(domain)].endswith(".")))


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


def _older(context: Context, exchange: Exchange) -> tuple[Decision | None, Directive | None]:
    """The decision of Order, Allow and Deny, None where none of them is written, and the Satisfy in force. The section merged
    last with any of the four directives replaces those of all other sections (mod_access_compat.c merges nothing)."""
    saying = next((a for a in reversed(context) if any(_for_method(a.directives, None, *_OLDER))), None)
    if saying is None:
        return None, None
    lines: dict[str, list[Directive]] = {name: [] for name in _OLDER}
    for line in _for_method(saying.directives, exchange, *_OLDER):
        lines[line.key].append(line)
    allow, deny = lines["allow"], lines["deny"]
    order, satisfy = (lines[name][-1] if lines[name] else None for name in ("order", "satisfy"))
    first = order.word.replace(" ", "") if order is not None else "deny,allow"
    allowing = next((line for line in allow if _names_stranger(line, exchange)), None)
    is_allowed, is_denied = allowing is not None, any(_names_stranger(line, exchange) for line in deny)
    closes_last = first in ("allow,deny", "mutual-failure")
    value = (is_allowed and not is_denied) if closes_last else (is_allowed or not is_denied)
    return Decision(True, None, allowing) if value else Decision(False, 403, deny[-1] if deny else order), satisfy


def _names_stranger(line: Directive, exchange: Exchange) -> bool:
    words = [word.lower() for word in line.args]
    for word in words[1:] if words[:1] == ["from"] else words:
        if word == "all":
            return True
        if word.startswith("env="):
            name = word[4:].removeprefix("!")
            if exchange.environment.is_set(name) is not word.startswith("env=!"):
                return True
            continue
        if _is_address(word):
            if _lies_in(word, exchange):
                return True
        elif exchange.source is not None and _is_in_domain(_name_of_client(line, exchange), word):
            return True
    return False


def _is_address(word: str) -> bool:
    """Whether a word of Allow or Deny is an address or network, and not a part of a name."""
    return network_of(word) is not None
