"""A run as OpenMetrics text (RFC draft, version 1.0.0), for a metrics collector."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime

from rupex.documents.run import Run
from rupex.reports.clean import clean

Sample = tuple[dict[str, str], float]


def render_openmetrics(run: Run) -> str:
    """The whole exposition, which ends with ``# EOF``."""
    families: tuple[tuple[str, str, Iterable[Sample]], ...] = (
        ("rupex_score", "The score of a host, 0 to 100.", _scores(run)),
        ("rupex_score_bound", "The bounds of the score.", _bounds(run)),
        ("rupex_coverage_ratio", "The share of the baseline for which there was evidence.", _coverage(run)),
        ("rupex_places", "Judged places by control and verdict.", _places(run)),
        ("rupex_lost_points", "Points that a control costs.", _lost(run)),
        ("rupex_certificate_not_after_seconds", "The end of a certificate, in seconds since 1970.", _expiries(run)),
        ("rupex_problems", "What could not be read or reached.", _problems(run)),
        ("rupex_run_timestamp_seconds", "When the run started.", [({}, _seconds(run.started))]),
    )
    lines: list[str] = []
    for name, help_text, samples in families:
        lines += [f"# TYPE {name} gauge", f"# HELP {name} {help_text}"]
        lines += [f"{name}{_labels(labels)} {value:g}" if value < 1e6 else f"{name}{_labels(labels)} {value:.0f}"
                  for labels, value in samples]  # fmt: skip
    return "\n".join([*lines, "# EOF"]) + "\n"


def _labels(labels: dict[str, str]) -> str:
    """Label values escaped as the format wants."""
    pairs = ",".join(
        '{}="{}"'.format(name, clean(value).replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n"))
        for name, value in labels.items()
    )
    return f"{{{pairs}}}" if pairs else ""


def _seconds(stamp: str) -> float:
    return datetime.fromisoformat(stamp).timestamp()


def _scores(run: Run) -> Iterator[Sample]:
    for host in run.hosts:
        if host.score.value is not None:
            yield {"host": host.name, "band": host.score.band or ""}, host.score.value


def _bounds(run: Run) -> Iterator[Sample]:
    for host in run.hosts:
        yield {"host": host.name, "bound": "low"}, host.score.low
        yield {"host": host.name, "bound": "high"}, host.score.high


def _coverage(run: Run) -> Iterator[Sample]:
    for host in run.hosts:
        yield {"host": host.name}, host.score.coverage


def _places(run: Run) -> Iterator[Sample]:
    for host in run.hosts:
        for check in host.checks:
            counts = check.counts
            for verdict, count in (
                ("pass", counts.passed), ("fail", counts.fail), ("unknown", counts.unknown), ("waived", counts.waived),
            ):  # fmt: skip
                if count:
                    yield {"host": host.name, "control": check.control, "verdict": verdict}, count


def _lost(run: Run) -> Iterator[Sample]:
    for host in run.hosts:
        for check in host.checks:
            if check.lost:
                yield {"host": host.name, "control": check.control, "severity": check.severity}, check.lost


def _expiries(run: Run) -> Iterator[Sample]:
    for host in run.hosts:
        for place in {certificate.place: certificate for certificate in host.certificates}.values():
            yield {"host": host.name, "place": place.place, "subject": place.subject}, _seconds(place.not_after)


def _problems(run: Run) -> Iterator[Sample]:
    for host in run.hosts:
        yield {"host": host.name}, len(host.problems)
