"""The places of a host: what controls are asked about, one by one, and which of them are alike."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Final, Literal

from msgspec import Struct, structs

from rupex.controls import Control
from rupex.model import (
    Endpoint,
    Host,
    Likeness,
    Tls,
)

Key = tuple[str | None, str | None, str | None, str | None]
"""A place: endpoint id, scope id, server name, file."""

Row = tuple[Key, Any, tuple[Any, ...]]
"""A place: its key, the part of the model that it is, and the arguments to judge it by."""


class Group(Struct, frozen=True):
    """Places of which the same controls are exempt: by transport, by being local, and by refusing every handshake."""

    places: list[Row]
    transport: Literal["tls", "plain"] | None = None
    is_local: bool = False
    refuses: bool = False
    is_wire_only: bool = False
    is_config_only: bool = False
    is_control: bool = False

    def is_blind_to(self, control: Control) -> bool:
        """Whether what is known of these places can say nothing about ``control``."""
        return self.is_wire_only and "wire" not in control.evidence

    def is_exempt(self, control: Control) -> bool:
        if control.only is not None and control.only != self.transport:
            return True
        if self.is_control is not control.control_ports and self.transport is not None:
            return True
        if control.both_sides and self.is_config_only:
            return True
        return (self.refuses and not control.refusing) or (self.is_local and control.local_exempt)


Likes = dict[str | None, list[tuple[Endpoint, Likeness]]]
"""Endpoints, by the id of the one that they are like, with how they come of it."""

_NO_LIKES: Final[Likes] = {}


class Places:
    """All places of a host by kind, made once for all controls. ``shared_tls``: endpoints by id to a number that is the
    same where all their TLS settings but the certificates are. ``has_both``: the configuration speaks for what the wire cannot
    show. ``use_likeness``: leave out endpoints that are like
    another one; a control that looks at the host as well is asked about each of them all the same."""

    def __init__(self, host: Host, *, use_likeness: bool, samples: int | None = None) -> None:
        self.host, self.samples = host, samples
        self.has_both = {source.kind for source in host.sources} == {"config", "wire"}
        self.shared_tls: dict[str | None, int] = {}
        self._likes: Likes = {}
        self._models: list[Endpoint] = []
        self._groups: dict[tuple[str, bool], list[Group]] = {}
        settings: dict[tuple[int, ...], int] = {}
        for endpoint in host.endpoints:
            alike = host.alike.get(endpoint.id) if use_likeness else None
            if alike is not None:
                self._likes.setdefault(alike.model.id, []).append((endpoint, alike.likeness))
            else:
                self._models.append(endpoint)
            if endpoint.tls is not None and alike is None:
                fields = tuple(id(getattr(endpoint.tls, field)) for field in _TLS_SETTINGS)
                self.shared_tls[endpoint.id] = settings.setdefault(fields, len(settings))

    def _whole(self, endpoint: Endpoint) -> Endpoint:
        """``endpoint`` with its scopes, which an outline does not have."""
        alike = self.host.alike.get(endpoint.id)
        if alike is None or endpoint.scopes or not alike.model.scopes:
            return endpoint
        whole: Endpoint = structs.replace(alike.likeness.moved(alike.model), id=endpoint.id)
        return whole

    def likes_of(self, control: Control) -> Likes:
        """The endpoints whose judgement by ``control`` follows from that of another."""
        is_part = control.place in ("endpoint", "scope", "name")
        return self._likes if is_part and not _tells_apart(control) else _NO_LIKES

    def of(self, control: Control) -> list[Group]:
        """The places that ``control`` judges or is exempt at."""
        match control.place:
            case "host":
                key: Key = (None, None, None, None)
                kinds = {source.kind for source in self.host.sources}
                row = (key, self.host, () if control.takes_host else (self.host,))
                return [Group([row], is_wire_only=kinds == {"wire"})]
            case "certificate":
                return [Group([((None, None, None, c.path), c, (c,)) for c in self.host.certificates])]
            case "file":
                return [Group([((None, None, None, f.path), f, (f,)) for f in self.host.files])]
            case "endpoint" | "scope" | "name":
                which = (control.place, _tells_apart(control))
                found = self._groups.get(which)
                if found is None:
                    endpoints: Iterable[Endpoint] = self._models
                    if _tells_apart(control):
                        alone = control.place == "endpoint"
                        endpoints = self.host.endpoints if alone else map(self._whole, self.host.endpoints)
                    found = self._groups[which] = _grouped(control.place, endpoints)
                return found


def _tells_apart(control: Control) -> bool:
    """Whether ``control`` may judge endpoints that are alike in different ways. What only holds both sides against each other
    never judges such ones, which are the configuration's."""
    return control.takes_host and not control.both_sides


def _grouped(kind: Literal["endpoint", "scope", "name"], endpoints: Iterable[Endpoint]) -> list[Group]:
    """The places of one kind in ``endpoints``."""
    groups: dict[tuple[Any, ...], Group] = {}
    for endpoint in endpoints:
        transport: Literal["tls", "plain"] = "plain" if endpoint.transport == "plain" else "tls"
        where = (
            transport,
            endpoint.is_local,
            endpoint.refuses is not None,
            endpoint.sources == ("wire",),
            endpoint.sources == ("config",),
            endpoint.control is not None,
        )
        group = groups.get(where)
        if group is None:
            group = groups[where] = Group([], *where)
        rows, identity = group.places, endpoint.id
        if kind == "endpoint":
            rows.append(((identity, None, None, None), endpoint, (endpoint,)))
        elif kind == "scope":
            rows += [((identity, scope.id, None, None), scope, (endpoint, scope)) for scope in endpoint.scopes]
        else:
            for scope, name in endpoint.scopes_with_names():
                rows.append(((identity, scope.id, name, None), scope, (endpoint, scope, name)))
    return list(groups.values())


_TLS_SETTINGS: Final = tuple(field for field in Tls.__struct_fields__ if field != "certificates")
