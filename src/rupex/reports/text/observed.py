"""What was seen of an endpoint from outside, as a stranger would tell it: before anything is judged."""

from __future__ import annotations

from collections.abc import Iterable

from rupex.model import Endpoint, Tls
from rupex.reports.text.text_layout import Page


def render_seen(page: Page, endpoint: Endpoint) -> None:
    """A paragraph on one endpoint of the wire; nothing for any other."""
    wire = endpoint.wire
    if wire is None:
        return
    name = ", ".join(endpoint.names)
    page.line((f"Seen at {_address(endpoint)}", "strong"), f"  {name}, {_transport(endpoint)}")
    tls = endpoint.tls
    if tls is not None:
        page.entry("offers", _versions(tls))
        if tls.groups.value:
            page.entry("groups", ", ".join(tls.groups.value))
        for chain in wire.chains:
            if chain:
                leaf = chain[0]
                more = f", with {len(chain) - 1} more in the chain" if len(chain) > 1 else ""
                page.entry("leaf", f"{leaf.subject}, issued by {leaf.issuer}, until {leaf.not_after:%Y-%m-%d}{more}")
    for hops in wire.exchanges:
        words = ", ".join(f"{hop.url} with {hop.status}" for hop in hops)
        end = hops[-1].location if hops else None
        page.entry("answers", words + (f", which leads on to {end}" if end is not None else ""))
    notes = dict.fromkeys(
        f"{header.name}: {header.value}" for scope in endpoint.scopes for header in scope.sent("Server")
    )
    if notes:
        page.entry("says", ", ".join(notes))
    if wire.cached:
        page.entry("cache", f"a cache may have answered: {', '.join(wire.cached)}")
    for note in wire.notes:
        page.entry("note", note)
    page.entry(
        "asked", f"{wire.connections} connections, {wire.round_trips} round trips, {wire.seconds:.1f} s", style="quiet"
    )
    page.blank()


def _address(endpoint: Endpoint) -> str:
    address = f"[{endpoint.address}]" if ":" in endpoint.address else endpoint.address
    return f"{address}:{endpoint.port}"


def _transport(endpoint: Endpoint) -> str:
    return "over TLS" if endpoint.transport == "tls" else "in clear"


def _versions(tls: Tls) -> str:
    if tls.protocols.value is None:
        versions = ", ".join(tls.protocols.seen or ())
        why = tls.protocols.why_unknown
        return f"{versions} at least ({why})" if versions else f"could not be told ({why})"
    count = "suites unknown" if tls.suites.value is None else _count(tls.suites.value)
    order = {"server": "the server decides the order", "client": "the client decides the order"}
    words = f"{', '.join(tls.protocols.value)}; {count}"
    return f"{words}, {order[tls.preference.value]}" if tls.preference.value is not None else words


def _count(suites: Iterable[str]) -> str:
    number = len(tuple(suites))
    return "1 suite" if number == 1 else f"{number} suites"
