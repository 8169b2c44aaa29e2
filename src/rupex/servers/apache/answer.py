"""What one concrete request gets from an httpd configuration, and which lines decided it."""

from __future__ import annotations

from dataclasses import replace
from typing import Final, Protocol

from rupex.model import Header, Provenance
from rupex.servers.apache.exchange import Exchange, decoded, normalise
from rupex.servers.apache.files import MOST_INNER
from rupex.servers.apache.headers import Sent
from rupex.servers.apache.hosts import Listener, VirtualHost
from rupex.servers.apache.load import LoadedConfig, last_of
from rupex.servers.apache.outcome import Outcome, error_page, moved_by_error
from rupex.servers.apache.scopes import ScopeReader
from rupex.servers.apache.sections import Context, last_in
from rupex.servers.apache.tls import TlsResolver, speaks_tls
from rupex.servers.apache.visitors import client_address
from rupex.servers.common.answers import AnswerBuilder, climbs, listeners_for
from rupex.servers.common.clients import NONE, SUCCESS, what_is_made_of
from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.common.samples import EVERY
from rupex.servers.contract import Answer, Request

_FOR_ALL: Final = (["all", "granted"], ["from", "all"])
"""The ends of lines that grant access to all clients."""
_OF_GATEWAYS: Final = (502, 503, 504)
"""What the server itself answers where the one behind does not."""


class Resolved(Protocol):
    """What a request is followed through: a resolved configuration."""

    config: LoadedConfig
    tls: TlsResolver
    scopes: ScopeReader
    listeners: list[Listener]
    id_of: dict[tuple[int, str, int], str]


def answer_request(configuration: Resolved, request: Request) -> Answer | None:
    """Follow ``request`` through the configuration; None when nothing listens there."""
    listener = next(iter(listeners_for(request, configuration.listeners, (EVERY,))), None)
    if listener is None:
        return None
    virtual = listener.select(request.name)
    identity = configuration.id_of.get((id(virtual), listener.address, listener.port), "")
    builder = AnswerBuilder(identity, is_tls=speaks_tls(configuration.config, listener))
    _explain_choice(listener, virtual, request, builder)
    exchange = _exchange(configuration.config, virtual, request)
    if builder.has_other_scheme(request, _place(listener, virtual)):
        if not builder.is_tls:
            return builder.closed()
        first = listener.default  # no request was read, and so no name
        refused = Outcome(context=configuration.scopes.processor(first).sections.base, status=400, by_server=True)
        _add_headers(configuration, first, refused, exchange, None, builder)
        return builder.answer("", 400)
    if climbs(decoded(request.path or "/")):
        builder.step("the path leads above the root", _place(listener, virtual))
        refused = Outcome(context=configuration.scopes.processor(virtual).sections.base, status=400, by_server=True)
        _add_headers(configuration, virtual, refused, exchange, None, builder)
        return builder.answer("", 400)
    try:
        if builder.is_tls and _refuses_client(configuration, listener, virtual, request, exchange, builder):
            return builder.closed()
    except UndeterminedError as undetermined:
        return builder.answer("", None, unknown=undetermined.why)
    outcome = configuration.scopes.processor(virtual).answer_client(exchange)
    if outcome.is_closed:
        _explain_outcome(outcome, exchange, builder)
        return builder.closed(_scope_of(outcome))
    asked = request.status
    if asked is not None and not _is_kept(outcome, asked):
        outcome = moved_by_error(outcome, asked)
        asked = outcome.status if outcome.location is not None else asked
    _explain_outcome(outcome, exchange, builder)
    outcome = _after_error_pages(configuration, virtual, outcome, exchange, builder)
    unknown = _add_headers(configuration, virtual, outcome, exchange, asked, builder)
    return builder.answer(
        _scope_of(outcome),
        outcome.status if asked is None else asked,
        location=outcome.location,
        unknown=outcome.unknown or unknown,
    )


def _refuses_client(
    configuration: Resolved,
    listener: Listener,
    virtual: VirtualHost,
    request: Request,
    exchange: Exchange,
    builder: AnswerBuilder,
) -> bool:
    """Whether the TLS handshake ends for the client's certificate, or the want of one. What comes out is put down in
    ``exchange``. Raises :class:`UndeterminedError`."""
    exchange.client = (NONE, None)
    exchange.is_tls13 = "TLSv1.3" in (configuration.tls.resolve(listener, virtual).protocols.value or ())
    asked = configuration.tls.asks_certificate(listener, virtual)
    if asked is None and (exchange.is_tls13 or request.certificate is None):
        return False
    verdict = configuration.tls.verdict_of(listener, virtual, request.certificate)
    exchange.could_show = (verdict, request.certificate)
    if asked is None:
        return False
    exchange.asks_clients, place = asked
    word = exchange.asks_clients
    shown = what_is_made_of(verdict, is_demanded=word == "require", takes_any=word == "optional_no_ca")
    if shown.step is not None:
        builder.step(shown.step, place)
    exchange.client = (verdict if verdict in (NONE, SUCCESS) else "GENEROUS", request.certificate)
    return not shown.goes_on


def _explain_outcome(outcome: Outcome, exchange: Exchange, builder: AnswerBuilder) -> None:
    for step in outcome.steps:
        builder.step(f"{step}", step.provenance())
    if exchange.mapped_by is not None and exchange.file:
        builder.step(f"{exchange.mapped_by} maps it to {exchange.file}", exchange.mapped_by.provenance())
    for applied in outcome.context:
        if applied.section is not None:
            holds = "holds here" if applied.doubt is None else f"may hold here: {applied.doubt}"
            builder.step(f"{applied.section} {holds}", applied.section.provenance())
    admitting = exchange.let_in_by
    visitor = exchange.account if exchange.is_logged_in else exchange.source
    if admitting is not None and visitor is not None and admitting.raw.lower().split()[-2:] not in _FOR_ALL:
        builder.step(f"{admitting} lets {visitor} in", admitting.provenance())
    if outcome.by is not None and outcome.by not in outcome.steps:
        builder.step(f"{outcome.by}", outcome.by.provenance())


def _after_error_pages(
    configuration: Resolved, virtual: VirtualHost, outcome: Outcome, exchange: Exchange, builder: AnswerBuilder
) -> Outcome:
    """What becomes of a request when the page of its error is redirected or forbidden by a rule: then it is too."""
    for _ in range(MOST_INNER):
        page = None
        if outcome.by_server and outcome.location is None:
            page = _error_answer(configuration, virtual, outcome.context, exchange, outcome.status)
        if page is None or not (page.location is not None or _is_status_of_rule(page)):
            break
        if page.by is not None:
            builder.step(f"the page for {outcome.status} meets {page.by}", page.by.provenance())
        outcome = moved_by_error(page, page.status) if page.location is None else page
    return outcome


def _scope_of(outcome: Outcome) -> str:
    """The id of the narrowest scope that the path of a request lies in."""
    identity = "any"
    longest = 0
    for applied in outcome.context:
        if applied.kind == "path" and applied.section is not None and applied.section.args:
            path = applied.section.args[-1]
            if applied.section.key == "location" and len(path) > longest and path != "/":
                identity, longest = f"prefix:{path}", len(path)
    return identity


def _add_headers(
    configuration: Resolved,
    virtual: VirtualHost,
    outcome: Outcome,
    exchange: Exchange,
    asked: int | None,
    builder: AnswerBuilder,
) -> str | None:
    """Add the headers of the answer; returns why one of them is not known. ``asked``: a status asked for in place of its own."""
    context = outcome.context
    is_own = outcome.by_server or (asked is not None and asked >= 300 and not _is_kept(outcome, asked))
    status = asked if asked is not None else outcome.status
    inner = _error_answer(configuration, virtual, context, exchange, status) if is_own else None
    if inner is not None and inner.unknown is not None:
        return inner.unknown
    exchange = outcome.exchange or exchange
    if inner is not None and (inner.status or 200) < 400:  # a page that fails itself leaves the first answer as it was
        context, is_own, exchange = inner.context, inner.by_server, inner.exchange or exchange
    if outcome.proxied is None or asked is not None:
        exchange = replace(exchange, status=status)
    answering = inner if inner is not None and context is inner.context else outcome
    exchange = replace(
        exchange, content_type=configuration.scopes.types.of(answering, context, exchange, is_own=is_own)
    )
    # TRACE is answered before any header is set.
    is_trace = exchange.method == "TRACE" and not outcome.by_server and outcome.proxied is None
    sent, dropped = Sent((), ())
    if not is_trace:
        sent, dropped = configuration.scopes.headers(
            context, exchange, is_proxied=outcome.is_passed_on, is_own=is_own
        )  # fmt: skip
    names = {header.name.lower() for header in sent if not is_own or header.is_on(status or 0)}
    if "server" not in names and (is_own or outcome.proxied is None):  # else the other server's goes out
        builder.send("Server", configuration.scopes.banner(context).value)
    if is_trace:
        return None
    if outcome.variant and exchange.method in ("GET", "HEAD"):
        builder.send("Content-Location", outcome.variant)
        builder.send("Vary", "negotiate")
        builder.send("TCN", "choice")
    if outcome.location is not None:
        builder.send("Location", outcome.location)
    login = outcome.login or (outcome.context if status == 401 else None if inner is None else inner.login)
    if login is not None:
        name, kind = (last_in(login, word) for word in ("authname", "authtype"))
        realm = name.args[0] if name is not None and name.args else ""
        word = "" if kind is None else kind.word
        if kind is not None and word == "form":
            doubt = "mod_session keeps answers from being kept where it has a session"
            builder.doubt("Cache-Control", "no-store", doubt, kind.provenance())
        else:
            is_digest = word == "digest"
            challenge = f'Digest realm="{realm}", …' if is_digest else f'Basic realm="{realm}"'
            builder.send("WWW-Authenticate", challenge)
    for header in sent:
        if is_own and not header.is_on(status or 0):
            builder.omit(header, "goes with answers of a handler only: write Header always")
            continue
        why = _doubt(header)
        if why is None:
            builder.send(header.name, header.value, header.provenance)
        else:
            builder.doubt(header.name, header.value, why, header.provenance)
    builder.drop(dropped)
    builder.drop(configuration.scopes.without_effect(virtual, outcome))
    return None


def _is_kept(outcome: Outcome, status: int) -> bool:
    """Whether an answer with a status comes from the server behind, as it is."""
    if outcome.proxied is None or status in _OF_GATEWAYS:
        return False
    override = last_in(outcome.context, "proxyerroroverride")
    if status < 400 or override is None or not override.args or override.args[0].lower() != "on":
        return True
    return len(override.args) > 1 and str(status) not in override.args[1:]


def _error_answer(
    configuration: Resolved, virtual: VirtualHost, context: Context, exchange: Exchange, status: int | None
) -> Outcome | None:
    """What the site's own page for an error answers, None where there is none. It meets rules like any other request, and may
    be redirected by them; a redirect of mod_alias leaves the first error as it was (both measured on 2.4.71)."""
    directive = error_page(context, status) if status is not None and status >= 400 else None
    page = "" if directive is None else directive.args[1]
    if not page.startswith("/"):
        return None
    outcome = configuration.scopes.processor(virtual).answer(_moved(exchange, page))
    is_moved = outcome.location is not None and outcome.by is not None and outcome.by.key != "rewriterule"
    return None if is_moved else outcome


def _is_status_of_rule(outcome: Outcome) -> bool:
    """Whether a rule made the answer an error. Other errors of an error's page leave the first as it was."""
    is_of_page = not outcome.is_folder  # and not of one that stands for a folder
    return is_of_page and outcome.by is not None and outcome.by.key == "rewriterule" and (outcome.status or 0) >= 400


def _doubt(header: Header) -> str | None:
    return header.unknown if isinstance(header.unknown, str) else None


def _moved(exchange: Exchange, page: str) -> Exchange:
    path, _, query = page.partition("?")
    return replace(
        exchange,
        uri=path,
        raw_path="",
        args=query or None,
        method="GET",
        file="",
        environment=exchange.environment_behind(),
    )


def _place(listener: Listener, virtual: VirtualHost) -> Provenance:
    return listener.listen.directive.provenance() if virtual.section is None else virtual.section.provenance()


def _explain_choice(listener: Listener, virtual: VirtualHost, request: Request, builder: AnswerBuilder) -> None:
    listen = listener.listen.directive.provenance()
    builder.step(f"the request meets the listener {listener.address}:{listener.port}", listen)
    if virtual.section is None:
        builder.step("no virtual host is meant; the main server answers", listen)
    elif listener.knows(request.name):
        named = last_of(virtual.directives, "servername") or virtual.section
        builder.step(f"{request.name} is a name of this virtual host", named.provenance())
    else:
        section = virtual.section.provenance()
        builder.step(f"no virtual host has the name {request.name}; the first one answers", section)


def _exchange(config: LoadedConfig, virtual: VirtualHost, request: Request) -> Exchange:
    path = request.path or "/"
    sent = path + (f"?{request.query}" if request.query is not None else "")
    headers = {name.lower(): value for name, value in request.headers}
    return Exchange(
        method=request.method,
        scheme=request.scheme,
        host=request.name.lower(),
        port=request.port,
        uri=normalise(path, keeps_slashes=virtual.own_word("allowencodedslashes") == "nodecode"),
        args=request.query,
        sent=sent,
        raw_path=path,
        server_name=virtual.server_name,
        headers=headers,
        source=client_address(config, virtual, request.source, headers),
        peer=request.source,
        account=request.account,
    )


__all__ = ["UndeterminedError", "answer_request"]
