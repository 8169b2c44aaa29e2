"""Response headers that an httpd configuration sets (mod_headers, and the Server header of the core).

There are two tables. What stands in the ``always`` one goes out with every answer; the other one only with answers that a
handler gave, and so with no redirect or error of the server's own. Actions of all merged sections are done in order, each on
its own table; in the end both tables go out, so that a header set in both goes out twice.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator
from typing import Final, NamedTuple

from msgspec import UNSET
from msgspec.structs import replace

from rupex.model import Dropped, Header, Provenance, default_of
from rupex.model.budget import filled, joined, spend
from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.expressions import evaluate, fill
from rupex.servers.apache.inventory import headers_changed_by
from rupex.servers.apache.sections import Context, all_in
from rupex.servers.apache.syntax import Directive
from rupex.servers.common.patterns import UndeterminedError, search
from rupex.tls.openssl import Library

SUCCESS: Final = (200, 201, 202, 203, 204, 205, 206, 207, 226, 304)
"""What handlers answer when all is well. Errors that a handler passes on from another server have both tables as well."""

_ACTIONS: Final = frozenset("set setifempty append add merge unset echo edit edit* note".split())
_VARIABLE = re.compile(r"%(%|(?:\{([^}]*)\})?([tDlibes]))")
_GROUP = re.compile(r"\$([0-9])")
_OF_CLIENT: Final = Provenance("default", note="sent by the client")
_DECODED: Final = re.compile(r"%\{(?:REQUEST_URI|PATH_INFO|QUERY_STRING|HTTP_[A-Z_]+)\}[es]")


class Action(NamedTuple):
    """One ``Header`` directive. ``condition``: the word behind it (``env=…``, ``expr=…``, ``early``), or None."""

    always: bool
    verb: str
    name: str
    value: str
    replacement: str
    condition: str | None
    directive: Directive


class Sent(NamedTuple):
    """The headers of an answer, and those that are declared and go out with none."""

    sent: tuple[Header, ...]
    dropped: tuple[Dropped, ...]


def read_action(directive: Directive) -> Action | None:
    """A ``Header`` directive as an action; None for what is none."""
    words = list(directive.args)
    always = False
    if words and words[0].lower() in ("always", "onsuccess"):
        always = words.pop(0).lower() == "always"
    if len(words) < 2 or words[0].lower() not in _ACTIONS:
        return None
    verb, name, *rest = words
    verb = verb.lower()
    wants = {"unset": 0, "echo": 0, "edit": 2, "edit*": 2}.get(verb, 1)
    value = rest[0] if wants and rest else ""
    replacement = rest[1] if wants == 2 and len(rest) > 1 else ""
    condition = rest[wants] if len(rest) > wants else None
    return Action(always, verb, name.rstrip(":"), value, replacement, condition, directive)


def headers_of(
    context: Context,
    exchange: Exchange | None = None,
    *,
    is_proxied: bool = False,
    unmodelled: Iterable[Directive] = (),
    before: Iterable[Header] = (),
) -> Sent:
    """What the actions of ``context`` make of an empty answer. With an ``exchange`` values are filled in for it.

    ``is_proxied``: the answer comes from another server; only then do actions on ``Server`` hold, since the server writes its own
    over it otherwise (http_filters.c, basic_http_header). ``unmodelled``: the directives in force that may send headers of which
    Rupex knows no more than the names. ``before``: headers that a handler's answer has already.
    """
    tables: dict[bool, list[Header]] = {True: [], False: []}
    for header in before:
        tables[header.on == "all"].append(header)
    for directive in unmodelled:
        words = f"{directive} ({directive.provenance()}) is not modelled, and may send it"
        names = headers_changed_by(directive)
        tables[False] += [Header(name, "…", SUCCESS, directive.provenance(), words) for name in names]
    dropped: list[Dropped] = []
    for directive, doubt_of_section in _written(context):
        action = read_action(directive)
        if action is None:
            continue
        if action.name.lower() == "server" and not is_proxied:
            if action.value:
                because = "the server writes its own over it"
                dropped.append(Dropped(action.name, action.value, directive.provenance(), because))
            continue
        doubt = _doubt(action, exchange)
        if doubt is False:
            dropped.append(
                Dropped(
                    action.name, action.value, directive.provenance(), f"its condition {action.condition} is not met"
                )
            )
            continue
        why = doubt if isinstance(doubt, str) else doubt_of_section
        _apply(action, tables[action.always], dropped, exchange, why)
    return Sent((*tables[True], *tables[False]), tuple(dropped))


def change_request(context: Context, exchange: Exchange, *, early: bool = False) -> None:
    """Do what the RequestHeader lines of ``context`` say: those with ``early`` as soon as the request is read, the others when
    all that may refuse it has been asked."""
    actions = [
        action for directive in all_in(context, "requestheader") if (action := read_action(directive)) is not None
    ]
    actions = [action for action in actions if ((action.condition or "").lower() == "early") is early]
    if not actions:
        return
    table = [Header(name, value, "all", _OF_CLIENT) for name, value in exchange.headers.items()]
    for action in actions:
        doubt = _doubt(action, exchange)
        if doubt is not False:
            _apply(action, table, [], exchange, doubt if isinstance(doubt, str) else None)
    exchange.headers, exchange.uncertain_headers = {}, {}
    for header in reversed(table):  # the first of a name is the one that is seen
        exchange.headers[header.name.lower()] = header.value
        if isinstance(header.unknown, str):
            exchange.uncertain_headers[header.name.lower()] = header.unknown


def _written(context: Context) -> Iterator[tuple[Directive, str | None]]:
    """The Header lines in force, in order, each with why it is not known whether its section holds."""
    for applied in context:
        for directive in applied.directives.named("header"):
            yield directive, applied.doubt


def _doubt(action: Action, exchange: Exchange | None) -> str | bool:
    """True: the action is done; False: it is not; or why nobody can tell."""
    condition = action.condition
    if condition is None or condition.lower() == "early":
        return True
    kind, _, rest = condition.partition("=")
    if exchange is not None and kind.lower() == "expr":
        try:
            return evaluate(rest, exchange)
        except UndeterminedError as undetermined:
            return undetermined.why
    if exchange is not None and kind.lower() == "env":
        is_not = rest.startswith("!")
        name = rest.removeprefix("!").partition("=")[0]
        try:
            return exchange.environment.is_set(name) is not is_not
        except UndeterminedError as undetermined:
            return undetermined.why
    return f"it is sent only where {condition} holds"


def _apply(
    action: Action, table: list[Header], dropped: list[Dropped], exchange: Exchange | None, doubt: str | None
) -> None:
    value, unknown = _value(action, exchange)
    unknown = doubt or unknown
    here = action.directive.provenance()
    lowered = action.name.lower()
    spend(1 + len(table) // 8)
    same = [header for header in table if header.name.lower() == lowered]

    def header(text: str, place: Provenance = here) -> Header:
        variable = _DECODED.search(action.value)
        return Header(
            action.name, text, "all" if action.always else SUCCESS, place,
            UNSET if unknown is None else unknown, UNSET if variable is None else variable[0],
        )  # fmt: skip

    def remove(because: str) -> None:
        for old in same:
            table.remove(old)
            dropped.append(Dropped(old.name, old.value, old.provenance, because))

    match action.verb:
        case "set":
            remove(f"{here} sets it again")
            table.append(header(value))
        case "add":
            table.append(header(value))
        case "setifempty" if not same:
            table.append(header(value))
        case "echo" if exchange is not None:
            for name, sent in exchange.headers.items():
                if search(action.name, name, ignore_case=True) is not None:
                    table.append(replace(header(sent), name=name))
        case "append" | "merge":
            if not same:
                table.append(header(value))
            elif action.verb == "append" or value not in [part.strip() for part in same[0].value.split(",")]:
                both = header(joined((same[0].value, ", ", value)))
                table[table.index(same[0])] = replace(both, unknown=both.unknown or same[0].unknown)
        case "unset":
            if doubt is None:
                remove(f"{here} takes it away")
            for old in same if doubt is not None else ():
                table[table.index(old)] = replace(old, unknown=doubt)
        case "edit" | "edit*":
            for old in same:
                table[table.index(old)] = _edited(old, action)


def _edited(old: Header, action: Action) -> Header:
    """``old`` with what the pattern finds replaced, once or everywhere."""
    try:
        found = search(action.value, old.value)
    except UndeterminedError as undetermined:
        return Header(old.name, old.value, old.on, old.provenance, undetermined.why)
    if found is None:
        return old
    groups = (found[0], *found.groups())
    try:
        new = filled(
            _GROUP, lambda ref: groups[int(ref[1])] or "" if int(ref[1]) < len(groups) else "", action.replacement
        )
        if action.verb == "edit*":
            value = filled(re.compile(re.escape(found[0])), lambda _: new, old.value)
        else:
            value = joined((old.value[: found.start()], new, old.value[found.end() :]))
    except UndeterminedError as undetermined:
        return Header(old.name, old.value, old.on, old.provenance, undetermined.why)
    return Header(old.name, value, old.on, action.directive.provenance(), old.unknown)


def _value(action: Action, exchange: Exchange | None) -> tuple[str, str | None]:
    """The value for a request, and why it is not known."""
    text = action.value
    if text.startswith("expr="):
        if exchange is None:
            return text, "it is worked out for each request"
        try:
            return fill(text[5:], exchange), None
        except UndeterminedError as undetermined:
            return text, undetermined.why
    if "%" not in text:
        return text, None
    unknown: str | None = None

    def one(found: re.Match[str]) -> str:
        nonlocal unknown
        if found[1] == "%":
            return "%"
        if exchange is not None and found[3] in ("e", "s"):
            try:
                if found[3] == "s":
                    return exchange.tls_variable(found[2]) or "(null)"
                value = exchange.environment.value(found[2])
                return "(null)" if value is None else value
            except UndeterminedError:
                pass
        unknown = f"{found[0]} is known at run time only"
        return found[0]

    return filled(_VARIABLE, one, text), unknown


_COMPONENTS: Final = {
    "ssl": "OpenSSL/{openssl}", "fcgid": "mod_fcgid/…", "jk": "mod_jk/…", "wsgi": "mod_wsgi/… Python/…",
    "perl": "mod_perl/… Perl/…",
}  # fmt: skip
"""What modules add to the Server header (ap_add_version_component, as measured with Debian 12's); ``…`` for a release."""


def components(modules: Collection[str], library: Library) -> tuple[str, ...]:
    """What the loaded ``modules`` add to the Server header, with the crypto library's release where it is known."""
    release = library.release
    openssl = "…" if release is None else ".".join(map(str, release)) + ("" if release >= (3,) else "…")  # a letter
    return tuple(text.format(openssl=openssl) for module, text in _COMPONENTS.items() if module in modules)


def server_header(context: Context, version: str, added: tuple[str, ...], *, is_debian: bool) -> Header:
    """The Server header that ServerTokens makes (server/core.c, set_banner). ``added``: what modules add with ``Full``."""
    directive = next(iter(reversed(list(all_in(context, "servertokens")))), None)
    word = directive.args[0].lower() if directive is not None and directive.args else "full"
    place = directive.provenance() if directive is not None else default_of(f"httpd {version}")
    numbers = version.split(".")
    system = " (Debian)" if is_debian else " (Unix)"
    text = {
        "prod": "Apache", "productonly": "Apache", "major": f"Apache/{numbers[0]}", "minor": f"Apache/{'.'.join(numbers[:2])}",
        "min": f"Apache/{version}", "minimal": f"Apache/{version}", "os": f"Apache/{version}{system}",
    }.get(word, " ".join((f"Apache/{version}{system}", *added)))  # fmt: skip
    return Header("Server", text, "all", place)


def signature(context: Context, banner: str) -> tuple[str, Provenance | None]:
    """What error pages say about the server (ServerSignature, off unless said), and the line that decides."""
    directive = next(iter(reversed(list(all_in(context, "serversignature")))), None)
    word = directive.args[0].lower() if directive is not None and directive.args else "off"
    return (
        "" if word == "off" else f"{banner} Server at HOST Port PORT"
    ), None if directive is None else directive.provenance()


def single(headers: Iterable[Header], name: str) -> str | None:
    """The first value of a header."""
    return next((header.value for header in headers if header.name.lower() == name.lower()), None)
