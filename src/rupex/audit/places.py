"""The places of a host: what controls are asked about, one by one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, Final, Literal

from msgspec import Struct, structs

from rupex.controls import Control
from rupex.model import Endpoint, Host, Tls
from rupex.model.templates import with_outlines

Key = tuple[str | None, str | None, str | None, str | None]
"""A place: endpoint id, scope id, server name, file."""

Row = tuple[Key, Any, tuple[Any, ...]]
"""A place: its key, the part of the model that it is, and the arguments to judge it by."""


class PlaceGroup(Struct, frozen=True):
    """Places of which the same controls are exempt.

    ``count``: how many sites each of them stands for.
    ``in_words``: the places are outlines, and what is found there has to be put into their own words.
    """

    places: list[Row]
    transport: Literal["tls", "plain", "passthrough"] | None = None
    is_local: bool = False
    refuses: bool = False
    is_wire_only: bool = False
    is_config_only: bool = False
    is_management: bool = False
    is_http: bool = True
    count: int = 1
    in_words: bool = False

    def is_blind_to(self, control: Control) -> bool:
        """Whether what is known of these places can say nothing about ``control``."""
        return self.is_wire_only and "wire" not in control.evidence

    def is_unopened(self, control: Control) -> bool:
        """Whether what ``control`` asks for lies in TLS that goes through these places unopened."""
        return self.transport == "passthrough" and control.only == "tls" and not control.both_sides

    def is_exempt(self, control: Control) -> bool:
        if control.only is not None and control.only != self.transport and not self.is_unopened(control):
            return True
        if not self.is_http and control.is_about_http:
            return True
        if self.is_management is not control.management_port and self.transport is not None:
            return True
        if control.both_sides and self.is_config_only:
            return True
        return (self.refuses and not control.refusing) or (self.is_local and control.local_exempt)


class Places:
    """All places of a host by kind, made once for all controls.

    ``for_host_controls``: the host as controls see it that look at it as a whole.
    ``has_both``: the configuration speaks for what the wire cannot show.
    ``shared_tls``: of endpoints by id, a number that is the same where all their TLS settings but the certificates are.
    ``words``: of endpoints that are written from a template by id, what they have for its stand-ins.
    """

    def __init__(self, host: Host, controls: Iterable[Control]) -> None:
        self.host = host
        self._shown = _shown_to(controls)
        self.has_both = {source.kind for source in host.sources} == {"config", "wire"}
        self.words = {one.id: one.words for group in host.groups for one in group.instances}
        self.for_host_controls = (
            structs.replace(host, endpoints=with_outlines(host.endpoints, host.groups)) if host.groups else host
        )
        self._groups: dict[tuple[str, str], list[PlaceGroup]] = {}
        self.shared_tls: dict[str | None, int] = {}
        settings: dict[tuple[int, ...], int] = {}
        for endpoint in (*self.host.endpoints, *(group.model for group in host.groups)):
            if endpoint.tls is not None:
                fields = tuple(id(getattr(endpoint.tls, field)) for field in _TLS_SETTINGS)
                self.shared_tls[endpoint.id] = settings.setdefault(fields, len(settings))

    def of(self, control: Control) -> list[PlaceGroup]:
        """The places that ``control`` judges or is exempt at."""
        match control.place:
            case "host":
                key: Key = (None, None, None, None)
                kinds = {source.kind for source in self.host.sources}
                whole = self.for_host_controls
                row = (key, whole, () if control.takes_host else (whole,))
                return [PlaceGroup([row], is_wire_only=kinds == {"wire"})]
            case "certificate":
                return [PlaceGroup([((None, None, None, c.path), c, (c,)) for c in self.host.certificates])]
            case "file":
                return [PlaceGroup([((None, None, None, f.path), f, (f,)) for f in self.host.files])]
            case "endpoint" | "scope" | "name":
                shown = self._shown[control.id]
                found = self._groups.get((control.place, shown))
                if found is None:
                    found = self._groups[control.place, shown] = list(self._grouped(control.place, shown))
                return found

    def _grouped(self, kind: Kind, shown: Shown) -> Iterator[PlaceGroup]:
        yield from _grouped(kind, self.host.endpoints)
        for group in self.host.groups:
            if shown == "model":
                for places in _grouped(kind, [group.model]):
                    yield structs.replace(places, count=len(group.instances))
            else:
                show = getattr(group, shown)
                for places in _grouped(kind, map(show, group.instances)):
                    yield structs.replace(places, in_words=True)


Kind = Literal["endpoint", "scope", "name"]
Shown = Literal["model", "outline", "named", "whole"]
"""What a control is shown of sites that are written from a template: what they all are, or of each of them what the method of
:class:`~rupex.model.Group` says that is called so."""


def _shown_to(controls: Iterable[Control]) -> dict[str, Shown]:
    """What each control is shown. One that refines another is shown the same, since it fails where that one fails."""
    found: dict[str, Shown] = {}
    for control in controls:  # one that refines another comes after it
        found[control.id] = _needed(control)
        refined = control.refines
        if refined in found and found[refined] != found[control.id]:
            found[refined] = found[control.id] = "whole"
    return found


def _needed(control: Control) -> Shown:
    if control.is_foreign or (control.takes_host and not control.both_sides):  # which exempts them all
        return "whole"
    if control.reads_names:
        return "whole" if control.takes_certificates else "named"
    return "outline" if control.takes_certificates else "model"


def _grouped(kind: Kind, endpoints: Iterable[Endpoint]) -> list[PlaceGroup]:
    """The places of one kind in ``endpoints``."""
    groups: dict[tuple[Any, ...], PlaceGroup] = {}
    for endpoint in endpoints:
        transport = "tls" if endpoint.transport == "quic" else endpoint.transport
        where = (
            transport,
            endpoint.is_local,
            endpoint.refuses is not None,
            endpoint.sources == ("wire",),
            endpoint.sources == ("config",),
            endpoint.management is not None,
            endpoint.answers_http,
        )
        group = groups.get(where)
        if group is None:
            group = groups[where] = PlaceGroup([], *where)
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
