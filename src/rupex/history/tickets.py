"""How old a listener's ticket key is at least: since when the history has its name."""

from __future__ import annotations

from msgspec import structs

from rupex.history.store import History
from rupex.model import Endpoint, Host, Provenance, Setting, TicketKeys


def with_ticket_ages(host: Host, history: History) -> Host:
    """``host`` with what earlier runs tell of the ticket keys that were seen now."""
    keys = [(e.id, e.wire.ticket_key) for e in host.endpoints if e.wire is not None and e.wire.ticket_key]
    since = history.first_seen(keys) if keys else {}
    if not since:
        return host

    def aged(endpoint: Endpoint) -> Endpoint:
        key = endpoint.wire.ticket_key if endpoint.wire is not None else None
        first = since.get((endpoint.id, key or ""))
        if first is None or endpoint.tls is None:
            return endpoint
        note = f"{endpoint.provenance.note}; the same key was seen on {first:%Y-%m-%d}"
        known = Setting(TicketKeys(rotates=False, since=first), Provenance("wire", note=note))
        return structs.replace(endpoint, tls=structs.replace(endpoint.tls, ticket_keys=known))

    return structs.replace(host, endpoints=tuple(map(aged, host.endpoints)))
