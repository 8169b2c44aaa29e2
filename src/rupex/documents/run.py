"""The run document ``rupex.run/1``: what one execution found, and how it was judged."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Annotated, Any, Literal

from msgspec import UNSET, Meta, Struct, UnsetType, field

from rupex.model.change import Effort
from rupex.model.endpoint import Endpoint
from rupex.model.facts import Running, Source
from rupex.model.judgement import Severity, Verdict
from rupex.model.problem import ProblemKind
from rupex.model.provenance import Provenance

Points = Annotated[float, Meta(ge=-100, le=100)]
"""A score, or a part of one, or what it would change by."""
Weight = Annotated[float, Meta(ge=0, le=1_000_000)]
Part = Annotated[float, Meta(ge=0, le=1)]
"""A share of a whole."""
Seconds = Annotated[float, Meta(ge=0, le=1e9)]


class Tool(Struct, frozen=True):
    name: str
    version: str


class BaselineUsed(Struct, frozen=True):
    """``minimum_coverage``: the share of it that must have been seen before a gate can be met."""

    name: str
    version: str
    digest: str
    minimum_coverage: Part


class CeilingInForce(Struct, frozen=True):
    """``lost``: points that the ceiling costs beside those of the controls."""

    value: Points
    control: str
    lost: Points


class CeilingInDoubt(Struct, frozen=True):
    """A ceiling that would hold if an unknown place failed."""

    value: Points
    control: str
    because: str


class ScoreDocument(Struct, frozen=True):
    """Numbers from 0 to 100, not rounded; ``coverage`` from 0 to 1; ``value`` null when nothing could be judged."""

    value: Points | None
    low: Points
    high: Points
    uncapped: Points | None
    unwaived: Points | None
    coverage: Part
    band: Literal["open", "weak", "fair", "firm", "hardened"] | None
    ceiling: CeilingInForce | None
    low_ceiling: CeilingInDoubt | None


class WaiverUsed(Struct, frozen=True):
    """The waiver of a place, by its ``number`` in the document. ``over``: it has run out, so that the failure counts."""

    number: int
    reason: str
    owner: str
    until: str
    over: bool


class PlaceDocument(Struct, frozen=True, kw_only=True):
    """One place of a check. ``case``: which of the control's cases a failure is; ``folded``: the control whose failure here
    brings this one with it; ``unseen``: the file that could not be read, for the place that nobody has seen; ``alike``: how
    many further places are like this one, where they are not listed."""

    verdict: Verdict
    severity: Severity
    endpoint: str | None = None
    scope: str | None = None
    name: str | None = None
    file: str | None = None
    line: int | None = None
    column: int | None = None
    message: str = ""
    evidence: str | None = None
    provenance: Provenance | None = None
    ceiling: Points | None = None
    case: str | UnsetType = UNSET
    waiver: WaiverUsed | UnsetType = UNSET
    folded: str | UnsetType = UNSET
    unseen: str | UnsetType = UNSET
    alike: int | UnsetType = UNSET

    @property
    def count(self) -> int:
        """How many places it stands for."""
        return 1 + (self.alike if isinstance(self.alike, int) else 0)

    @property
    def finding(self) -> tuple[object, ...]:
        """What was found, the same for all places where that was found."""
        return (
            self.verdict, self.severity, self.message, self.evidence, self.ceiling, self.case, self.folded, self.unseen,
            self.waiver,
        )  # fmt: skip


def by_finding(places: Iterable[PlaceDocument]) -> tuple[PlaceDocument, ...]:
    """``places``, those with the same finding behind the first of them."""
    found: dict[tuple[object, ...], list[PlaceDocument]] = {}
    for place in places:
        found.setdefault(place.finding, []).append(place)
    return tuple(place for some in found.values() for place in some)


class Counts(Struct, frozen=True):
    passed: int = field(name="pass")
    fail: int
    unknown: int
    exempt: int
    waived: int


class CheckDocument(Struct, frozen=True, kw_only=True):
    """One control over all its places.

    ``attained``: from 0 to 1, null without evidence.
    ``lost``, ``gain``: in points.
    ``ceiling``: what a failing place sets, ``holds`` in JSON.
    ``block``: what to paste at the first failing place, where the server's family has a block for the change.
    ``effort``: what the change takes.
    ``parameters``: the thresholds that it was judged by.
    """

    control: str
    verdict: Verdict
    severity: Severity
    weight: Weight
    attained: Part | None
    lost: Points
    gain: Points
    title: str
    why: str
    remedy: str
    references: tuple[str, ...]
    cwe: tuple[str, ...]
    counts: Counts
    places: tuple[PlaceDocument, ...] = ()
    ceiling: Points | None = field(default=None, name="holds")
    block: str = ""
    effort: Effort | None = None
    parameters: dict[str, Any] = {}


class ProblemDocument(Struct, frozen=True):
    kind: ProblemKind
    file: str | None
    line: int | None
    message: str


class Step(Struct, frozen=True):
    """One thing to do: repair these ``controls`` together; ``gain`` in points, ``value`` the score reached."""

    controls: tuple[str, ...]
    gain: Points
    value: Points


class WaiverRow(Struct, frozen=True):
    """A waiver as it fared in a run: ``places``: at how many it stands; ``state``: ``unused`` where there is none."""

    number: int
    control: str
    host: str
    place: str
    reason: str
    owner: str
    until: str
    places: int
    state: Literal["in force", "run out", "unused"]


class WaiversUsed(Struct, frozen=True):
    document: str
    digest: str
    rows: tuple[WaiverRow, ...]


class FileTrace(Struct, frozen=True):
    """A file that decided something: a digest of its content, null where it holds a key or cannot be read; and when it was
    written, null where the tree did not keep times."""

    file: str
    sha256: str | None
    modified: str | None


class Excerpt(Struct, frozen=True):
    """Lines around one that decides something, from line ``start`` on; secrets in them are left out."""

    file: str
    line: int
    start: int
    lines: tuple[str, ...]


class CertificateSeen(Struct, frozen=True):
    """A certificate of the host: its file, or the listener that sent it; ``public_sha256`` is of its public key."""

    place: str
    source: Literal["files", "wire"]
    subject: str
    issuer: str
    names: tuple[str, ...]
    not_before: str
    not_after: str
    lifetime_days: int
    key_type: str
    key_bits: int | None
    digest: str | None
    sha256: str
    public_sha256: str
    endpoints: tuple[str, ...]


class InventoryRow(Struct, frozen=True):
    """What a fleet's inventory says of the host."""

    owner: str
    tags: tuple[str, ...]
    weight: Weight
    behind: str


class SiteTemplate(Struct, frozen=True):
    """What sites that are written from one template are.

    ``endpoint``: the endpoint, with ``words`` where the sites differ; its id is that of the first of them.
    ``words``: the words that each site has its own for.
    """

    endpoint: Endpoint
    words: tuple[str, ...]


class Site(Struct, frozen=True):
    """An endpoint that is written from a template.

    ``id``: its own.
    ``template``: the id of the template's endpoint.
    ``words``: its own, in the order of the template's.
    ``at``: its place among all endpoints of the host, from 0.
    """

    id: str
    template: str
    words: tuple[str, ...]
    at: int


class PackedEndpoints(Struct, frozen=True):
    """Endpoints as a ``rupex.run/2`` has them, and what they refer to, by number; of a half of a host."""

    endpoints: tuple[bytes, ...]
    repeated: tuple[bytes, ...]


class HostDocument(Struct, frozen=True, kw_only=True):
    """One host, judged.

    ``endpoints``: those that are written out.
    ``templates``, ``sites``: the others. A place at the endpoint of a template stands for all of its sites, in their words.
    ``traces``: the files that decided what fails or is unknown, to tell later whether they changed.
    ``running``: the processes of its servers, where the tree knows them.
    ``baseline``: of a fleet, the host's own.
    ``packed``: in memory only, endpoints that nobody needs but who writes the document.
    ``taken_over``: this is the result of an earlier run of the fleet that was interrupted, of the same day and the same files.
    """

    name: str
    sources: tuple[Source, ...]
    score: ScoreDocument
    endpoints: tuple[Endpoint, ...]
    templates: tuple[SiteTemplate, ...] = ()
    sites: tuple[Site, ...] = ()
    checks: tuple[CheckDocument, ...]
    steps: tuple[Step, ...]
    problems: tuple[ProblemDocument, ...]
    traces: tuple[FileTrace, ...] = ()
    running: tuple[Running, ...] = ()
    excerpts: tuple[Excerpt, ...] = ()
    certificates: tuple[CertificateSeen, ...] = ()
    inventory: InventoryRow | UnsetType = UNSET
    baseline: BaselineUsed | UnsetType = UNSET
    taken_over: bool | UnsetType = UNSET
    packed: tuple[PackedEndpoints, ...] = ()


class FleetPart(Struct, frozen=True):
    """Hosts of one owner or tag: how many, how many of them have a score, the mean of those by weight, and the worst."""

    name: str
    hosts: int
    scored: int
    mean: Points | None
    worst: str | None


class FleetCost(Struct, frozen=True):
    """What one control costs the fleet: ``hosts`` fail it, by ``points`` of the mean; of ``held`` it holds the score."""

    control: str
    title: str
    hosts: int
    points: Points
    held: int


class Expiry(Struct, frozen=True):
    """A certificate with its last day, and the days left on the day of the run, rounded down."""

    host: str
    place: str
    subject: str
    not_after: str
    days_left: int


class FleetDocument(Struct, frozen=True, kw_only=True):
    """The fleet as a whole. ``ranking``: host names, worst first; ``mean``: of the scores, by weight."""

    inventory: str
    mean: Points | None
    ranking: tuple[str, ...]
    owners: tuple[FleetPart, ...]
    tags: tuple[FleetPart, ...]
    costs: tuple[FleetCost, ...]
    expiries: tuple[Expiry, ...]


class SettingsUsed(Struct, frozen=True):
    """A file that gave defaults for ``options``. ``not_taken``: keys of it that decide more than how results look, which a
    file that the user did not name may not; or the reason why nothing of it was read."""

    file: str
    options: tuple[str, ...]
    not_taken: tuple[str, ...] = ()


class Run(Struct, frozen=True, kw_only=True):
    schema: Literal["rupex.run/1"] = "rupex.run/1"
    tool: Tool
    started: str
    seconds: Seconds
    complete: bool
    baseline: BaselineUsed
    settings: SettingsUsed | UnsetType = UNSET
    waivers: WaiversUsed | UnsetType = UNSET
    fleet: FleetDocument | UnsetType = UNSET
    hosts: tuple[HostDocument, ...]


def is_time(text: str) -> bool:
    """Whether ``text`` is a time as documents have it."""
    try:
        datetime.fromisoformat(text)
    except ValueError:
        return False
    return len(text) == len("2026-11-24T09:30:00Z") and text.endswith("Z")
