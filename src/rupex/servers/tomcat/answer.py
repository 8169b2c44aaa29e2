"""One request told: the connector of its port, the host of its name, the application of its path."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from rupex.model import Header
from rupex.servers.common.samples import EVERY
from rupex.servers.contract import Answer, Because, Request
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
    here = [m for m in configuration.members if port_of(m.connector) == request.port]
    if request.address is not None:
        here = [m for m in here if address_of(m.connector) in (request.address, EVERY)]
    if not here:
        return None
    member = next((m for m in here if request.name.lower() in _names(m.host)), None)
    member = member or next((m for m in here if m.host.get("name") == m.engine.get("defaultHost")), here[0])
    connector = member.connector
    is_tls = connector.flag("SSLEnabled")
    transport = "tls" if is_tls else "plain"
    why = [
        Because(f"the request meets the connector at {connector.get('port', '8080')}", connector.provenance()),
        Because(f"the host {member.host.get('name')} answers", member.host.provenance()),
    ]
    if is_tls != (request.scheme == "https"):
        return Answer(
            endpoint=member.id,
            scope="",
            transport=transport,
            why=tuple(why),
            status=400 if is_tls else None,
            closed=not is_tls,
        )
    outcome = configuration.processor.answer_path(
        member,
        normalise(request.path or "/"),
        request.method,
        name=request.name,
        query=request.query,
        sent=request.path,
    )
    if outcome.context is not None:
        why.append(Because(f"the application {outcome.context.path or '/'} is meant", outcome.context.provenance))
    if outcome.by is not None:
        why.append(Because("decided here", outcome.by))
    path = outcome.context.path if outcome.context is not None else ""
    headers = [(h.name, h.value) for h in (*configuration.server_headers(connector), *outcome.headers)]
    why += [Because(f"{h.name}: {h.value}", h.provenance) for h in outcome.headers]
    headers += outcome.extra
    if outcome.location is not None:
        headers.append(("Location", outcome.location))
    if outcome.status == 401 and outcome.context is not None:
        headers.append(("WWW-Authenticate", f'Basic realm="{outcome.context.app.realm()}"'))
    return Answer(
        endpoint=member.id, scope=f"prefix:{path}" if path else "any", transport=transport,
        status=outcome.status if request.status is None else request.status, location=outcome.location,
        headers=tuple(headers), why=tuple(why), unknown=outcome.unknown,
    )  # fmt: skip


def _names(host: Element) -> set[str]:
    return {host.get("name").lower(), *(alias.text.lower() for alias in host.all("Alias"))}
