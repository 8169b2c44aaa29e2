"""What stored runs say over time, of the fleet, of one host, or of one control. No document is opened for it."""

from __future__ import annotations

from collections.abc import Sequence
from math import fsum

from msgspec import Struct

from rupex.documents.comparison import TrendPoint
from rupex.history.store import History, HostFigures, StoredRun


class Line(Struct, frozen=True):
    """One host over the same runs: its score in each, None where it is not."""

    name: str
    values: tuple[float | None, ...]


class Trend(Struct, frozen=True):
    """``points`` oldest first; ``lines``: of a fleet, each host."""

    host: str | None
    control: str | None
    points: tuple[TrendPoint, ...]
    lines: tuple[Line, ...] = ()


def trend(history: History, *, host: str | None = None, control: str | None = None, since: str | None = None) -> Trend:
    """How scores went over the runs that started ``since`` a day: of one ``host``, of one ``control`` (at one host, or in the
    fleet), or of all hosts."""
    runs = [run for run in history.runs(host) if since is None or run.started >= since]
    if control is not None:
        return Trend(host, control, tuple(_of_control(history, runs, control, host)))
    rows: dict[int, list[HostFigures]] = {}
    for row in history.hosts_of([run.id for run in runs], host):
        rows.setdefault(row.run, []).append(row)
    points = tuple(_point(run, rows.get(run.id, [])) for run in runs)
    lines = () if host is not None else tuple(_lines(runs, rows))
    return Trend(host, None, points, lines)


def _of_control(history: History, runs: Sequence[StoredRun], control: str, host: str | None) -> list[TrendPoint]:
    if host is not None:
        by_run = {run: found.get(control, (0, 0.0)) for run, found in history.failures_of(host).items()}
        return [
            TrendPoint(
                run.id, run.started, 1, float(by_run[run.id][0] > 0), places=by_run[run.id][0], lost=by_run[run.id][1]
            )
            for run in runs
            if run.id in by_run
        ]
    costs = history.costs_of(control)
    found = []
    for run in runs:
        failing, places, lost = costs.get(run.id, (0, 0, 0.0))
        found.append(
            TrendPoint(run.id, run.started, run.hosts, float(failing), places=places, lost=lost / max(1, run.hosts))
        )
    return found


def _point(run: StoredRun, rows: Sequence[HostFigures]) -> TrendPoint:
    """The hosts of one run as one: each figure its mean by weight."""
    scored = [row for row in rows if row.value is not None]
    total = fsum(row.weight for row in scored)
    if not total:
        return TrendPoint(run.id, run.started, len(rows), None)
    value, low, high = (
        fsum(row.weight * figure for row, figure in zip(scored, figures, strict=True)) / total
        for figures in (
            [row.value or 0.0 for row in scored],
            [row.low for row in scored],
            [row.high for row in scored],
        )
    )
    return TrendPoint(run.id, run.started, len(rows), value, low, high, rows[0].held_by if len(rows) == 1 else None)


def _lines(runs: Sequence[StoredRun], rows: dict[int, list[HostFigures]]) -> list[Line]:
    values: dict[str, dict[int, float | None]] = {}
    for run, some in rows.items():
        for row in some:
            values.setdefault(row.name, {})[run] = row.value
    return [Line(name, tuple(by_run.get(run.id) for run in runs)) for name, by_run in sorted(values.items())]
