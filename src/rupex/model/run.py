"""The run document ``rupex.run/1``: what one execution found, and how it was judged."""

from __future__ import annotations

from typing import Any, Literal

from msgspec import UNSET, Struct, UnsetType, field

from rupex.model.endpoint import Endpoint
from rupex.model.facts import Running, Source
from rupex.model.judgement import Severity, Verdict
from rupex.model.problem import ProblemKind
from rupex.model.provenance import Provenance


class Tool(Struct, frozen=True):
    name: str
    version: str


class BaselineUsed(Struct, frozen=True):
    """``minimum_coverage``: the share of it that must have been seen before a gate can be met."""

    name: str
    version: str
    digest: str
    minimum_coverage: float


class CeilingInForce(Struct, frozen=True):
    """``lost``: points that the ceiling costs beside those of the controls."""

    value: float
    control: str
    lost: float


class CeilingInDoubt(Struct, frozen=True):
    """A ceiling that would hold if an unknown place failed."""

    value: float
    control: str
    because: str


class ScoreDocument(Struct, frozen=True):
    """Numbers from 0 to 100, not rounded; ``coverage`` from 0 to 1; ``value`` null when nothing could be judged."""

    value: float | None
    low: float
    high: float
    uncapped: float | None
    unwaived: float | None
    coverage: float
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
    ceiling: float | None = None
    case: str | UnsetType = UNSET
    waiver: WaiverUsed | UnsetType = UNSET
    folded: str | UnsetType = UNSET
    unseen: str | UnsetType = UNSET
    alike: int | UnsetType = UNSET

    @property
    def count(self) -> int:
        """How many places it stands for."""
        return 1 + (self.alike if isinstance(self.alike, int) else 0)


class Counts(Struct, frozen=True):
    passed: int = field(name="pass")
    fail: int
    unknown: int
    exempt: int
    waived: int


class CheckDocument(Struct, frozen=True, kw_only=True):
    """One control over all its places. ``attained`` from 0 to 1, null without evidence; ``lost`` and ``gain`` in points.
    ``holds``: the ceiling that a failing place sets; ``parameters``: the thresholds that it was judged by."""

    control: str
    verdict: Verdict
    severity: Severity
    weight: float
    attained: float | None
    lost: float
    gain: float
    title: str
    why: str
    remedy: str
    references: tuple[str, ...]
    cwe: tuple[str, ...]
    counts: Counts
    places: tuple[PlaceDocument, ...]
    holds: float | None = None
    parameters: dict[str, Any] = {}


class ProblemDocument(Struct, frozen=True):
    kind: ProblemKind
    file: str | None
    line: int | None
    message: str


class Step(Struct, frozen=True):
    """One thing to do: repair these ``controls`` together; ``gain`` in points, ``value`` the score reached."""

    controls: tuple[str, ...]
    gain: float
    value: float


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
    weight: float
    behind: str


class HostDocument(Struct, frozen=True, kw_only=True):
    """``traces``: the files that decided what fails or is unknown, to tell later whether they changed; ``running``: the
    processes of its servers, where the tree knows them; ``baseline``: of a fleet, the host's own."""

    name: str
    sources: tuple[Source, ...]
    score: ScoreDocument
    endpoints: tuple[Endpoint, ...]
    checks: tuple[CheckDocument, ...]
    steps: tuple[Step, ...]
    problems: tuple[ProblemDocument, ...]
    traces: tuple[FileTrace, ...] = ()
    running: tuple[Running, ...] = ()
    excerpts: tuple[Excerpt, ...] = ()
    certificates: tuple[CertificateSeen, ...] = ()
    inventory: InventoryRow | UnsetType = UNSET
    baseline: BaselineUsed | UnsetType = UNSET


class FleetPart(Struct, frozen=True):
    """Hosts of one owner or tag: how many, how many of them have a score, the mean of those by weight, and the worst."""

    name: str
    hosts: int
    scored: int
    mean: float | None
    worst: str | None


class FleetCost(Struct, frozen=True):
    """What one control costs the fleet: ``hosts`` fail it, by ``points`` of the mean; of ``held`` it holds the score."""

    control: str
    title: str
    hosts: int
    points: float
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
    mean: float | None
    ranking: tuple[str, ...]
    owners: tuple[FleetPart, ...]
    tags: tuple[FleetPart, ...]
    costs: tuple[FleetCost, ...]
    expiries: tuple[Expiry, ...]


class SettingsUsed(Struct, frozen=True):
    """A file that gave defaults for options, and for which."""

    file: str
    options: tuple[str, ...]


class Run(Struct, frozen=True, kw_only=True):
    schema: Literal["rupex.run/1"] = "rupex.run/1"
    tool: Tool
    started: str
    seconds: float
    complete: bool
    baseline: BaselineUsed
    settings: SettingsUsed | UnsetType = UNSET
    waivers: WaiversUsed | UnsetType = UNSET
    fleet: FleetDocument | UnsetType = UNSET
    hosts: tuple[HostDocument, ...]


class ScorePair(Struct, frozen=True):
    old: float | None
    new: float | None


class LostPair(Struct, frozen=True):
    """Points that a control costs before and after."""

    control: str
    old: float
    new: float


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
    value: float | None
    low: float | None = None
    high: float | None = None
    held_by: str | None = None
    places: int | None = None
    lost: float | None = None


class TrendDocument(Struct, frozen=True, kw_only=True):
    """How a score, or the hosts that fail a ``control``, went over stored runs, oldest first; ``host`` null: of all hosts."""

    schema: Literal["rupex.trend/1"] = "rupex.trend/1"
    host: str | None
    control: str | None
    points: tuple[TrendPoint, ...]


class EffectiveDocument(Struct, frozen=True, kw_only=True):
    schema: Literal["rupex.effective/1"] = "rupex.effective/1"
    endpoints: tuple[Endpoint, ...]
    problems: tuple[ProblemDocument, ...]


class Because(Struct, frozen=True):
    message: str
    provenance: Provenance


class Response(Struct, frozen=True):
    """``closed``: the connection is closed without an answer."""

    status: int | None
    location: str | None
    headers: tuple[tuple[str, str], ...]
    closed: bool = False


class AnswerDocument(Struct, frozen=True, kw_only=True):
    """What a request will get. ``unknown``: why it cannot be told to its end."""

    schema: Literal["rupex.answer/1"] = "rupex.answer/1"
    url: str
    endpoint: str
    scope: str
    transport: str
    response: Response
    why: tuple[Because, ...]
    unknown: str | None = None


class SuiteDocument(Struct, frozen=True, kw_only=True):
    """One suite that an expression selects. ``openssl`` null: the library never had it; ``version``: the lowest that can
    use it; ``bits``: of the key; ``breaks``: the controls that a listener fails which negotiates it; ``refused``: the
    security level in force keeps it from being negotiated."""

    code: str
    name: str
    openssl: str | None
    version: str
    key_exchange: str | None
    authentication: str | None
    encryption: str
    bits: int
    mac: str
    forward_secrecy: bool
    breaks: tuple[str, ...]
    refused: bool


class ExpressionDocument(Struct, frozen=True, kw_only=True):
    """What one expression selects, in order of preference. ``level``: the security level in force; ``unknown_words``:
    the parts that name nothing, which the library passes over."""

    expression: str
    library: str
    level: int
    suites: tuple[SuiteDocument, ...]
    unknown_words: tuple[str, ...]


class SuitesDocument(Struct, frozen=True, kw_only=True):
    schema: Literal["rupex.suites/1"] = "rupex.suites/1"
    expressions: tuple[ExpressionDocument, ...]


class GovernedDocument(Struct, frozen=True, kw_only=True):
    """One endpoint or scope that a line governs, and the settings of it that the line decides."""

    endpoint: str
    scope: str | None
    settings: tuple[str, ...]


class LineDocument(Struct, frozen=True, kw_only=True):
    """What a line of a configuration governs. ``text``: the line as written."""

    schema: Literal["rupex.line/1"] = "rupex.line/1"
    file: str
    line: int
    text: str
    governs: tuple[GovernedDocument, ...]


class CertifiedKey(Struct, frozen=True):
    type: str
    bits: int | None


class CertificateItem(Struct, frozen=True, kw_only=True, tag_field="kind", tag="certificate"):
    """A certificate in a file; ``position`` counts from 1. ``days_left`` is rounded down; of ``lifetime_days`` a part day
    counts as a day. ``usable``: made for a server. ``entry``: its name in a key store."""

    file: str
    mode: str | None
    owner: str | None
    group: str | None
    position: int
    subject: str
    issuer: str
    names: tuple[str, ...]
    not_before: str
    not_after: str
    days_left: int
    lifetime_days: int
    key: CertifiedKey
    digest: str | None
    self_signed: bool
    is_ca: bool
    usable: bool
    serial: str
    sha256: str
    public_sha256: str
    entry: str | None = None


class KeyItem(Struct, frozen=True, kw_only=True, tag_field="kind", tag="key"):
    """A private key in a file, described. ``sound`` null: it was not looked at, or is encrypted; ``flaw``: why it is not.
    ``primes``: of an RSA key, whether they were tried for being primes, which takes long and is done for the first few only.
    ``readers``: the accounts but root that can read the file, null when nobody can tell; ``everyone``: anybody can."""

    file: str
    mode: str | None
    owner: str | None
    group: str | None
    type: str
    bits: int | None
    encrypted: bool
    sound: bool | None
    flaw: str | None
    public_sha256: str | None
    readers: tuple[str, ...] | None
    everyone: bool | None
    entry: str | None = None
    primes: Literal["tried", "not tried"] | None = None


class KeystoreItem(Struct, frozen=True, kw_only=True, tag_field="kind", tag="keystore"):
    """A key store. ``password``: which one opens it: a well-known ``default``, the one ``given``, ``none``, or ``unknown``."""

    file: str
    mode: str | None
    owner: str | None
    group: str | None
    format: str
    entries: int | None
    password: Literal["default", "given", "none", "unknown"]


class AccountItem(Struct, frozen=True, kw_only=True, tag_field="kind", tag="account"):
    """The store of an automatic certificate client: its account's key and its ``certificates``, counted."""

    file: str
    mode: str | None
    owner: str | None
    group: str | None
    certificates: int


CredentialItem = CertificateItem | KeyItem | KeystoreItem | AccountItem


class PairDocument(Struct, frozen=True):
    """Whether a key belongs to a certificate, each by its file."""

    certificate: str
    key: str
    match: bool


class ChainDocument(Struct, frozen=True):
    """The certificates of a file as a chain: ``ordered``, leaf first; ``missing``: the issuer at which it ends, null where it
    ends at a certificate that signs itself."""

    file: str
    ordered: bool
    missing: str | None


class CredentialDocument(Struct, frozen=True, kw_only=True):
    schema: Literal["rupex.credential/1"] = "rupex.credential/1"
    items: tuple[CredentialItem, ...]
    pairs: tuple[PairDocument, ...]
    chains: tuple[ChainDocument, ...]
    problems: tuple[ProblemDocument, ...]
