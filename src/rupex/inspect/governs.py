"""Which endpoints and scopes a line of a configuration governs, and what it decides there."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any

from msgspec import Struct

from rupex.model import Endpoint, Provenance, Scope


class Governed(Struct, frozen=True):
    """One endpoint, or a scope of it, with the names of the settings that the line decides."""

    endpoint: Endpoint
    scope: Scope | None
    settings: tuple[str, ...]


def governed_by(endpoints: Iterable[Endpoint], is_meant: Callable[[Provenance], bool]) -> list[Governed]:
    """What the lines govern for whose provenance ``is_meant`` holds, endpoints before their scopes."""
    found = []
    for endpoint in endpoints:
        settings = tuple(dict.fromkeys(_decided(endpoint, "", is_meant, leave=("scopes",))))
        if settings:
            found.append(Governed(endpoint, None, settings))
        for scope in endpoint.scopes:
            settings = tuple(dict.fromkeys(_decided(scope, "", is_meant, leave=())))
            if settings:
                found.append(Governed(endpoint, scope, settings))
    return found


def _decided(value: Any, name: str, is_meant: Callable[[Provenance], bool], leave: tuple[str, ...]) -> Iterator[str]:
    """The names of the parts of ``value`` that a meant line decides; what it says and loses is told as such."""
    if isinstance(value, Provenance):
        if is_meant(value):
            yield name or "it stands here"
        for lost in value.overruled:
            if is_meant(lost):
                yield f"{name} (overruled)"
    elif isinstance(value, Struct):
        for field in value.__struct_fields__:
            if field in leave:
                continue
            inner = getattr(value, field)
            if isinstance(inner, str | int | float | bool) or inner is None:
                continue
            if field in ("provenance", "key_provenance"):
                yield from _decided(inner, name, is_meant, leave)
            else:
                label = field if not isinstance(inner, tuple) else ""
                yield from _decided(inner, _joined(name, label) or field, is_meant, leave)
    elif isinstance(value, tuple):
        for item in value:
            if isinstance(item, Struct):
                own = getattr(item, "name", None) or getattr(item, "certificate", None) or ""
                verb = "drops " if type(item).__name__ == "Dropped" else ""
                yield from _decided(item, f"{verb}{own}" if own else name, is_meant, leave)


def _joined(name: str, field: str) -> str:
    return f"{name}.{field}" if name and field else name or field
