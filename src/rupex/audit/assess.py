"""One host judged and scored: evidence and a baseline to the host's part of a run document."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path
from typing import Final

import msgspec
from msgspec import UNSET, Struct, structs

from rupex.audit.collect import Evidence, Scene, gather, host_of, open_scene
from rupex.audit.judge import Judged, JudgedControl, judge
from rupex.audit.score import Tally, lost_points, repaired, score, value_of
from rupex.baseline import Baseline, Rule, Waiver, Waivers
from rupex.documents.encoding import encode_msgpack
from rupex.documents.redaction import redacted, redacted_endpoint, redacted_lines
from rupex.documents.run import (
    CeilingInDoubt,
    CeilingInForce,
    CertificateSeen,
    CheckDocument,
    Counts,
    Excerpt,
    FileTrace,
    HostDocument,
    PlaceDocument,
    ProblemDocument,
    ScoreDocument,
    Step,
    WaiverRow,
    WaiversUsed,
    WaiverUsed,
)
from rupex.host import HostTree, TreeError
from rupex.host.facts.processes import find_running
from rupex.host.tree.opening import archive_name, is_archive
from rupex.masking.languages import language_of
from rupex.masking.secrets import without_secrets
from rupex.model import (
    Certificate,
    CertificateFile,
    Endpoint,
    Fail,
    Host,
    Life,
    Pass,
    Problem,
    Provenance,
    RupexError,
    Sample,
    lifetime_days,
)
from rupex.model.judgement import Verdict, worst_verdict
from rupex.parallel import both, has_two_cores
from rupex.servers.contract import Share

WORTH_SHARING: Final = 300
"""Configuration files from which on a second core saves more than it costs to bring its results back."""

SAMPLES: Final = 8
"""Of places that are like another one, how many are listed when nobody wants them all: a text shows no more."""

_NAMES_SHOWN: Final = 200
"""Names and endpoints of one certificate that a document has."""

MOST_EXCERPTS: Final = 300
"""Places of one host that are shown with the lines around them."""
_LINES_AROUND: Final = 2
_LINE_CHARACTERS: Final = 160
_EXCERPT_BYTES: Final = 1 << 20
"""A file from which lines are shown; a larger one was made by a program, and takes seconds to be looked through."""

MOST_TRACES: Final = 2_000
"""Files of one host that are told with their digest."""

HERE: Final = 0.52
"""The part that is worked on here, and not in the child: what it shares is copied as soon as it looks at it."""


class Findings(Struct):
    """What one control found, in a form that can be added up. ``ceiling``: the lowest of the failing places; ``lifted``: of
    the waived ones; ``because``: why the first unknown place is unknown; ``folded``: failed places that only follow another
    control's."""

    counts: dict[Verdict, int]
    places: list[PlaceDocument]
    ceiling: float | None = None
    lifted: float | None = None
    because: str = ""
    folded: int = 0

    def add(self, other: Findings) -> None:
        for verdict, count in other.counts.items():
            self.counts[verdict] += count
        self.places += other.places
        self.ceiling = min((c for c in (self.ceiling, other.ceiling) if c is not None), default=None)
        self.lifted = min((c for c in (self.lifted, other.lifted) if c is not None), default=None)
        self.because = self.because or other.because
        self.folded += other.folded


class HalfHost(Struct):
    """What a child brings back of its share: the findings by control, and what the whole host needs to know. ``spent``: steps
    of work that the share took."""

    findings: dict[str, Findings]
    endpoints: tuple[Endpoint, ...]
    samples: tuple[Sample, ...]
    problems: tuple[Problem, ...]
    lives: tuple[Life, ...]
    certificates: tuple[CertificateSeen, ...]
    spent: int


def assess(
    host: Host, baseline: Baseline, now: datetime, *, keep_all: bool = False, waivers: Waivers | None = None
) -> HostDocument:
    """Judge and score ``host``. ``keep_all``: list passed and exempt places too; ``waivers``: failures that are accepted."""
    return _document(host, baseline, _findings(judge(host, baseline, now, keep_all=keep_all, waivers=waivers), now))


def assess_tree(
    tree: HostTree,
    start: str,
    baseline: Baseline,
    now: datetime,
    *,
    name: str,
    family: str | None = None,
    assumed: Mapping[str, str] | None = None,
    keep_all: bool = False,
    endpoints: bool = True,
    waivers: Waivers | None = None,
) -> HostDocument:
    """Gather, judge and score the host in ``tree``; a large one on two cores, with the same result. Raises as
    :func:`~rupex.audit.collect.gather` does.

    ``endpoints``: whether the document has them; without, endpoints that are like another one are not written out.
    """
    outlines = not endpoints and not keep_all and waivers is None
    samples = SAMPLES if outlines else None

    def opened() -> Scene:
        return open_scene(tree, start, name=name, family=family, assumed=assumed)

    def found(host: Host, *, whole_host: bool | None) -> dict[str, Findings]:
        judged = judge(host, baseline, now, keep_all=keep_all, whole_host=whole_host, samples=samples, waivers=waivers)
        return _findings(judged, now)

    def whole(scene: Scene) -> HostDocument:
        host = host_of(scene, outlines=outlines)
        return _document(host, baseline, found(host, whole_host=None))

    def there() -> bytes:
        before = scene.budget.spent
        host = host_of(scene, Share(HERE, 1.0), outlines=outlines)
        told = host.endpoints
        if outlines:  # what they negotiate is judged here, and nobody else will ask
            told = tuple(structs.replace(e, tls=None) if e.id in host.alike else e for e in told)
        findings, certificates = found(host, whole_host=False), () if outlines else _certificates(host)
        spent = scene.budget.spent - before
        return encode_msgpack(HalfHost(findings, told, host.samples, host.problems, host.lives, certificates, spent))

    def here() -> tuple[Host, dict[str, Findings], int]:
        before = scene.budget.spent
        host = host_of(scene, Share(0.0, HERE), outlines=outlines)
        return host, found(host, whole_host=False), scene.budget.spent - before

    def shared() -> HostDocument | None:
        """What is read is shared with a child: that a page of it is copied costs less than reading it again. None where the
        shares took more work than a host may make: on one core it might have stopped elsewhere."""
        left = scene.budget.left
        (first, findings, spent), received = both(here, there)
        second = msgspec.msgpack.decode(received, type=HalfHost)
        if spent + second.spent > left:
            return None
        host = structs.replace(
            first,
            endpoints=first.endpoints + second.endpoints,
            samples=first.samples + second.samples,
            problems=first.problems + second.problems,
            lives=first.lives + second.lives,
        )
        for control, more in second.findings.items():
            findings[control].add(more)
        document = _document(host, baseline, findings | found(host, whole_host=True))
        return structs.replace(document, certificates=document.certificates + second.certificates)

    scene = opened()
    files = sum(len(one.files) for one in scene.configurations)
    document = shared() if has_two_cores() and files >= WORTH_SHARING else whole(scene)
    if document is None:
        scene = opened()
        document = whole(scene)
    return traced(document, tree) if endpoints else structs.replace(document, endpoints=())


def traced(document: HostDocument, tree: HostTree) -> HostDocument:
    """``document`` with what a later run needs to tell whether anything was done: digests and times of the files that decide
    what fails, and the processes of the servers."""
    files: dict[str, None] = {}
    for place in (place for check in document.checks for place in check.places):
        decided = place.provenance.file if place.provenance is not None else None
        for file in (place.file, decided):
            if file is not None and place.verdict in ("fail", "unknown") and len(files) < MOST_TRACES:
                files[file] = None
    contents = {file: _content(file, tree) for file in files}
    return structs.replace(
        document,
        traces=tuple(_trace(file, content, tree) for file, content in contents.items()),
        running=find_running(tree),
        excerpts=tuple(_excerpts(document, contents)),
    )


def _content(file: str, tree: HostTree) -> bytes:
    """The bytes of a file, none where it cannot be read."""
    try:
        return tree.read(file)
    except TreeError:
        return b""


def _excerpts(document: HostDocument, contents: Mapping[str, bytes]) -> Iterator[Excerpt]:
    """The lines around those that decide what fails."""
    wanted: dict[tuple[str, int], None] = {}
    for check in document.checks:
        for place in check.places:
            if place.verdict != "fail" or place.file is None or place.line is None:
                continue
            if place.file in contents and len(wanted) < MOST_EXCERPTS:
                wanted[place.file, place.line] = None
    families = {endpoint.id: endpoint.family for endpoint in document.endpoints}
    languages = {
        place.file: language_of(place.file, families.get(place.endpoint or ""))
        for check in document.checks
        for place in check.places
        if place.file is not None
    }
    texts = {
        file: redacted_lines(contents[file].decode("utf-8", "replace"), languages[file])
        for file in dict.fromkeys(file for file, _ in wanted)
        if len(contents[file]) <= _EXCERPT_BYTES
    }
    for file, line in wanted:
        if file not in texts:
            continue
        start = max(1, line - _LINES_AROUND)
        lines = texts[file][start - 1 : line + _LINES_AROUND]
        shown = tuple(text.rstrip("\r").expandtabs(4)[:_LINE_CHARACTERS] for text in lines)
        if any(shown):
            yield Excerpt(file, line, start, shown)


def _trace(file: str, content: bytes, tree: HostTree) -> FileTrace:
    has_key = b"PRIVATE KEY" in content or content[:1] in (b"\x30", b"\xfe", b"\xce")
    written = tree.modified(file)
    # The digest of a short file with a password in it would let anybody try passwords.
    told = without_secrets(content.decode("latin-1")).encode("latin-1", "replace")
    return FileTrace(
        file,
        None if has_key or not content else sha256(told).hexdigest(),
        None if written is None else written.strftime("%Y-%m-%dT%H:%M:%SZ"),
    )


def _findings(judged: Iterable[JudgedControl], now: datetime) -> dict[str, Findings]:
    found = {}
    for control in judged:
        ceilings = [p.ceiling for p in control.places if p.verdict == "fail" and p.ceiling is not None]
        lifted = [p.ceiling for p in control.places if p.verdict == "waived" and p.ceiling is not None]
        places = [_place(place, now) for place in control.places]
        found[control.rule.control.id] = Findings(
            control.counts,
            places,
            min(ceilings, default=None),
            min(lifted, default=None),
            next((place.message for place in places if place.verdict == "unknown"), ""),
            sum(1 + p.alike for p in control.places if p.folded is not None and p.verdict == "fail"),
        )
    return found


def tally(rule: Rule, findings: Findings) -> Tally:
    """What a control counts for, with the weight and the ceilings of ``rule``."""
    counts = findings.counts
    return Tally(
        control=rule.control.id,
        weight=rule.weight,
        passed=counts["pass"],
        failed=counts["fail"],
        unknown=counts["unknown"],
        waived=counts["waived"],
        ceiling=findings.ceiling,
        unknown_ceiling=rule.lowest_ceiling if counts["unknown"] else None,
        waived_ceiling=findings.lifted,
        because=findings.because,
        refines=rule.control.refines,
        folded=findings.folded,
    )


def revised(document: HostDocument, baseline: Baseline, more: Iterable[JudgedControl], now: datetime) -> HostDocument:
    """``document`` with ``more`` controls in it, such as those that only a whole fleet can judge, scored again."""
    findings = {check.control: found_before(check) for check in document.checks} | _findings(more, now)
    host = Host(name=document.name, sources=document.sources, endpoints=document.endpoints)
    again = _document(host, baseline, findings)
    return structs.replace(document, score=again.score, checks=again.checks, steps=again.steps)


def found_before(check: CheckDocument) -> Findings:
    """What a control found, read back from a document."""
    counts = check.counts
    found: dict[Verdict, int] = {
        "pass": counts.passed, "fail": counts.fail, "unknown": counts.unknown, "exempt": counts.exempt,
        "waived": counts.waived,
    }  # fmt: skip
    lifted = [place.ceiling for place in check.places if place.verdict == "waived" and place.ceiling is not None]
    return Findings(
        found,
        list(check.places),
        check.holds,
        min(lifted, default=None),
        next((place.message for place in check.places if place.verdict == "unknown"), ""),
        sum(place.count for place in check.places if place.folded and place.verdict == "fail"),
    )


def _document(host: Host, baseline: Baseline, findings: Mapping[str, Findings]) -> HostDocument:
    rules = [(rule, findings[name]) for name, rule in baseline.rules.items() if name in findings]
    tallies = [tally(rule, found) for rule, found in rules]
    result = score(tallies)
    value = result.value or 0.0
    families = tuple(dict.fromkeys(source.family for source in host.sources if source.family))
    ceiling, doubt = result.ceiling, result.low_ceiling
    return HostDocument(
        name=host.name,
        sources=host.sources,
        score=ScoreDocument(
            result.value, result.low, result.high, result.uncapped, result.unwaived, result.coverage, result.band,
            None if ceiling is None else CeilingInForce(ceiling.value, ceiling.control, ceiling.lost),
            None if doubt is None else CeilingInDoubt(doubt.value, doubt.control, doubt.because),
        ),
        endpoints=tuple(map(redacted_endpoint, host.endpoints)),
        checks=tuple(
            _check(rule, found, tally, tallies, value, families)
            for (rule, found), tally in zip(rules, tallies, strict=True)
        ),
        steps=tuple(first_steps(tallies)),
        problems=tuple(ProblemDocument(p.kind, p.file, p.line, redacted(p.message)) for p in host.problems),
        certificates=_certificates(host),
    )  # fmt: skip


def _certificates(host: Host) -> tuple[CertificateSeen, ...]:
    return tuple(_certificate(file, file.leaf) for file in host.certificates if file.leaf is not None)


def _certificate(file: CertificateFile, leaf: Certificate) -> CertificateSeen:
    return CertificateSeen(
        file.path, file.source, leaf.subject, leaf.issuer, leaf.names[:_NAMES_SHOWN],
        leaf.not_before.strftime("%Y-%m-%dT%H:%M:%SZ"), leaf.not_after.strftime("%Y-%m-%dT%H:%M:%SZ"),
        lifetime_days(leaf.not_before, leaf.not_after), leaf.key_type, leaf.key_bits, leaf.digest, leaf.sha256,
        leaf.public_sha256, file.endpoints[:_NAMES_SHOWN],
    )  # fmt: skip


def _check(
    rule: Rule, findings: Findings, tally: Tally, tallies: list[Tally], value: float, families: tuple[str, ...]
) -> CheckDocument:
    control, counts = rule.control, findings.counts
    known = tally.places - tally.unknown
    severities = {place.severity for place in findings.places if place.verdict == "fail"}
    worst = min(severities, key=("critical", "high", "medium", "low").index, default=rule.severity)
    return CheckDocument(
        control=control.id,
        verdict=worst_verdict(verdict for verdict, count in counts.items() if count),
        severity=worst,
        weight=rule.weight,
        attained=(tally.passed + tally.waived) / known if known else None,
        lost=lost_points(tally, tallies),
        gain=value_of(repaired(tallies, {control.id})) - value if tally.failed else 0.0,
        title=control.title,
        why=control.why,
        remedy=control.remedy_for(families),
        references=control.references,
        cwe=control.cwe,
        counts=Counts(counts["pass"], counts["fail"], counts["unknown"], counts["exempt"], counts["waived"]),
        places=tuple(findings.places),
        holds=tally.ceiling,
        parameters=rule.plain_parameters(),
    )


def _place(judged: Judged, now: datetime) -> PlaceDocument:
    endpoint, scope, name, path = judged.key
    judgement, source = judged.judgement, judged.source
    provenance: Provenance | None = getattr(judgement, "provenance", None)
    message = judgement.message if isinstance(judgement, Fail | Pass) else judgement.why
    file, line, column = path, None, None
    if path is None and provenance is not None:
        file, line, column = provenance.file, provenance.line, provenance.column
    elif path is not None and provenance is None and not judged.unseen:
        named_by = getattr(source, "named_by", ())
        provenance = named_by[0] if named_by else None
    return PlaceDocument(
        verdict=judged.verdict, severity=judged.severity, endpoint=endpoint, scope=scope, name=name,
        file=file, line=line, column=column, message=redacted(message),
        evidence=redacted(judgement.evidence) if isinstance(judgement, Fail) and judgement.evidence else None,
        provenance=provenance, ceiling=judged.ceiling,
        case=(isinstance(judgement, Fail) and judged.folded is None and judgement.case) or UNSET,
        waiver=UNSET if judged.waiver is None else _waiver(judged.waiver, now),
        folded=UNSET if judged.folded is None else judged.folded,
        unseen=UNSET if judged.unseen is None else judged.unseen,
        alike=judged.alike or UNSET,
    )  # fmt: skip


def _waiver(waiver: Waiver, now: datetime) -> WaiverUsed:
    return WaiverUsed(
        waiver.number, waiver.reason, waiver.owner, waiver.until.isoformat(), waiver.is_over(now.date())
    )  # fmt: skip


def waivers_used(waivers: Waivers, hosts: Iterable[HostDocument], now: datetime) -> WaiversUsed:
    """How each waiver fared: at how many places of ``hosts`` it stands, and whether it has run out."""
    counts: dict[int, int] = {}
    for host in hosts:
        for place in (place for check in host.checks for place in check.places):
            if isinstance(place.waiver, WaiverUsed):
                counts[place.waiver.number] = counts.get(place.waiver.number, 0) + place.count
    today = now.date()
    return WaiversUsed(
        waivers.label,
        waivers.digest,
        tuple(
            WaiverRow(
                row.number, row.control, row.host, row.place, row.reason, row.owner, row.until.isoformat(),
                counts.get(row.number, 0),
                "unused" if row.number not in counts else "run out" if row.is_over(today) else "in force",
            )
            for row in waivers.rows
        ),
    )  # fmt: skip


def first_steps(tallies: list[Tally], count: int = 3) -> list[Step]:
    """The ``count`` steps that gain most, each on top of those before it.

    A step is one control; behind ceilings it is the smallest set that gains: the holder, with all that would still
    hold the score at or below its present value.
    """
    steps: list[Step] = []
    current = list(tallies)
    while len(steps) < count:
        value = value_of(current)
        failing = [t for t in current if t.failed and t.weight > 0]
        if not failing:
            break
        holding = {t.control for t in failing if t.ceiling is not None and t.ceiling <= value}
        sets = [holding] if holding else [{t.control} for t in failing]
        best = max(sets, key=lambda controls: value_of(repaired(current, controls)))
        after = repaired(current, best)
        reached = value_of(after)
        if reached - value <= 1e-9:
            break
        steps.append(Step(tuple(sorted(best)), reached - value, reached))
        current = after
    return steps


def host_name(path: Path, tree_root: Path) -> str:
    """A name for a host whose user gave none: ``localhost`` for ``/``, the folder of its tree, or the single file."""
    if tree_root == Path("/"):
        return "localhost"
    if is_archive(path):
        return archive_name(path)
    is_lone_file = path.is_file() and not (tree_root / "etc").is_dir()
    return path.stem if is_lone_file else tree_root.name or path.name


def parse_time(text: str) -> datetime:
    """A point in time (RFC 3339, or a date) as aware UTC. Raises :class:`~rupex.model.RupexError`."""
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise RupexError(f"{text!r} is no time; one looks like 2026-11-24 or 2026-11-24T09:30:00Z") from None
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).astimezone(UTC)


__all__ = ["Evidence", "assess", "assess_tree", "first_steps", "gather", "host_name", "parse_time", "waivers_used"]
