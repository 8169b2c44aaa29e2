"""What a comparison of two runs and a trend over many say."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from rupex.documents.run import PlaceDocument, Points
from rupex.model.judgement import Severity, Verdict


class ScorePair(Struct, frozen=True):
    old: Points | None
    new: Points | None


class LostPair(Struct, frozen=True):
    """Points that a control costs before and after."""

    control: str
    old: Points
    new: Points


Changed = Literal["better", "worse", "new", "gone"]


class ChangeDocument(Struct, frozen=True):
    """One place that came out otherwise. ``new``: its endpoint or control was not there before; ``gone``: it is no more.
    ``place`` is as in the run that has it, the newer one first."""

    control: str
    change: Changed
    severity: Severity
    place: PlaceDocument
    old: Verdict | None
    new: Verdict | None


class UnchangedDocument(Struct, frozen=True):
    """Why a control still fails, as far as the evidence shows: ``places`` of it have this ``reason``."""

    control: str
    severity: Severity
    reason: str
    evidence: str
    places: int


class HostComparison(Struct, frozen=True, kw_only=True):
    """``score`` null on a side where the host is not. ``parts``: where the points went; ``ceilings``: what held the score."""

    name: str
    score: ScorePair
    ceilings: ScorePair
    parts: tuple[LostPair, ...]
    changes: tuple[ChangeDocument, ...]
    unchanged_because: tuple[UnchangedDocument, ...]


class CompareDocument(Struct, frozen=True, kw_only=True):
    """Two runs laid side by side. ``notes``: what makes them harder to compare."""

    schema: Literal["rupex.compare/1"] = "rupex.compare/1"
    old: str
    new: str
    hosts: tuple[HostComparison, ...]
    notes: tuple[str, ...] = ()


class TrendPoint(Struct, frozen=True):
    """One run: its number, when it started, how many hosts it had, and the figures. ``value`` is a score (of a fleet the mean by
    weight), or, of a control, the hosts that fail it; ``low`` and ``high`` are a score's bounds; ``held_by``: what holds it."""

    run: int
    started: str
    hosts: int
    value: Points | None
    low: Points | None = None
    high: Points | None = None
    held_by: str | None = None
    places: int | None = None
    lost: Points | None = None


class TrendDocument(Struct, frozen=True, kw_only=True):
    """How a score, or the hosts that fail a ``control``, went over stored runs, oldest first; ``host`` null: of all hosts."""

    schema: Literal["rupex.trend/1"] = "rupex.trend/1"
    host: str | None
    control: str | None
    points: tuple[TrendPoint, ...]
