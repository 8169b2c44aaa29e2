"""Endpoints of one kind: the first is resolved, the others by putting their own words into it (see ``Host.alike``)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import NamedTuple, Protocol, TypeVar

from msgspec import structs

from rupex.model import Alike, Endpoint, Likeness, Pattern
from rupex.model.budget import PER_ENDPOINT, PER_NAME, ExhaustedError, spend, work_at


class Named(Protocol):
    """What becomes one endpoint, with the ``id`` that it gets."""

    @property
    def id(self) -> str: ...


Member = TypeVar("Member", bound=Named)


class Model(NamedTuple):
    """The first endpoint of its kind, the same without scopes, and the pattern that it is to others."""

    endpoint: Endpoint
    outline: Endpoint
    pattern: Pattern


def endpoints_by_kind(
    members: Iterable[Member],
    resolve: Callable[[Member], Endpoint],
    kind_of: Callable[[Member], tuple[object, ...] | None],
    source_of: Callable[[Member], tuple[str, tuple[str, ...]]],
    *,
    outlines: bool,
) -> tuple[tuple[Endpoint, ...], Mapping[str, Alike]]:
    """The endpoints of ``members``, in order, and how those that are like another one come of it.

    ``kind_of``: what members have in common that are one another under other names, None for one of no such kind.
    ``source_of``: the file of a member of a kind, and the words that are its own. ``outlines``: leave out the scopes of what
    is like another one. Where nothing is left of the budget, the members from there on are left out.
    """
    models: dict[tuple[object, ...], Model] = {}
    alike: dict[str, Alike] = {}
    found = []
    for member in members:
        kind = kind_of(member)
        model = None if kind is None else models.get(kind)
        if model is None:
            work_at(member.id)
            try:
                spend(PER_ENDPOINT)
                endpoint = resolve(member)
                spend(PER_NAME * len(endpoint.names))
            except ExhaustedError:
                break
            if kind is not None:
                pattern = Pattern(*source_of(member))
                models[kind] = Model(endpoint, structs.replace(endpoint, scopes=()), pattern)
        else:
            likeness = Likeness(model.pattern, *source_of(member))
            alike[member.id] = Alike(model.endpoint, likeness)
            made = model.outline if outlines else model.endpoint
            endpoint = structs.replace(likeness.moved(made), id=member.id)
        found.append(endpoint)
    return tuple(found), alike
