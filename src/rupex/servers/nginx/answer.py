"""What one concrete request gets from an nginx configuration, and which lines decided it."""

from __future__ import annotations

import posixpath
from typing import Final, Protocol
from urllib.parse import unquote

from rupex.model import Header
from rupex.servers.common.patterns import UndeterminedError, search
from rupex.servers.contract import Answer, Because, Request
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.listeners import Listener, VirtualHost
from rupex.servers.nginx.locations import scope_identity
from rupex.servers.nginx.process import Outcome
from rupex.servers.nginx.scopes import ScopeReader
from rupex.servers.nginx.tls import TlsResolver
from rupex.servers.nginx.variables import Exchange

_PLAIN_TO_TLS: Final = 497
"""nginx's own number for a plain request to a TLS listener; what is sent is 400, unless an error page takes it."""


class Resolved(Protocol):
    """What a request is followed through: a resolved configuration."""

    http: Block
    tls: TlsResolver
    scopes: ScopeReader
    listeners: dict[tuple[str, int | None, bool], Listener]
    id_of: dict[tuple[int, tuple[str, int | None, bool]], str]


def answer_request(configuration: Resolved, request: Request) -> Answer | None:
    """Follow ``request`` through the configuration; None when nothing listens there."""
    listener = _listener(configuration, request)
    if listener is None or listener.default is None:
        return None
    transport = "tls" if listener.ssl else "plain"
    why: list[Because] = []
    try:
        virtual = listener.select(request.name)
    except UndeterminedError as undetermined:
        return Answer(endpoint="", scope="", transport=transport, unknown=undetermined.why)
    _explain_choice(listener, virtual, request, why)
    identity = configuration.id_of.get((id(virtual), (listener.address, listener.port, listener.quic)), "")
    refuses = configuration.tls.refuses((configuration.http, virtual.block)) if listener.ssl else None
    mismatch = listener.ssl != (request.scheme == "https")
    if mismatch:
        speaks = "TLS" if listener.ssl else "plain HTTP"
        why.append(Because(f"this listener speaks {speaks}, the URL says {request.scheme}", virtual.block.provenance()))
    elif refuses is not None:
        why.append(Because("the TLS handshake is refused", refuses))
    if (mismatch and not listener.ssl) or (refuses is not None and not mismatch):
        return Answer(endpoint=identity, scope="", transport=transport, why=tuple(why), closed=True)
    exchange = _exchange(configuration, listener, virtual, request)
    processor = configuration.scopes.processor(virtual)
    outcome = processor.error_answer(exchange, None, _PLAIN_TO_TLS) if mismatch else processor.answer(exchange)
    asked = outcome
    if request.status is not None and not mismatch:
        asked = processor.error_answer(
            _exchange(configuration, listener, virtual, request), outcome.location, request.status
        )
    status = asked.status if request.status is not None else outcome.status
    if status == _PLAIN_TO_TLS:
        status = 400
    _explain_outcome(outcome, virtual, why)
    exchange.status = status
    headers, unknown = _headers(configuration, asked, exchange, status, why)
    return Answer(
        endpoint=identity,
        scope=scope_identity(outcome.location)[0],
        transport=transport,
        status=None if outcome.closed else status,
        location=asked.target,
        headers=() if outcome.closed else tuple(headers),
        why=tuple(why),
        closed=outcome.closed,
        unknown=outcome.unknown or unknown,
    )


def _explain_outcome(outcome: Outcome, virtual: VirtualHost, why: list[Because]) -> None:
    why += [Because(message, place) for message, place in outcome.steps]
    if outcome.location is not None:
        location = outcome.location
        words = f"the path meets the {location.kind} location {location.pattern}"
        why.append(Because(words, location.block.provenance()))
    else:
        why.append(Because("no location decides; the server block answers itself", virtual.block.provenance()))
    if outcome.by is not None:
        why.append(Because(f"{outcome.by}", outcome.by.provenance()))
    elif outcome.handler is not None:
        why.append(Because(f"{outcome.handler}", outcome.handler.provenance()))


def _headers(
    configuration: Resolved, outcome: Outcome, exchange: Exchange, status: int | None, why: list[Because]
) -> tuple[list[tuple[str, str]], str | None]:
    """The headers of the answer, filled in for this request; and why one of them could not be."""
    sent, dropped = configuration.scopes.headers.of(outcome.chain)
    headers: list[tuple[str, str]] = []
    unknown = None
    if outcome.target is not None:
        headers.append(("Location", outcome.target))
    headers += [("WWW-Authenticate", realm) for realm in exchange.challenges]
    for header in sent:
        if not header.is_on(status or 200):
            why.append(
                Because(f"{header.name} is not sent with status {status}: {_why_not(header)}", header.provenance)
            )
            continue
        try:
            value = exchange.fill(header.value)
        except UndeterminedError as undetermined:
            value, unknown = header.value, unknown or undetermined.why
        if value:
            headers.append((header.name, value))
            why.append(Because(f"{header.name}: {value}", header.provenance))
    why += [Because(f"{lost.name} is dropped: {lost.because}", lost.provenance) for lost in dropped]
    return headers, unknown


def _why_not(header: Header) -> str:
    return f"it goes with {', '.join(map(str, header.on))} only" if header.on != "all" else "it does not apply"


def _listener(configuration: Resolved, request: Request) -> Listener | None:
    """The listener of the request's address and port: the address itself, else the one for every address."""
    every = "0.0.0.0"  # noqa: S104  nginx's own spelling
    found = [
        listener for listener in configuration.listeners.values() if listener.port == request.port and not listener.quic
    ]
    if request.address is not None:
        wildcard = "[::]" if request.address.startswith("[") else every
        exact = [listener for listener in found if listener.address == request.address]
        found = exact or [listener for listener in found if listener.address == wildcard]
    found.sort(key=lambda listener: (listener.address.startswith("["), listener.address != every))
    return found[0] if found else None


def _explain_choice(listener: Listener, virtual: VirtualHost, request: Request, why: list[Because]) -> None:
    here = next((listen for v, listen in listener.members if v is virtual), None)
    place = virtual.block.provenance() if here is None or here.provenance is None else here.provenance
    why.append(Because(f"the request meets the listener {listener.address}:{listener.port}", place))
    named = next(virtual.block.all("server_name"), None)
    if (virtual.names and listener.default is not virtual) or request.name.lower() in virtual.names:
        why.append(Because(f"{request.name} is a name of this server block", (named or virtual.block).provenance()))
    else:
        why.append(
            Because(
                f"no server block has the name {request.name}; the listener's default answers",
                virtual.block.provenance(),
            )
        )


def _exchange(configuration: Resolved, listener: Listener, virtual: VirtualHost, request: Request) -> Exchange:
    path = request.path or "/"
    sent = path + (f"?{request.query}" if request.query is not None else "")
    usual = 443 if request.scheme == "https" else 80
    host_header = request.name if request.port == usual else f"{request.name}:{request.port}"
    headers = {name.lower(): value for name, value in request.headers}
    exchange = Exchange(
        method=request.method,
        scheme="https" if listener.ssl else "http",
        host=request.name.lower(),
        host_header=headers.get("host", host_header),
        port=listener.port,
        address=listener.address,
        uri=normalise(path),
        args=request.query or "",
        request_uri=sent,
        server_name=virtual.names[0] if virtual.names else "",
        headers=headers,
        status=request.status,
        definitions=configuration.scopes.definitions,
        escaped="%" in path or "+" in path,
    )
    _keep_name_captures(virtual, exchange)
    return exchange


def _keep_name_captures(virtual: VirtualHost, exchange: Exchange) -> None:
    """What a server name that is a pattern captured of the host (ngx_http_find_virtual_server)."""
    for name in virtual.names:
        if name.startswith("~"):
            found = search(name[1:], exchange.host, ignore_case=True)
            if found is not None:
                exchange.capture(found)
                return


def normalise(path: str) -> str:
    """A request path as locations see it: decoded, slashes merged, dots resolved (ngx_http_parse_complex_uri)."""
    decoded = unquote(path, errors="surrogateescape") if "%" in path else path
    resolved = posixpath.normpath(decoded)
    if decoded.endswith(("/", "/.", "/..")) and not resolved.endswith("/"):
        resolved += "/"
    return "/" + resolved.lstrip("/")
