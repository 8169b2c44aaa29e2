"""Documents without secrets: what comes from a configuration or a listener passes here before it becomes part of a document.

What a secret is, is decided in :mod:`rupex.masking`. Values that the user's own URL has stay as they are.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

from msgspec import structs

from rupex.masking.quoting import listed_header, redacted, redacted_header
from rupex.model import Dropped, Endpoint, Header, Redirect, RedirectSample, Scope
from rupex.model.endpoint import Exchange, Upstream, WireFacts

ValueOf = Callable[[str, str], str]
"""What a document has of a header, by its name and value."""


def redacted_endpoint(endpoint: Endpoint, *, is_asked: bool = False) -> Endpoint:
    """``endpoint`` for a document; itself, where nothing in it has to go. ``is_asked``: the user wants to see its headers, and
    not only how they are judged: values that go to every visitor stay."""
    value = redacted_header if is_asked else listed_header
    scopes = tuple(_scope(scope, value) for scope in endpoint.scopes)
    wire = None if endpoint.wire is None else _wire(endpoint.wire, value)
    if wire is endpoint.wire and all(new is old for new, old in zip(scopes, endpoint.scopes, strict=True)):
        return endpoint
    return structs.replace(endpoint, scopes=scopes, wire=wire)


def _scope(scope: Scope, value_of: ValueOf) -> Scope:
    changes: dict[str, object] = {}

    def value(header: Header | Dropped) -> str:
        return _header(header.name, header.value, value_of)

    for name in ("headers", "errors"):
        headers: tuple[Header, ...] | None = getattr(scope, name)
        if headers and any(value(header) != header.value for header in headers):
            changes[name] = tuple(structs.replace(header, value=value(header)) for header in headers)
    if any(value(lost) != lost.value for lost in scope.dropped):
        changes["dropped"] = tuple(structs.replace(lost, value=value(lost)) for lost in scope.dropped)
    if scope.redirect is not None and (redirect := _redirect(scope.redirect)) != scope.redirect:
        changes["redirect"] = redirect
    if scope.upstream is not None and (upstream := _upstream(scope.upstream)) != scope.upstream:
        changes["upstream"] = upstream
    if scope.undecided is not None and redacted(scope.undecided) != scope.undecided:
        changes["undecided"] = redacted(scope.undecided)
    return structs.replace(scope, **changes) if changes else scope


@lru_cache(maxsize=16_384)
def _header(name: str, value: str, value_of: ValueOf) -> str:
    return value_of(name, value)


def _redirect(redirect: Redirect) -> Redirect:
    location = redacted(redirect.location)
    samples = tuple(map(_sample, redirect.samples))
    stranger = None if redirect.stranger is None else _sample(redirect.stranger)
    if (location, samples, stranger) == (redirect.location, redirect.samples, redirect.stranger):
        return redirect
    return structs.replace(redirect, location=location, samples=samples, stranger=stranger)


def _sample(sample: RedirectSample) -> RedirectSample:
    location = None if sample.location is None else redacted(sample.location, sample.url)
    return sample if location == sample.location else structs.replace(sample, location=location)


def _upstream(upstream: Upstream) -> Upstream:
    url = redacted(upstream.url)
    return upstream if url == upstream.url else structs.replace(upstream, url=url)


def _wire(wire: WireFacts, value_of: ValueOf) -> WireFacts:
    exchanges = tuple(
        tuple(_exchange(exchange, hops[0].url if hops else "", value_of) for exchange in hops)
        for hops in wire.exchanges
    )
    notes = tuple(map(redacted, wire.notes))
    if (exchanges, notes) == (wire.exchanges, wire.notes):
        return wire
    return structs.replace(wire, exchanges=exchanges, notes=notes)


def _exchange(exchange: Exchange, asked: str, value_of: ValueOf) -> Exchange:
    """One hop. ``asked``: the URL that the first one asked for, which is the user's or ours."""
    return Exchange(
        redacted(exchange.url, asked),
        exchange.status,
        None if exchange.location is None else redacted(exchange.location, asked),
        tuple(
            (name, redacted(value, asked) if name.lower() == "location" else _header(name, value, value_of))
            for name, value in exchange.headers
        ),
    )


def redacted_lines(text: str, language: str) -> list[str]:
    """The lines of a file in ``language`` for an excerpt, with an ellipsis for every value that no verdict needs: as a snapshot
    would have them."""
    from rupex.masking.texts import shown

    return shown(text, language).split("\n")


__all__ = ["redacted", "redacted_endpoint", "redacted_header", "redacted_lines"]
