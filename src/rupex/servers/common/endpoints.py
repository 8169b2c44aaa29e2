"""What every family does with its endpoints: ids that are unique, and who uses which certificate."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from rupex.model import CertificateUse


class EndpointIds:
    """Makes the ids of one configuration's endpoints: ``FAMILY:ADDRESS:PORT/NAME``, with ``#2`` and so on for further ones of the
    same name."""

    def __init__(self, family: str) -> None:
        self._family = family
        self._counts: dict[str, int] = {}

    def next(self, address: str, port: int | None, names: tuple[str, ...]) -> str:
        """The id of an endpoint. ``port`` None: a Unix socket, whose path is ``address``."""
        where = address if port is None else f"{address}:{port}"
        identity = f"{self._family}:{where}/{names[0] if names else ''}"
        count = self._counts[identity] = self._counts.get(identity, 0) + 1
        return identity if count == 1 else f"{identity}#{count}"


def by_certificate(uses: Iterable[tuple[CertificateUse, str]]) -> Mapping[CertificateUse, tuple[str, ...]]:
    """Each certificate with the ids of the endpoints that use it, in order."""
    found: dict[CertificateUse, list[str]] = {}
    for use, identity in uses:
        found.setdefault(use, []).append(identity)
    return {use: tuple(ids) for use, ids in found.items()}
