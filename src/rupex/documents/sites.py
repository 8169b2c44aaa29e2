"""Sites that a document does not write out, since they are written from a template: written out here."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Final

from msgspec import UNSET, structs

from rupex.documents.run import HostDocument, PlaceDocument, Site
from rupex.model import Endpoint, Words

SITES_LISTED: Final = 8
"""Of the sites of a template, how many a text lists at a place."""


class Sites:
    """The sites of a host that are written from templates."""

    def __init__(self, host: HostDocument) -> None:
        self._templates = {template.endpoint.id: template for template in host.templates}
        self._sites: dict[str, list[tuple[Site, Words]]] = {identity: [] for identity in self._templates}
        for site in host.sites:
            template = self._templates.get(site.template)
            if template is not None:
                words = Words(dict(zip(template.words, site.words, strict=False)))
                self._sites[site.template].append((site, words))

    def places(self, places: Iterable[PlaceDocument], most: int | None = None) -> Iterator[PlaceDocument]:
        """``places``, those of a template once for each of its sites, or for ``most`` of them: the first then tells how many
        more there are."""
        for place in places:
            sites = self._sites.get(place.endpoint or "")
            if sites is None:
                yield place
                continue
            left = place.count - (place.count if most is None else min(place.count, most))
            for number, (site, words) in enumerate(sites[: place.count - left]):
                own = words.put_in(place)
                yield structs.replace(own, endpoint=site.id, alike=left if left and number == 0 else UNSET)

    def endpoints(self) -> Iterator[tuple[int, Endpoint]]:
        """Each endpoint of a template, with its place among all endpoints of the host."""
        for identity, sites in self._sites.items():
            model = self._templates[identity].endpoint
            for site, words in sites:
                yield site.at, structs.replace(words.put_in(model), id=site.id)


def written_out(host: HostDocument, most: int | None = None) -> HostDocument:
    """``host`` with every site in its endpoints, and at each place. ``most``: of those of one template list so many at a place,
    and leave endpoints as they are."""
    if not host.templates:
        return host
    sites = Sites(host)
    checks = tuple(structs.replace(check, places=tuple(sites.places(check.places, most))) for check in host.checks)
    if most is not None:
        return structs.replace(host, checks=checks, templates=(), sites=())
    own = dict(sites.endpoints())
    others = iter(host.endpoints)
    every = [own[index] if index in own else next(others, None) for index in range(len(own) + len(host.endpoints))]
    endpoints = tuple(endpoint for endpoint in every if endpoint is not None)
    return structs.replace(host, endpoints=endpoints, checks=checks, templates=(), sites=())
