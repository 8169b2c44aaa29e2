"""What a run says of a fleet: the ranking, what costs it most, by owner and tag, and what expires when. Values in, values out."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from math import fsum
from typing import Final

from rupex.documents.run import Expiry, FleetCost, FleetDocument, FleetPart, HostDocument, InventoryRow
from rupex.model import SharedKey

_MOST_EXPIRIES: Final = 5_000


def summarize(hosts: Sequence[HostDocument], inventory: str, now: datetime) -> FleetDocument:
    """The fleet's part of a run document. ``inventory``: where its hosts are listed."""
    ranked = sorted(hosts, key=_rank)
    return FleetDocument(
        inventory=inventory,
        mean=_mean(hosts),
        ranking=tuple(host.name for host in ranked),
        owners=tuple(_parts(hosts, lambda row: (row.owner,) if row.owner else ())),
        tags=tuple(_parts(hosts, lambda row: row.tags)),
        costs=tuple(_costs(hosts)),
        expiries=tuple(_expiries(hosts, now)),
    )


def shared_keys(hosts: Sequence[HostDocument]) -> dict[str, tuple[SharedKey, ...]]:
    """By host, its keys that hosts of other owners have too. A host without an owner is its own."""
    holders: dict[str, dict[str, tuple[str, str]]] = {}
    for host in hosts:
        for certificate in host.certificates:
            holders.setdefault(certificate.public_sha256, {}).setdefault(host.name, (_owner(host), certificate.place))
    found: dict[str, list[SharedKey]] = {}
    for by_host in holders.values():
        if len({owner for owner, _ in by_host.values()}) < 2:
            continue
        for name, (owner, place) in by_host.items():
            others = tuple(
                f"{other} ({whose})" if whose != other else other
                for other, (whose, _) in by_host.items()
                if whose != owner
            )
            found.setdefault(name, []).append(SharedKey(place, others))
    return {name: tuple(keys) for name, keys in found.items()}


def _row(host: HostDocument) -> InventoryRow:
    return host.inventory if isinstance(host.inventory, InventoryRow) else InventoryRow("", (), 1.0, "")


def _owner(host: HostDocument) -> str:
    return _row(host).owner or host.name


def _rank(host: HostDocument) -> tuple[bool, float, float, str]:
    """Worst first; those of which nothing is known first of all."""
    value = host.score.value
    return value is not None, 0.0 if value is None else round(value, 1), -_row(host).weight, host.name


def _mean(hosts: Iterable[HostDocument]) -> float | None:
    weighed = [(_row(host).weight, host.score.value) for host in hosts if host.score.value is not None]
    total = fsum(weight for weight, _ in weighed)
    return fsum(weight * value for weight, value in weighed) / total if total else None


def _parts(hosts: Sequence[HostDocument], names_of: Callable[[InventoryRow], tuple[str, ...]]) -> Iterable[FleetPart]:
    by_name: dict[str, list[HostDocument]] = {}
    for host in hosts:
        for name in names_of(_row(host)):
            by_name.setdefault(name, []).append(host)
    for name, some in sorted(by_name.items()):
        scored = [host for host in some if host.score.value is not None]
        worst = min(scored, key=_rank).name if scored else None
        yield FleetPart(name, len(some), len(scored), _mean(some), worst)


def _costs(hosts: Sequence[HostDocument]) -> list[FleetCost]:
    """What each control costs the mean of the fleet; a ceiling's own loss counts for the control that sets it."""
    total = fsum(_row(host).weight for host in hosts if host.score.value is not None)
    found: dict[str, FleetCost] = {}
    for host in hosts:
        if host.score.value is None or not total:
            continue
        share = _row(host).weight / total
        holder = host.score.ceiling
        for check in host.checks:
            if check.verdict != "fail":
                continue
            holds = holder is not None and holder.control == check.control
            points = check.lost + (holder.lost if holder is not None and holds else 0.0)
            before = found.get(check.control, FleetCost(check.control, check.title, 0, 0.0, 0))
            found[check.control] = FleetCost(
                check.control, check.title, before.hosts + 1, before.points + share * points, before.held + holds
            )
    return sorted(found.values(), key=lambda cost: (-cost.points, cost.control))


def _expiries(hosts: Sequence[HostDocument], now: datetime) -> list[Expiry]:
    """The last day of every certificate, the nearest first; one that lies on disk and is sent stands once for each host."""
    found: dict[tuple[str, str], Expiry] = {}
    for host in hosts:
        for certificate in host.certificates:
            end = datetime.fromisoformat(certificate.not_after)
            expiry = Expiry(host.name, certificate.place, certificate.subject, certificate.not_after, (end - now).days)
            found.setdefault((host.name, certificate.sha256), expiry)
    return sorted(found.values(), key=lambda expiry: (expiry.not_after, expiry.host))[:_MOST_EXPIRIES]
