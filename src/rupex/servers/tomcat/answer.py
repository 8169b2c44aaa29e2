"""What one request gets from a Tomcat: the connector of its port, the host of its name, the application of its path."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Protocol

from rupex.model import Header
from rupex.servers.common.answers import AnswerBuilder
from rupex.servers.common.samples import EVERY
from rupex.servers.contract import Answer, Request
from rupex.servers.tomcat.paths import normalise
from rupex.servers.tomcat.process import Processor, VirtualHostBinding, address_of, port_of
from rupex.servers.tomcat.syntax import Element


class Resolved(Protocol):
    """What a request is followed through: a resolved configuration."""

    members: list[VirtualHostBinding]
    processor: Processor

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
    outcome = configuration.processor.answer_path(
        member,
        normalise(request.path or "/"),
        request.method,
        name=request.name,
        query=request.query,
        sent=request.path,
    )
    context = outcome.context
    if context is not None:
        builder.step(f"the application {context.path or '/'} is meant", context.provenance)
    if outcome.by is not None:
        builder.step("decided here", outcome.by)
    for header in configuration.server_headers(connector):
        builder.send(header.name, header.value)
    for header in outcome.headers:
        builder.send(header.name, header.value, header.provenance)
    for name, value in outcome.extra:
        builder.send(name, value)
    if outcome.location is not None:
        builder.send("Location", outcome.location)
    if outcome.status == 401 and context is not None:
        builder.send("WWW-Authenticate", f'Basic realm="{context.app.realm()}"')
    return builder.answer(
        f"prefix:{context.path}" if context is not None and context.path else "any",
        outcome.status if request.status is None else request.status,
        location=outcome.location,
        unknown=outcome.unknown,
    )


def _member(members: Iterable[VirtualHostBinding], request: Request) -> VirtualHostBinding | None:
    """The host that answers a request, at the connector of its port; None where none listens."""
    listening = [member for member in members if port_of(member.connector) == request.port]
    if request.address is not None:
        listening = [member for member in listening if address_of(member.connector) in (request.address, EVERY)]
    named = (member for member in listening if request.name.lower() in _names(member.host))
    defaults = (member for member in listening if member.host.get("name") == member.engine.get("defaultHost"))
    return next(named, None) or next(defaults, None) or next(iter(listening), None)


def _names(host: Element) -> set[str]:
    return {host.get("name").lower(), *(alias.text.lower() for alias in host.all("Alias"))}
