"""A run as CSV: a row for each listed place, and one for each control that has none listed. No cell is a formula."""

from __future__ import annotations

import csv
import io
from typing import Final

from rupex.documents.run import CheckDocument, HostDocument, PlaceDocument, Run
from rupex.reports.clean import clean

_COLUMNS: Final = (
    "host", "score", "band", "control", "verdict", "severity", "weight", "lost", "title", "endpoint", "scope", "name", "file",
    "line", "column", "message", "evidence", "remedy", "waived_until", "places", "control_pass", "control_fail",
    "control_unknown", "control_waived", "control_exempt",
)  # fmt: skip
_FORMULA: Final = ("=", "+", "-", "@", "\t", "\r")
"""What a spreadsheet takes for the beginning of a formula."""


def render_csv(run: Run) -> str:
    """The whole table, with a head line."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")  # RFC 4180, 2
    writer.writerow(_COLUMNS)
    for host in run.hosts:
        for check in host.checks:
            for place in check.places or (None,):
                writer.writerow([_cell(value) for value in _row(host, check, place)])
    return out.getvalue()


def _row(host: HostDocument, check: CheckDocument, place: PlaceDocument | None) -> tuple[object, ...]:
    counts = check.counts
    score = host.score.value
    return (
        host.name, None if score is None else round(score, 1), host.score.band, check.control,
        check.verdict if place is None else place.verdict, check.severity if place is None else place.severity,
        check.weight, round(check.lost, 2), check.title,
        *((None,) * 8 if place is None else (place.endpoint, place.scope, place.name, place.file, place.line, place.column,
                                             place.message, place.evidence)),
        check.remedy, place.waiver.until if place is not None and place.waiver else None,
        None if place is None else place.count, counts.passed, counts.fail, counts.unknown, counts.waived, counts.exempt,
    )  # fmt: skip


def _cell(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, int | float):
        return f"{value:g}"
    text = clean(str(value))
    return f"'{text}" if text.startswith(_FORMULA) else text
