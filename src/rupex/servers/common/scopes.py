"""The parts of a scope that are the same for every family."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, NamedTuple

from msgspec import UNSET

from rupex.http.assets import matches_only_assets
from rupex.model import Condition, Listing, Match, Provenance, Redirect, RedirectSample, Refusal, Scope, Upstream
from rupex.model.budget import PER_NAME, spend
from rupex.servers.common.samples import ANY_NAME

Role = Literal["status", "admin"]


class Part(NamedTuple):
    """A part of an endpoint that becomes a scope: where it stands, before it is known what it answers.

    ``identity``: its id; the whole of an endpoint for some of its names has these in its id instead.
    ``names``: the server names for which it is reached, None for all of the endpoint's.
    """

    identity: str
    match: Match
    path: str
    order: int
    provenance: Provenance
    names: tuple[str, ...] | None = None

    @property
    def is_assets(self) -> bool:
        """Whether its paths can only be those of images, style sheets and the like."""
        return self.match == "regex" and matches_only_assets(self.path)


class Reply(NamedTuple):
    """What a scope answers: at most one of a redirect, a refusal, the answer of another server, and files, which have a
    ``listing``. None of them: an application or a fixed text. ``role``: what kind of page a handler makes."""

    redirect: Redirect | None = None
    refusal: Refusal | None = None
    upstream: Upstream | None = None
    listing: Listing | None = None
    role: Role | None = None


def scope_of(part: Part, reply: Reply) -> Scope:
    """The scope without its headers and what else only the family knows, which it adds (``msgspec.structs.replace``)."""
    names = part.names
    is_for_some = names is not None and part.match == "any"
    return Scope(
        id=f"condition:{'+'.join(names or ())}" if is_for_some else part.identity,
        match="condition" if is_for_some else part.match,
        path=part.path,
        order=part.order,
        provenance=part.provenance,
        names=names,
        when=UNSET if names is None else (Condition("host", ", ".join(names)),),
        content="assets" if part.is_assets else "pages",
        redirect=reply.redirect,
        refusal=reply.refusal,
        upstream=reply.upstream,
        listing=reply.listing,
        role=reply.role,
    )


def redirect_samples(
    names: tuple[str | None, ...], ask: Callable[[str | None], RedirectSample], *, is_default: bool
) -> tuple[tuple[RedirectSample, ...], RedirectSample | None]:
    """Where a redirect leads for each name, and for a name that nobody has where the endpoint answers such (``is_default``)."""

    def counted(name: str | None) -> RedirectSample:
        spend(PER_NAME)
        return ask(name)

    return tuple(map(counted, names)), counted(ANY_NAME) if is_default else None
