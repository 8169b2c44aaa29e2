"""What one concrete request gets from an httpd configuration, and which lines decided it."""

from __future__ import annotations

import posixpath
import re
from typing import Protocol

from rupex.model import Header, Provenance
from rupex.servers.apache.exchange import Exchange, decoded
from rupex.servers.apache.headers import headers_of
from rupex.servers.apache.hosts import Listener, VirtualHost
from rupex.servers.apache.load import LoadedConfig, last_of
from rupex.servers.apache.process import MOST_INNER, Outcome
from rupex.servers.apache.scopes import ScopeReader, error_page
from rupex.servers.apache.sections import Context, all_in
from rupex.servers.apache.tls import speaks_tls
from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.common.samples import EVERY
from rupex.servers.contract import Answer, Because, Request


class Resolved(Protocol):
    """What a request is followed through: a resolved configuration."""

    config: LoadedConfig
    scopes: ScopeReader
    listeners: list[Listener]
    id_of: dict[tuple[int, str, int], str]


def answer_request(configuration: Resolved, request: Request) -> Answer | None:
    """Follow ``request`` through the configuration; None when nothing listens there."""
    listener = _listener(configuration, request)
    if listener is None:
        return None
    why: list[Because] = []
    virtual = listener.select(request.name)
    _explain_choice(listener, virtual, request, why)
    identity = configuration.id_of.get((id(virtual), listener.address, listener.port), "")
    is_tls = speaks_tls(configuration.config, virtual)
    transport = "tls" if is_tls else "plain"
    if is_tls != (request.scheme == "https"):
        told = "TLS" if is_tls else "plain HTTP"
        why.append(Because(f"this listener speaks {told}, the URL says {request.scheme}", _place(listener, virtual)))
        if not is_tls:
            return Answer(endpoint=identity, scope="", transport=transport, why=tuple(why), closed=True)
        mismatch = Outcome(context=configuration.scopes.processor(virtual).sections.base, status=400, by_server=True)
        headers, _ = _headers(configuration, virtual, mismatch, _exchange(virtual, request), None, why)
        return Answer(
            endpoint=identity,
            scope="",
            transport=transport,
            status=400,
            headers=tuple(headers),
            why=tuple(why),
        )
    exchange = _exchange(virtual, request)
    outcome = configuration.scopes.processor(virtual).answer(exchange)
    for step in outcome.steps:
        why.append(Because(f"{step}", step.provenance()))
    if exchange.mapped_by is not None and exchange.file:
        why.append(Because(f"{exchange.mapped_by} maps it to {exchange.file}", exchange.mapped_by.provenance()))
    for applied in outcome.context:
        if applied.section is not None:
            why.append(Because(f"{applied.section} holds here", applied.section.provenance()))
    if outcome.by is not None and outcome.by not in outcome.steps:
        why.append(Because(f"{outcome.by}", outcome.by.provenance()))
    for _ in range(MOST_INNER):
        page = None
        if outcome.by_server and outcome.location is None:
            page = _error_answer(configuration, virtual, outcome.context, exchange, outcome.status)
        if page is None or not (page.location is not None or _is_status_of_rule(page)):
            break
        if page.by is not None:
            why.append(Because(f"the page for {outcome.status} meets {page.by}", page.by.provenance()))
        outcome = page  # the error's own page is redirected or forbidden by a rule, and so is the request
    headers, unknown = _headers(configuration, virtual, outcome, exchange, request.status, why)
    status = outcome.status if request.status is None else request.status
    return Answer(
        endpoint=identity,
        scope=_scope_of(configuration, listener, virtual, outcome, exchange),
        transport=transport,
        status=status,
        location=outcome.location,
        headers=tuple(headers),
        why=tuple(why),
        unknown=outcome.unknown or unknown,
    )


def _scope_of(
    configuration: Resolved, listener: Listener, virtual: VirtualHost, outcome: Outcome, exchange: Exchange
) -> str:
    """The id of the narrowest scope that the path of a request lies in."""
    best = "any"
    longest = 0
    for applied in outcome.context:
        if applied.kind == "path" and applied.section is not None and applied.section.args:
            path = applied.section.args[-1]
            if applied.section.key == "location" and len(path) > longest and path != "/":
                best, longest = f"prefix:{path}", len(path)
    return best


def _headers(
    configuration: Resolved,
    virtual: VirtualHost,
    outcome: Outcome,
    exchange: Exchange,
    asked: int | None,
    why: list[Because],
) -> tuple[list[tuple[str, str]], str | None]:
    """The headers of the answer, and why one of them is not known."""
    context = outcome.context
    is_own = outcome.by_server or (asked is not None and asked >= 300)
    status = asked if asked is not None else outcome.status
    inner = _error_answer(configuration, virtual, context, exchange, status) if is_own else None
    if inner is not None and inner.unknown is not None:
        return [], inner.unknown
    if inner is not None and (inner.status or 200) < 400:  # a page that fails itself leaves the first answer as it was
        context, is_own = inner.context, inner.by_server
    sent, dropped = headers_of(context, exchange) if "headers" in configuration.config.modules else ((), ())
    headers: list[tuple[str, str]] = [("Server", configuration.scopes.banner(context).value)]
    if exchange.method == "TRACE" and not outcome.by_server:
        return headers, None  # answered before any header is set
    unknown: str | None = None
    if outcome.location is not None:
        headers.append(("Location", outcome.location))
    if status == 401:
        realm = next((d.args[0] for d in all_in(context, "authname") if d.args), "")
        headers.append(("WWW-Authenticate", f'Basic realm="{realm}"'))
    for header in sent:
        if is_own and header.on != "all":
            why.append(
                Because(f"{header.name} goes with answers of a handler only: write Header always", header.provenance)
            )
            continue
        unknown = unknown or _doubt(header)
        headers.append((header.name, header.value))
        why.append(Because(f"{header.name}: {header.value}", header.provenance))
    lost_too = configuration.scopes.without_effect(virtual, outcome)
    why += [Because(f"{lost.name} is dropped: {lost.because}", lost.provenance) for lost in (*dropped, *lost_too)]
    return headers, unknown


def _error_answer(
    configuration: Resolved, virtual: VirtualHost, context: Context, exchange: Exchange, status: int | None
) -> Outcome | None:
    """What the site's own page for an error answers, None where there is none. It meets rules like any other request, and may
    be redirected by them; a redirect of mod_alias leaves the first error as it was (both measured on 2.4.71)."""
    page = error_page(context, status) if status is not None and status >= 400 else None
    if page is not None and "://" in page:
        return Outcome(context=context, status=302, location=page, by_server=True)
    if page is None or not page.startswith("/"):
        return None
    outcome = configuration.scopes.processor(virtual).answer(_moved(exchange, page))
    is_moved = outcome.location is not None and outcome.by is not None and outcome.by.key != "rewriterule"
    return None if is_moved else outcome


def _is_status_of_rule(outcome: Outcome) -> bool:
    """Whether a rule made the answer an error. Other errors of an error's page leave the first as it was."""
    return outcome.by is not None and outcome.by.key == "rewriterule" and (outcome.status or 0) >= 400


def _doubt(header: Header) -> str | None:
    return header.unknown if isinstance(header.unknown, str) else None


def _moved(exchange: Exchange, page: str) -> Exchange:
    from dataclasses import replace

    path, _, query = page.partition("?")
    return replace(exchange, uri=path, args=query or None, method="GET", file="", sent=exchange.sent)


def _place(listener: Listener, virtual: VirtualHost) -> Provenance:
    return listener.listen.directive.provenance() if virtual.section is None else virtual.section.provenance()


def _listener(configuration: Resolved, request: Request) -> Listener | None:
    """The listener of the request's address and port: that of the address itself, else of every address."""
    found = [listener for listener in configuration.listeners if listener.port == request.port]
    if request.address is not None:
        found = [one for one in found if one.address == request.address] or [
            one for one in found if one.address == EVERY
        ]
    found.sort(key=lambda listener: listener.address != EVERY)
    return found[0] if found else None


def _explain_choice(listener: Listener, virtual: VirtualHost, request: Request, why: list[Because]) -> None:
    why.append(
        Because(
            f"the request meets the listener {listener.address}:{listener.port}", listener.listen.directive.provenance()
        )
    )
    if listener.knows(request.name) and virtual.section is not None:
        said = last_of(virtual.directives, "servername") or virtual.section
        why.append(Because(f"{request.name} is a name of this virtual host", said.provenance()))
    elif virtual.section is not None:
        why.append(
            Because(f"no virtual host has the name {request.name}; the first one answers", virtual.section.provenance())
        )
    else:
        why.append(Because("no virtual host is meant; the main server answers", listener.listen.directive.provenance()))


def _exchange(virtual: VirtualHost, request: Request) -> Exchange:
    path = request.path or "/"
    sent = path + (f"?{request.query}" if request.query is not None else "")
    headers = {name.lower(): value for name, value in request.headers}
    return Exchange(
        method=request.method,
        scheme=request.scheme,
        host=request.name.lower(),
        port=request.port,
        uri=normalise(path),
        args=request.query,
        sent=sent,
        server_name=virtual.server_name,
        headers=headers,
    )


def normalise(path: str) -> str:
    """A request path as sections see it: decoded, slashes merged, dots resolved (ap_normalize_path)."""
    text = re.sub("/{2,}", "/", decoded(path))
    resolved = posixpath.normpath(text)
    if text.endswith(("/", "/.", "/..")) and not resolved.endswith("/"):
        resolved += "/"
    return "/" + resolved.lstrip("/")


__all__ = ["UndeterminedError", "answer_request", "normalise"]
