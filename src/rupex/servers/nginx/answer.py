"""What one concrete request gets from an nginx configuration, and which lines decided it."""

from __future__ import annotations

from typing import Final, Protocol
from urllib.parse import unquote

from rupex.model import ClientCertificate, Header
from rupex.servers.common.accounts import AccountFiles
from rupex.servers.common.answers import AnswerBuilder, climbs, listeners_for, without_dots
from rupex.servers.common.clients import NONE, what_is_made_of
from rupex.servers.common.patterns import UndeterminedError, search
from rupex.servers.contract import Answer, Request
from rupex.servers.nginx.access import client_address
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.headers import BY_EXPIRES, cache_control
from rupex.servers.nginx.listeners import Listener, VirtualHost
from rupex.servers.nginx.load import LoadedConfig
from rupex.servers.nginx.locations import scope_identity
from rupex.servers.nginx.process import Outcome
from rupex.servers.nginx.scopes import ScopeReader
from rupex.servers.nginx.tls import TlsResolver, inherited
from rupex.servers.nginx.upstream import may_send_server
from rupex.servers.nginx.variables import Exchange, is_constant

_NO_CERTIFICATE: Final = 496
_WRONG_CERTIFICATE: Final = 495
_PLAIN_TO_TLS: Final = 497
"""nginx's own numbers for a client without the certificate that is asked for, and for a plain request to a TLS listener. What is
sent is 400, unless an error page takes it."""
_EVERY: Final = ("0.0.0.0", "[::]")  # noqa: S104  how nginx writes every address


class Resolved(Protocol):
    """What a request is followed through: a resolved configuration."""

    config: LoadedConfig
    http: Block
    tls: TlsResolver
    scopes: ScopeReader
    listeners: dict[tuple[str, int | None, bool], Listener]
    id_of: dict[tuple[int, tuple[str, int | None, bool]], str]


def answer_request(configuration: Resolved, request: Request) -> Answer | None:
    """Follow ``request`` through the configuration; None when nothing listens there."""
    tcp = (listener for listener in configuration.listeners.values() if not listener.quic)
    listener = next(iter(listeners_for(request, tcp, _EVERY)), None)
    if listener is None or listener.default is None:
        return None
    try:
        virtual = listener.select(request.name)
    except UndeterminedError as undetermined:
        return AnswerBuilder("", is_tls=listener.ssl).answer("", None, unknown=undetermined.why)
    identity = configuration.id_of.get((id(virtual), (listener.address, listener.port, listener.quic)), "")
    builder = AnswerBuilder(identity, is_tls=listener.ssl)
    _explain_choice(listener, virtual, request, builder)
    refuses = configuration.tls.refuses((configuration.http, virtual.block)) if listener.ssl else None
    if builder.has_other_scheme(request, virtual.block.provenance()):
        if not listener.ssl:
            return builder.closed()
        return _of_bad_request(configuration, listener, virtual, request, _PLAIN_TO_TLS, builder)
    if refuses is not None:
        builder.step("the TLS handshake is refused", refuses)
        return builder.closed()
    if climbs(unquote(request.path or "/", errors="surrogateescape")):
        builder.step("the path leads above the root", virtual.block.provenance())
        return _of_bad_request(configuration, listener, listener.default, request, 400, builder)
    exchange = _exchange(configuration, listener, virtual, request)
    try:
        refused = _refused_client(configuration, listener, virtual, request, exchange, builder)
    except UndeterminedError as undetermined:
        return builder.answer("", None, unknown=undetermined.why)
    if refused is not None:
        return _of_bad_request(configuration, listener, virtual, request, refused, builder, exchange.client)
    processor = configuration.scopes.processor(virtual)
    outcome = sent = processor.answer(exchange)
    if request.status is not None:
        error = _exchange(configuration, listener, virtual, request)
        sent = processor.error_answer(error, outcome.location, request.status)
    return _answer(configuration, virtual, exchange, outcome, sent, sent.status, builder)


def _refused_client(
    configuration: Resolved,
    listener: Listener,
    virtual: VirtualHost,
    request: Request,
    exchange: Exchange,
    builder: AnswerBuilder,
) -> int | None:
    """The error with which a client is refused for its certificate, or the want of one; None for one that goes on. What comes out
    is put down in ``exchange``. Raises :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    chain = (configuration.http, virtual.block)
    asked = configuration.tls.asks_certificate(chain) if listener.ssl else None
    if asked is None:
        return None
    word, place = asked
    verdict = configuration.tls.verdict_of(chain, request.certificate)
    exchange.client = (verdict, request.certificate)
    shown = what_is_made_of(verdict, is_demanded=word == "on", takes_any=word == "optional_no_ca")
    if shown.step is not None:
        builder.step(shown.step, place)
    return None if shown.goes_on else _NO_CERTIFICATE if verdict == NONE else _WRONG_CERTIFICATE


def _of_bad_request(
    configuration: Resolved,
    listener: Listener,
    virtual: VirtualHost,
    request: Request,
    error: int,
    builder: AnswerBuilder,
    client: tuple[str, ClientCertificate | None] = (NONE, None),
) -> Answer:
    """What a request gets that is refused before a location is looked for. ``client``: what came out of its certificate."""
    exchange = _exchange(configuration, listener, virtual, request)
    exchange.client = client
    outcome = configuration.scopes.processor(virtual).error_answer(exchange, None, error)
    status = outcome.status
    sent = 400 if status in (_WRONG_CERTIFICATE, _NO_CERTIFICATE, _PLAIN_TO_TLS) else status
    return _answer(configuration, virtual, exchange, outcome, outcome, sent, builder)


def _answer(
    configuration: Resolved,
    virtual: VirtualHost,
    exchange: Exchange,
    outcome: Outcome,
    sent: Outcome,
    status: int | None,
    builder: AnswerBuilder,
) -> Answer:
    """The answer with its headers. ``outcome``: what becomes of the request; ``sent``: the same, or the error page asked for."""
    _explain_outcome(outcome, virtual, builder)
    exchange.status, exchange.content_type = status, sent.content_type
    _add_headers(configuration, sent, exchange, status, builder)
    scope = scope_identity(outcome.location)[0]
    if outcome.closed:
        return builder.closed(scope, location=sent.target, unknown=outcome.unknown)
    return builder.answer(scope, status, location=sent.target, unknown=outcome.unknown)


def _explain_outcome(outcome: Outcome, virtual: VirtualHost, builder: AnswerBuilder) -> None:
    for message, place in outcome.steps:
        builder.step(message, place)
    location = outcome.location
    if location is not None:
        builder.step(f"the path meets the {location.kind} location {location.pattern}", location.block.provenance())
    else:
        builder.step("no location decides; the server block answers itself", virtual.block.provenance())
    decided = outcome.by or outcome.handler
    if decided is not None:
        builder.step(f"{decided}", decided.provenance())


def _add_headers(
    configuration: Resolved, outcome: Outcome, exchange: Exchange, status: int | None, builder: AnswerBuilder
) -> None:
    """Add the headers of the answer, filled in for this request."""
    sent, dropped = configuration.scopes.headers.of(outcome.chain)
    if outcome.target is not None:
        builder.send("Location", outcome.target)
    for realm in exchange.challenges:
        builder.send("WWW-Authenticate", realm)
    passes_server = outcome.handler is not None and may_send_server(outcome.handler, outcome.chain)
    own_server = configuration.scopes.headers.signature(outcome.chain).value
    for header in sent:
        if passes_server and (header.name, header.value) == ("Server", own_server):
            builder.doubt(header.name, header.value, "the server behind may send its own", header.provenance)
            continue
        if not header.is_on(status or 200):
            builder.omit(header, f"is not sent with status {status}: {_why_not(header)}")
            continue
        if isinstance(header.unknown, str) and is_constant(header.value):
            builder.doubt(header.name, header.value, header.unknown, header.provenance)
            continue
        try:
            value = exchange.fill(header.value)
        except UndeterminedError as undetermined:
            builder.doubt(header.name, header.value, undetermined.why, header.provenance)
            continue
        if header.value.startswith(BY_EXPIRES):
            value, doubt = cache_control(value.removeprefix(BY_EXPIRES))
            if doubt:
                builder.doubt(header.name, value, doubt, header.provenance)
                continue
        if value:
            builder.send(header.name, value, header.provenance)
    builder.drop(dropped)


def _why_not(header: Header) -> str:
    return f"it goes with {', '.join(map(str, header.on))} only" if header.on != "all" else "it does not apply"


def _explain_choice(listener: Listener, virtual: VirtualHost, request: Request, builder: AnswerBuilder) -> None:
    listen = next((listen for member, listen in listener.members if member is virtual), None)
    block = virtual.block.provenance()
    place = block if listen is None or listen.provenance is None else listen.provenance
    builder.step(f"the request meets the listener {listener.address}:{listener.port}", place)
    named = next(virtual.block.all("server_name"), None)
    if (virtual.names and listener.default is not virtual) or request.name.lower() in virtual.names:
        builder.step(f"{request.name} is a name of this server block", block if named is None else named.provenance())
    else:
        builder.step(f"no server block has the name {request.name}; the listener's default answers", block)


def _exchange(configuration: Resolved, listener: Listener, virtual: VirtualHost, request: Request) -> Exchange:
    path = request.path or "/"
    sent = path + (f"?{request.query}" if request.query is not None else "")
    default_port = 443 if request.scheme == "https" else 80
    host_header = request.name if request.port == default_port else f"{request.name}:{request.port}"
    headers = {name.lower(): value for name, value in request.headers}
    assert listener.default is not None
    # The path is read before the name is known, and so by the listener's first server block.
    merging, _ = inherited((configuration.http, listener.default.block), "merge_slashes")
    exchange = Exchange(
        method=request.method,
        scheme="https" if listener.ssl else "http",
        host=request.name.lower(),
        host_header=headers.get("host", host_header),
        port=listener.port,
        address=listener.address,
        uri=normalise(path, merges=merging is None or merging.args != ("off",)),
        args=request.query or "",
        request_uri=sent,
        server_name=virtual.names[0].removeprefix(".") if virtual.names else "",
        headers=headers,
        status=request.status,
        source=request.source,
        peer=request.source,
        account=request.account,
        accounts=AccountFiles(configuration.config.tree, configuration.config.path),
        is_sample=False,
        definitions=configuration.scopes.definitions,
        escaped="%" in path or "+" in path,
    )
    _keep_name_captures(virtual, exchange)
    exchange.source = client_address((configuration.http, virtual.block), exchange)
    return exchange


def _keep_name_captures(virtual: VirtualHost, exchange: Exchange) -> None:
    """What a server name that is a pattern captured of the host (ngx_http_find_virtual_server)."""
    for name in virtual.names:
        if name.startswith("~"):
            found = search(name[1:], exchange.host, ignore_case=True)
            if found is not None:
                exchange.capture(found)
                return


def normalise(path: str, *, merges: bool = True) -> str:
    """A request path as locations see it: decoded, dots resolved, and slashes merged unless ``merge_slashes`` is off
    (ngx_http_parse_complex_uri)."""
    text = unquote(path, errors="surrogateescape") if "%" in path else path
    if merges:
        return without_dots(text)
    kept: list[str] = []
    parts = text.removeprefix("/").split("/")
    for part in parts:
        if part == "..":
            del kept[-1:]
        elif part != ".":
            kept.append(part)
    return "/" + "/".join((*kept, "") if parts[-1] in (".", "..") else kept)
