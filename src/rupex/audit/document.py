"""Findings and scores as the host's part of a run document."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Final

from rupex.audit.findings import Findings, tally_of
from rupex.audit.score import Tally, lost_points, repaired, score, value_of
from rupex.audit.steps import first_steps
from rupex.baseline import Baseline, Rule, Waivers
from rupex.controls import Control
from rupex.documents.redaction import redacted
from rupex.documents.run import (
    CeilingInDoubt,
    CeilingInForce,
    CertificateSeen,
    CheckDocument,
    Counts,
    HostDocument,
    ProblemDocument,
    ScoreDocument,
    WaiverRow,
    WaiversUsed,
    WaiverUsed,
    by_finding,
)
from rupex.model import Certificate, CertificateFile, Endpoint, Host, lifetime_days
from rupex.model.judgement import worst_verdict

_NAMES_SHOWN: Final = 200
"""Names and endpoints of one certificate that a document has."""


def host_document(host: Host, baseline: Baseline, findings: Mapping[str, Findings]) -> HostDocument:
    """The document of a host that is judged, without its endpoints."""
    rules = [(rule, findings[name]) for name, rule in baseline.rules.items() if name in findings]
    tallies = [tally_of(rule, found) for rule, found in rules]
    result = score(tallies)
    value = result.value or 0.0
    families = tuple(dict.fromkeys(source.family for source in host.sources if source.family))
    ceiling, doubt = result.ceiling, result.low_ceiling
    endpoints = {endpoint.id: endpoint for endpoint in host.endpoints}
    endpoints |= {group.model.id: group.outline(group.instances[0]) for group in host.groups}
    return HostDocument(
        name=host.name,
        sources=host.sources,
        score=ScoreDocument(
            result.value, result.low, result.high, result.uncapped, result.unwaived, result.coverage, result.band,
            None if ceiling is None else CeilingInForce(ceiling.value, ceiling.control, ceiling.lost),
            None if doubt is None else CeilingInDoubt(doubt.value, doubt.control, doubt.because),
        ),
        endpoints=(),
        checks=tuple(
            _check(rule, found, tally, tallies, value, families, endpoints)
            for (rule, found), tally in zip(rules, tallies, strict=True)
        ),
        steps=tuple(first_steps(tallies)),
        problems=tuple(ProblemDocument(p.kind, p.file, p.line, redacted(p.message)) for p in host.problems),
    )  # fmt: skip


def certificates_of(host: Host) -> tuple[CertificateSeen, ...]:
    """The certificates of a host, as a document has them."""
    return tuple(_certificate(file, file.leaf) for file in host.certificates if file.leaf is not None)


def _certificate(file: CertificateFile, leaf: Certificate) -> CertificateSeen:
    return CertificateSeen(
        file.path, file.source, leaf.subject, leaf.issuer, leaf.names[:_NAMES_SHOWN],
        leaf.not_before.strftime("%Y-%m-%dT%H:%M:%SZ"), leaf.not_after.strftime("%Y-%m-%dT%H:%M:%SZ"),
        lifetime_days(leaf.not_before, leaf.not_after), leaf.key_type, leaf.key_bits, leaf.digest, leaf.sha256,
        leaf.public_sha256, file.endpoints[:_NAMES_SHOWN],
    )  # fmt: skip


def _check(
    rule: Rule,
    findings: Findings,
    tally: Tally,
    tallies: list[Tally],
    value: float,
    families: tuple[str, ...],
    endpoints: Mapping[str, Endpoint],
) -> CheckDocument:
    control, counts = rule.control, findings.counts
    judged_places = tally.places - tally.unknown
    severities = {place.severity for place in findings.places if place.verdict == "fail"}
    worst = min(severities, key=("critical", "high", "medium", "low").index, default=rule.severity)
    return CheckDocument(
        control=control.id,
        verdict=worst_verdict(verdict for verdict, count in counts.items() if count),
        severity=worst,
        weight=rule.weight,
        attained=(tally.passed + tally.waived) / judged_places if judged_places else None,
        lost=lost_points(tally, tallies),
        gain=value_of(repaired(tallies, {control.id})) - value if tally.failed else 0.0,
        title=control.title,
        why=control.why,
        remedy=control.remedy_for(families),
        references=control.references,
        cwe=control.cwe,
        counts=Counts(counts["pass"], counts["fail"], counts["unknown"], counts["exempt"], counts["waived"]),
        places=by_finding(findings.places),
        ceiling=tally.ceiling,
        block=_block(control, findings, families, endpoints),
        effort=None if control.change is None else control.change.effort,
        parameters=rule.plain_parameters(),
    )


def _block(control: Control, findings: Findings, families: tuple[str, ...], endpoints: Mapping[str, Endpoint]) -> str:
    """What to paste at the first place that fails, with the names, port and files of its endpoint."""
    place = next((place for place in findings.places if place.verdict == "fail" and not place.folded), None)
    if place is None:
        return ""
    endpoint = endpoints.get(place.endpoint or "")
    if endpoint is None:
        return control.block_for(families[0] if families else None, {"file": place.file} if place.file else {})
    uses = endpoint.tls.certificates if endpoint.tls is not None else endpoint.unused_certificates
    facts = {
        "names": " ".join(endpoint.names),
        "name": endpoint.names[0] if endpoint.names else "",
        "port": "" if endpoint.port is None else str(endpoint.port),
        "certificate": next((f"/{use.certificate}" for use in uses if use.certificate), ""),
        "key": next((f"/{use.key}" for use in uses if use.key), ""),
        "path": (place.scope or "").partition(":")[2],
    }
    return redacted(control.block_for(endpoint.family, {name: value for name, value in facts.items() if value}))


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
