"""What one request gets from a Tomcat: the connector of its port, the host of its name, the application of its path."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Protocol

from rupex.model import Header
from rupex.servers.common.answers import AnswerBuilder
from rupex.servers.common.samples import EVERY
from rupex.servers.contract import Answer, Request
from rupex.servers.tomcat.cors import FOR_ANY
from rupex.servers.tomcat.paths import normalise
from rupex.servers.tomcat.process import Processor, VirtualHostBinding, address_of, port_of
from rupex.servers.tomcat.release import Release
from rupex.servers.tomcat.syntax import Element
from rupex.servers.tomcat.tls import asked_of_clients, must_show_certificate
from rupex.servers.tomcat.visitors import visitor_of


class Resolved(Protocol):
    """What a request is followed through: a resolved configuration."""

    members: list[VirtualHostBinding]
    processor: Processor
    release: Release

    def server_headers(self, connector: Element) -> Iterator[Header]: ...


def answer_request(configuration: Resolved, request: Request) -> Answer | None:
    """Follow a request: the connector of its port, the host of its name, the application of its path."""
    member = _member(configuration.members, request)
    if member is None:
        return None
    connector = member.connector
    builder = AnswerBuilder(member.id, is_tls=connector.flag("SSLEnabled"))
    builder.step(f"the request meets the connector at {connector.get('port', '8080')}", connector.provenance())
    builder.step(f"the host {member.host.get('name')} answers", member.host.provenance())
    if builder.has_other_scheme(request, connector.provenance()):
        return builder.answer("", 400) if builder.is_tls else builder.closed()
    asking = connector if member.secured is None else member.secured
    asked = asked_of_clients(connector, asking) if builder.is_tls else "none"
    if request.certificate is None and must_show_certificate(asked):
        builder.step("a certificate is asked of the client, and this one has none", asking.provenance())
        return builder.closed()
    if request.certificate is not None and asked not in ("none", "false", "no"):
        words = f"whom the store of trusted certificates ({asking.provenance()}) trusts is not looked at"
        return builder.answer("", None, unknown=words)
    outcome = configuration.processor.answer_path(
        member,
        normalise(request.path or "/"),
        request.method,
        name=request.name,
        query=request.query,
        sent=request.path,
        visitor=visitor_of(request.source, {name.lower(): value for name, value in request.headers}, request.account),
    )
    context = outcome.context
    if context is not None:
        builder.step(f"the application {context.path or '/'} is meant", context.provenance)
    if outcome.let_in_by is not None and request.source is not None:
        builder.step(f"{request.source} is let in", outcome.let_in_by)
    if outcome.login_by is not None:
        builder.step(f"{request.account} has a role that is let in", outcome.login_by)
    if outcome.by is not None:
        builder.step("decided here", outcome.by)
    for header in configuration.server_headers(connector):
        builder.send(header.name, header.value)
    release = configuration.release.number
    origin = next((value for name, value in request.headers if name.lower() == "origin"), None)
    for header in outcome.headers:
        is_cors = header.name.lower().startswith("access-control-")
        if isinstance(header.unknown, str) and (header.value == "…" or not is_cors):
            builder.doubt(header.name, header.value, header.unknown, header.provenance)
        elif origin is not None or not is_cors or _sends_always(header, release):
            builder.send(header.name, header.value, header.provenance)
        elif _is_for_any(header) and not _sends_never(release):
            words = (
                f"whether Tomcat {'.'.join(map(str, release))} sends it to requests without an Origin is not measured"
            )
            builder.doubt(header.name, header.value, words, header.provenance)
        else:
            builder.omit(header, "goes to requests with an Origin only")
    for name, value in outcome.extra:
        builder.send(name, value)
    if outcome.location is not None:
        builder.send("Location", outcome.location)
    if outcome.status == 401 and context is not None and context.app.login() != "CLIENT-CERT":
        challenge = f'realm="{context.app.realm()}"'
        is_digest = context.app.login() == "DIGEST"
        for _ in range(_digests(release) if is_digest else 1):
            builder.send("WWW-Authenticate", f"Digest {challenge}, …" if is_digest else f"Basic {challenge}")
    return builder.answer(
        f"prefix:{context.path}" if context is not None and context.path else "any",
        outcome.status if request.status is None else request.status,
        location=outcome.location,
        unknown=outcome.unknown,
    )


def _sends_always(header: Header, release: tuple[int, ...]) -> bool:
    """Whether the CORS filter sends a header to requests without an Origin too, as measured on 9.0.70."""
    return _is_for_any(header) and release <= (9, 0, 70)


def _is_for_any(header: Header) -> bool:
    """Whether a header is the same for every origin."""
    return header.value == "*" or header.name in FOR_ANY


def _digests(release: tuple[int, ...]) -> int:
    """With how many kinds of digest it asks for a login, as measured on 9.0.70 and 10.1.60."""
    return 2 if release >= (10, 1) else 1


def _sends_never(release: tuple[int, ...]) -> bool:
    """As measured on 10.1.60."""
    return release >= (10, 1, 60)


def _member(members: Iterable[VirtualHostBinding], request: Request) -> VirtualHostBinding | None:
    """The host that answers a request, at the connector of its port; None where none listens."""
    listening = [member for member in members if port_of(member.connector) == request.port]
    if request.address is not None:
        listening = [member for member in listening if address_of(member.connector) in (request.address, EVERY)]
    name = request.name.lower()
    wild = "*." + name.partition(".")[2]
    named = (member for called in (name, wild) for member in listening if called in member.names)
    defaults = (member for member in listening if member.host.get("name") == member.engine.get("defaultHost"))
    return next(named, None) or next(defaults, None) or next(iter(listening), None)
