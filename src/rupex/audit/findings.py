"""What a control found, in a form that can be added up: between the judgement and the document."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from msgspec import UNSET, Struct

from rupex.audit.judge import Judged, JudgedControl
from rupex.audit.score import Tally
from rupex.baseline import Rule, Waiver
from rupex.documents.redaction import redacted
from rupex.documents.run import CheckDocument, PlaceDocument, WaiverUsed
from rupex.model import Fail, Pass, Provenance
from rupex.model.judgement import Verdict


class Findings(Struct):
    """What one control found.

    ``ceiling``: the lowest of the failing places.
    ``waived_ceiling``: the lowest of the waived places.
    ``because``: why the first unknown place is unknown.
    ``folded``: how many failed places only follow another control's.
    """

    counts: dict[Verdict, int]
    places: list[PlaceDocument]
    ceiling: float | None = None
    waived_ceiling: float | None = None
    because: str = ""
    folded: int = 0

    def add(self, other: Findings) -> None:
        for verdict, count in other.counts.items():
            self.counts[verdict] += count
        self.places += other.places
        self.ceiling = min((c for c in (self.ceiling, other.ceiling) if c is not None), default=None)
        self.waived_ceiling = min(
            (c for c in (self.waived_ceiling, other.waived_ceiling) if c is not None), default=None
        )
        self.because = self.because or other.because
        self.folded += other.folded


def findings_of(judged: Iterable[JudgedControl], now: datetime) -> dict[str, Findings]:
    """What each control found, by its id."""
    found = {}
    for control in judged:
        ceilings = [p.ceiling for p in control.places if p.verdict == "fail" and p.ceiling is not None]
        waived = [p.ceiling for p in control.places if p.verdict == "waived" and p.ceiling is not None]
        places = [_place(place, now) for place in control.places]
        found[control.rule.control.id] = Findings(
            control.counts,
            places,
            min(ceilings, default=None),
            min(waived, default=None),
            next((place.message for place in places if place.verdict == "unknown"), ""),
            sum(1 + p.alike for p in control.places if p.folded is not None and p.verdict == "fail"),
        )
    return found


def tally_of(rule: Rule, findings: Findings) -> Tally:
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
        waived_ceiling=findings.waived_ceiling,
        because=findings.because,
        refines=rule.control.refines,
        folded=findings.folded,
    )


def findings_before(check: CheckDocument) -> Findings:
    """What a control found, read back from a document."""
    counts = check.counts
    found: dict[Verdict, int] = {
        "pass": counts.passed, "fail": counts.fail, "unknown": counts.unknown, "exempt": counts.exempt,
        "waived": counts.waived,
    }  # fmt: skip
    waived = [place.ceiling for place in check.places if place.verdict == "waived" and place.ceiling is not None]
    return Findings(
        found,
        list(check.places),
        check.ceiling,
        min(waived, default=None),
        next((place.message for place in check.places if place.verdict == "unknown"), ""),
        sum(place.count for place in check.places if place.folded and place.verdict == "fail"),
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
