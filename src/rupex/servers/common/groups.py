"""Endpoints of a configuration: those that stand alone resolved one by one, those of a template once for all of them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Generic, NamedTuple, Protocol, TypeVar

from msgspec import structs

from rupex.host import CredentialStore
from rupex.model import Endpoint, Group, Instance, Words
from rupex.model.budget import PER_ENDPOINT, PER_NAME, ExhaustedError, spend, work_at


class Named(Protocol):
    """What becomes one endpoint, with the ``id`` that it gets."""

    @property
    def id(self) -> str: ...


Member = TypeVar("Member", bound=Named)


class FromTemplate(NamedTuple, Generic[Member]):
    """What makes a member an instance of a template.

    ``key``: the same for all instances of one group, with all that their settings hang on beside the template.
    ``words``: the member's own.
    ``model``: makes the same member of the template.
    """

    key: tuple[object, ...]
    words: Words
    model: Callable[[], Member]


class Endpoints(NamedTuple):
    """The endpoints of a configuration, or a share of them.

    ``alone``: those that are written out, in order.
    ``groups``: the others.
    """

    alone: tuple[Endpoint, ...]
    groups: tuple[Group, ...] = ()


def resolve_members(
    members: Iterable[Member],
    resolve: Callable[[Member], Endpoint],
    template_of: Callable[[Member], FromTemplate[Member] | None] = lambda _: None,
    credentials: CredentialStore | None = None,
    *,
    complete: bool,
) -> Endpoints:
    """The endpoints of ``members``. ``template_of``: None for a member that stands alone. ``credentials``: where certificates
    of templates are looked up. ``complete``: write every endpoint out, and make no groups. Where nothing is left of the budget,
    the members from there on are left out.
    """
    groups: dict[tuple[object, ...], Group] = {}
    alone: list[Endpoint] = []
    for index, member in enumerate(members):
        template = template_of(member)
        if template is None:
            endpoint = _resolved(member, resolve)
            if endpoint is None:
                break
            alone.append(endpoint)
            continue
        group = groups.get(template.key)
        if group is None:
            assert credentials is not None
            with credentials.of_site(template.words):
                model = _resolved(template.model(), resolve)
            if model is None:
                break
            group = groups[template.key] = Group(structs.replace(model, id=member.id), [])
        instance = Instance(member.id, template.words, index)
        group.instances.append(instance)
        if complete:
            alone.append(group.whole(instance))
    return Endpoints(tuple(alone), () if complete else tuple(groups.values()))


def _resolved(member: Member, resolve: Callable[[Member], Endpoint]) -> Endpoint | None:
    """The endpoint of a member; None where nothing is left of the budget."""
    work_at(member.id)
    try:
        spend(PER_ENDPOINT)
        endpoint = resolve(member)
        spend(PER_NAME * len(endpoint.names))
    except ExhaustedError:
        return None
    return endpoint
