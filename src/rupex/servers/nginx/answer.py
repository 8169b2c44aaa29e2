"""What one concrete request gets from an nginx configuration, and which lines decided it."""

from __future__ import annotations

import posixpath
from typing import TYPE_CHECKING
from urllib.parse import unquote

from rupex.servers.family import Answer, Because, Request
from rupex.servers.nginx.headers import added_headers, server_header
from rupex.servers.nginx.listeners import Listener, Virtual
from rupex.servers.nginx.process import scope_identity
from rupex.servers.nginx.variables import Exchange
from rupex.servers.patterns import UndeterminedError

if TYPE_CHECKING:
    from rupex.servers.nginx.resolve import NginxConfiguration


def answer_request(configuration: NginxConfiguration, request: Request) -> Answer | None:
    """Follow ``request`` through the configuration; None when nothing listens there."""
    listener = _listener(configuration, request)
    if listener is None or listener.default is None:
        return None
    why: list[Because] = []
    try:
        virtual = listener.select(request.name)
    except UndeterminedError as undetermined:
        return Answer(endpoint="", scope="", transport="tls" if listener.ssl else "plain", unknown=undetermined.why)
    _explain_choice(listener, virtual, request, why)
    endpoint = configuration.endpoint_of.get((id(virtual), (listener.address, listener.port, listener.quic)))
    exchange = _exchange(listener, virtual, request)
    transport = "tls" if listener.ssl else "plain"
    if listener.ssl != (request.scheme == "https"):
        speaks = "TLS" if listener.ssl else "plain HTTP"
        why.append(Because(f"this listener speaks {speaks}, the URL says {request.scheme}", virtual.block.provenance()))
        if not listener.ssl:
            return Answer(
                endpoint=endpoint.id if endpoint else "", scope="", transport=transport, why=tuple(why), closed=True
            )
    outcome = configuration.processor(virtual).answer(exchange)
    if outcome.location is not None:
        location = outcome.location
        why.append(Because(f"the path meets this {location.kind} location", location.block.provenance()))
    else:
        why.append(Because("no location decides; the server block answers itself", virtual.block.provenance()))
    if outcome.by is not None:
        why.append(Because(f"{outcome.by}", outcome.by.provenance()))
    status = request.status if request.status is not None else outcome.status
    headers: list[tuple[str, str]] = []
    tokens = server_header(outcome.chain, configuration.release)
    headers.append(("Server", tokens.value or ""))
    if outcome.target is not None:
        headers.append(("Location", outcome.target))
    added, dropped = added_headers(outcome.chain)
    unknown = outcome.unknown
    for header in added:
        if not header.is_on(status or 200):
            why.append(Because(f'{header.name} is not sent with status {status}: no "always"', header.provenance))
            continue
        try:
            value = exchange.fill(header.value)
        except UndeterminedError as undetermined:
            value, unknown = header.value, unknown or undetermined.why
        if value:
            headers.append((header.name, value))
            why.append(Because(f"{header.name}: {value}", header.provenance))
    why += [Because(f"{lost.name} is dropped: {lost.because}", lost.provenance) for lost in dropped]
    return Answer(
        endpoint=endpoint.id if endpoint is not None else "",
        scope=scope_identity(outcome.location)[0],
        transport=transport,
        status=None if outcome.closed else status,
        location=outcome.target,
        headers=() if outcome.closed else tuple(headers),
        why=tuple(why),
        closed=outcome.closed,
        unknown=unknown,
    )


def _listener(configuration: NginxConfiguration, request: Request) -> Listener | None:
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


def _explain_choice(listener: Listener, virtual: Virtual, request: Request, why: list[Because]) -> None:
    here = next((listen for v, listen in listener.members if v is virtual), None)
    place = virtual.block.provenance() if here is None or here.directive is None else here.directive.provenance()
    why.append(Because(f"the request meets the listener {listener.address}:{listener.port}", place))
    named = virtual.name_directive
    if (virtual.names and listener.default is not virtual) or request.name.lower() in virtual.names:
        why.append(Because(f"{request.name} is a name of this server block", (named or virtual.block).provenance()))
    else:
        why.append(
            Because(
                f"no server block has the name {request.name}; the listener's default answers",
                virtual.block.provenance(),
            )
        )


def _exchange(listener: Listener, virtual: Virtual, request: Request) -> Exchange:
    path = request.path or "/"
    sent = path + (f"?{request.query}" if request.query is not None else "")
    usual = 443 if request.scheme == "https" else 80
    host_header = request.name if request.port == usual else f"{request.name}:{request.port}"
    headers = {name.lower(): value for name, value in request.headers}
    return Exchange(
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
    )


def normalise(path: str) -> str:
    """A request path as locations see it: decoded, slashes merged, dots resolved (ngx_http_parse_complex_uri)."""
    decoded = unquote(path, errors="surrogateescape")
    resolved = posixpath.normpath(decoded)
    if decoded.endswith(("/", "/.", "/..")) and not resolved.endswith("/"):
        resolved += "/"
    return "/" + resolved.lstrip("/")
