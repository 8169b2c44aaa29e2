"""A run as SARIF 2.1.0 (OASIS Standard, 27 March 2020), for code-scanning views and editors.

Fingerprints are of what a place is (control, host, endpoint, scope, file), never of its line, so that they stay when lines move.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from hashlib import sha256
from typing import Any, Final
from urllib.parse import quote

from rupex.documents.run import CheckDocument, HostDocument, PlaceDocument, Run
from rupex.reports.clean import clean, clean_parts

_SCHEMA: Final = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
_LEVELS: Final = {"critical": "error", "high": "error", "medium": "warning", "low": "note"}
_BASE: Final = "HOSTTREE"


def render_sarif(run: Run) -> str:
    """The whole log, one run in it."""
    rules: dict[str, CheckDocument] = {}
    for host in run.hosts:
        for check in host.checks:
            rules.setdefault(check.control, check)
    order = {name: index for index, name in enumerate(rules)}
    log = {
        "$schema": _SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {
                    "driver": {
                        "name": run.tool.name,
                        "semanticVersion": run.tool.version,
                        "rules": [_rule(check) for check in rules.values()],
                    }
                },
                "automationDetails": {"id": f"{run.baseline.name}/"},
                "columnKind": "unicodeCodePoints",
                "originalUriBaseIds": {_BASE: {"description": {"text": "the root of the host's tree"}}},
                "invocations": [
                    {
                        "executionSuccessful": run.complete,
                        "startTimeUtc": run.started,
                        "toolExecutionNotifications": [_notification(h, p) for h in run.hosts for p in h.problems],
                    }
                ],
                "results": [result for host in run.hosts for result in _results(host, order)],
                "properties": {"scores": {host.name: host.score.value for host in run.hosts}},
            }
        ],
    }
    return json.dumps(clean_parts(log), indent=2, ensure_ascii=False) + "\n"


def _rule(check: CheckDocument) -> dict[str, Any]:
    return {
        "id": check.control,
        "shortDescription": {"text": check.title},
        "fullDescription": {"text": check.why},
        "help": {"text": f"{check.remedy} ({'; '.join(check.references)})"},
        "defaultConfiguration": {"level": _LEVELS[check.severity]},
        "properties": {"tags": ["security", *check.cwe], "weight": check.weight},
    }


def _notification(host: HostDocument, problem: Any) -> dict[str, Any]:
    found: dict[str, Any] = {"level": "warning", "message": {"text": f"{host.name}: {problem.message}"}}
    if problem.file and not problem.file.startswith("wire:"):
        found["locations"] = [_physical(problem.file, problem.line, None)]
    return found


def _results(host: HostDocument, order: dict[str, int]) -> Iterator[dict[str, Any]]:
    for check in host.checks:
        for place in check.places:
            if place.verdict in ("fail", "unknown", "waived"):
                yield _result(host, check, place, order[check.control])


def _result(host: HostDocument, check: CheckDocument, place: PlaceDocument, index: int) -> dict[str, Any]:
    is_open = place.verdict == "unknown"  # "insufficient information to decide whether a problem exists" (3.27.9)
    found: dict[str, Any] = {
        "ruleId": check.control,
        "ruleIndex": index,
        "kind": "open" if is_open else "fail",
        "level": "none" if is_open else _LEVELS[place.severity],
        "message": {"text": place.message or check.title},
        "locations": [_location(host, place)],
        "partialFingerprints": {"rupexPlace/1": _fingerprint(host, check, place)},
        "occurrenceCount": place.count,
        "properties": {"host": host.name, "severity": place.severity},
    }
    if place.verdict == "waived":
        justification = (
            f"{place.waiver.reason} ({place.waiver.owner}, until {place.waiver.until})" if place.waiver else ""
        )
        found["suppressions"] = [{"kind": "external", "status": "accepted", "justification": justification}]
    return found


def _fingerprint(host: HostDocument, check: CheckDocument, place: PlaceDocument) -> str:
    parts = (check.control, host.name, place.endpoint, place.scope, place.name, place.file)
    return sha256("\0".join(part or "" for part in parts).encode("utf-8", "surrogatepass")).hexdigest()


def _location(host: HostDocument, place: PlaceDocument) -> dict[str, Any]:
    found: dict[str, Any] = {}
    if place.file and not place.file.startswith("wire:"):
        found = _physical(place.file, place.line, place.column)
    names = [name for name in (host.name, place.endpoint, place.scope, place.name) if name]
    found["logicalLocations"] = [{"fullyQualifiedName": " ".join(names), "kind": "endpoint"}]
    return found


def _physical(file: str, line: int | None, column: int | None) -> dict[str, Any]:
    physical: dict[str, Any] = {"artifactLocation": {"uri": quote(clean(file).lstrip("/")), "uriBaseId": _BASE}}
    if line is not None:
        physical["region"] = {"startLine": line, **({"startColumn": column} if column is not None else {})}
    return {"physicalLocation": physical}
