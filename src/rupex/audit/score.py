"""Verdicts and a baseline to a score with bounds, a ceiling, and a ledger of lost points.

Pure arithmetic on tallies; what is judged and how stands elsewhere. With weight w, and of n judged places n⁺ passed or
waived, n⁻ failed and n? unknown::

    uncapped = 100 · Σ w·(n⁺/n) / Σ w·k     k = (n⁺ + n⁻)/n     coverage = Σ w·k / Σ w
    low = 100 · Σ w·(n⁺/n) / Σ w            high = 100 · Σ w·((n⁺ + n?)/n) / Σ w

A failing place with a ceiling caps value, low and high; an unknown one that could fail so caps low only.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from math import fsum
from typing import Final, Literal

from msgspec import Struct, structs

Band = Literal["open", "weak", "fair", "firm", "hardened"]

BANDS: Final[tuple[tuple[float, Band], ...]] = ((40, "open"), (60, "weak"), (75, "fair"), (90, "firm"))
"""Each band with the score at which the next one begins; from 90 on a host is ``hardened``."""


class Tally(Struct, frozen=True):
    """How one control came out: counts of judged places, and the lowest ceilings among failing and unknown ones.

    ``because``: why the unknown place with the lowest ceiling is unknown. ``folded``: how many of the failed places fail
    only because the control that this one ``refines`` fails there.
    """

    control: str
    weight: float
    passed: int = 0
    failed: int = 0
    unknown: int = 0
    waived: int = 0
    ceiling: float | None = None
    unknown_ceiling: float | None = None
    waived_ceiling: float | None = None
    because: str = ""
    refines: str | None = None
    folded: int = 0

    @property
    def places(self) -> int:
        return self.passed + self.failed + self.unknown + self.waived


class Ceiling(Struct, frozen=True):
    """What holds a score down: ``lost`` is how many points."""

    value: float
    control: str
    lost: float


class LowCeiling(Struct, frozen=True):
    """What may hold a score down, once it is known."""

    value: float
    control: str
    because: str


class Score(Struct, frozen=True):
    """A host's score. ``value`` and ``band`` are None when nothing could be judged. Numbers are not rounded."""

    value: float | None
    low: float
    high: float
    uncapped: float | None
    unwaived: float | None
    coverage: float
    band: Band | None
    ceiling: Ceiling | None
    low_ceiling: LowCeiling | None


def score(tallies: Sequence[Tally]) -> Score:
    """The score for ``tallies``; those without a judged place or without weight do not count."""
    uncapped, low, high, coverage = _sums(tallies, waived_pass=True)
    holder = _lowest(tallies, "ceiling")
    doubt = _lowest(tallies, "unknown_ceiling")
    value, ceiling = uncapped, None
    if holder is not None and holder.ceiling is not None:
        lost = 0.0 if uncapped is None else max(0.0, uncapped - holder.ceiling)
        ceiling = Ceiling(holder.ceiling, holder.control, lost)
        value = None if uncapped is None else min(uncapped, holder.ceiling)
        low, high = min(low, holder.ceiling), min(high, holder.ceiling)
    low_ceiling = None
    if doubt is not None and doubt.unknown_ceiling is not None:
        if doubt.unknown_ceiling < low:
            low_ceiling = LowCeiling(doubt.unknown_ceiling, doubt.control, doubt.because)
        low = min(low, doubt.unknown_ceiling)
    return Score(value, low, high, uncapped, _unwaived(tallies), coverage, band_of(value), ceiling, low_ceiling)


def repaired(tallies: Iterable[Tally], controls: Collection[str]) -> list[Tally]:
    """The tallies as they would be with every failing place of ``controls`` repaired, and what was folded into them."""
    return [_repair(tally, controls) for tally in tallies]


def _repair(tally: Tally, controls: Collection[str]) -> Tally:
    if tally.control in controls:
        mended = tally.failed
    elif tally.refines in controls:
        mended = tally.folded
    else:
        return tally
    failing = tally.failed - mended
    return structs.replace(
        tally, passed=tally.passed + mended, failed=failing, folded=0, ceiling=tally.ceiling if failing else None
    )


def value_of(tallies: Sequence[Tally]) -> float:
    """Only the capped value, 0 when nothing could be judged."""
    uncapped, *_ = _sums(tallies, waived_pass=True)
    holder = _lowest(tallies, "ceiling")
    if uncapped is None:
        return 0.0
    return uncapped if holder is None or holder.ceiling is None else min(uncapped, holder.ceiling)


def lost_points(tally: Tally, tallies: Sequence[Tally]) -> float:
    """The points that ``tally``'s control costs before ceilings: 100·w·(n⁻/n)/Σ w·k."""
    if not tally.failed:
        return 0.0
    known = fsum(t.weight * (n - t.unknown) / n for t in tallies if (n := t.places))
    if not known:
        return 0.0
    return 100 * tally.weight * tally.failed / tally.places / known


def band_of(value: float | None) -> Band | None:
    """The word for a score, by one decimal."""
    if value is None:
        return None
    shown = round(value, 1)
    return next((name for end, name in BANDS if shown < end), "hardened")


def meets(result: Score, required: float, minimum_coverage: float) -> bool:
    """Whether a score meets a gate, by one decimal. Seeing less than ``minimum_coverage`` never does."""
    return result.value is not None and round(result.value, 1) >= required and result.coverage >= minimum_coverage


def _sums(tallies: Sequence[Tally], *, waived_pass: bool) -> tuple[float | None, float, float, float]:
    """Uncapped, low, high and coverage."""
    weights: list[float] = []
    passed: list[float] = []
    known: list[float] = []
    possible: list[float] = []
    for t in tallies:
        good = t.passed + t.waived if waived_pass else t.passed
        places = t.passed + t.failed + t.unknown + t.waived
        if places and t.weight > 0:
            weights.append(t.weight)
            passed.append(t.weight * good / places)
            known.append(t.weight * (places - t.unknown) / places)
            possible.append(t.weight * (good + t.unknown) / places)
    total = fsum(weights)
    if not total:
        return None, 0.0, 100.0, 0.0
    all_passed, all_known = fsum(passed), fsum(known)
    uncapped = 100 * min(all_passed / all_known, 1.0) if all_known else None
    return uncapped, 100 * all_passed / total, 100 * min(fsum(possible) / total, 1.0), all_known / total


def _lowest(tallies: Sequence[Tally], which: Literal["ceiling", "unknown_ceiling"]) -> Tally | None:
    holding = [t for t in tallies if getattr(t, which) is not None and t.weight > 0]
    return min(holding, key=lambda t: getattr(t, which), default=None)


def _unwaived(tallies: Sequence[Tally]) -> float | None:
    uncapped, *_ = _sums(tallies, waived_pass=False)
    if uncapped is None:
        return None
    ceilings = [c for t in tallies if t.weight > 0 for c in (t.ceiling, t.waived_ceiling) if c is not None]
    return min([uncapped, *ceilings])
