"""A run as JUnit XML: a suite for each host, a case for each control. What fails is a failure; what is unknown was skipped."""

from __future__ import annotations

import re
from xml.etree import ElementTree as Xml

from rupex.documents.run import CheckDocument, HostDocument, Run
from rupex.reports.clean import clean
from rupex.reports.text.text import group_places

_FORBIDDEN = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # XML 1.0, 2.2


def render_junit(run: Run) -> str:
    """The whole document."""
    root = Xml.Element("testsuites", name="rupex", time=f"{run.seconds:.3f}")
    totals = [0, 0, 0]
    for host in run.hosts:
        counts = _suite(root, run, host)
        totals = [total + count for total, count in zip(totals, counts, strict=True)]
    root.set("tests", str(totals[0]))
    root.set("failures", str(totals[1]))
    root.set("skipped", str(totals[2]))
    Xml.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + Xml.tostring(root, encoding="unicode") + "\n"


def _suite(root: Xml.Element, run: Run, host: HostDocument) -> tuple[int, int, int]:
    checks = [check for check in host.checks if check.verdict != "exempt"]
    failures = sum(check.verdict == "fail" for check in checks)
    skipped = sum(check.verdict in ("unknown", "waived") for check in checks)
    suite = Xml.SubElement(
        root, "testsuite", name=_safe(host.name), tests=str(len(checks)), failures=str(failures), skipped=str(skipped),
        errors="0", timestamp=run.started.rstrip("Z"), time="0",
    )  # fmt: skip
    properties = Xml.SubElement(suite, "properties")
    score = host.score
    for name, value in (
        ("score", "" if score.value is None else f"{score.value:.1f}"), ("low", f"{score.low:.1f}"),
        ("high", f"{score.high:.1f}"), ("coverage", f"{score.coverage:.3f}"), ("band", score.band or ""),
        ("baseline", f"{run.baseline.name} {run.baseline.version}"),
    ):  # fmt: skip
        Xml.SubElement(properties, "property", name=name, value=_safe(value))
    for check in checks:
        _case(suite, host, check)
    return len(checks), failures, skipped


def _case(suite: Xml.Element, host: HostDocument, check: CheckDocument) -> None:
    case = Xml.SubElement(suite, "testcase", classname=_safe(host.name), name=check.control, time="0")
    counts = check.counts
    messages = [
        f"{group.where}: {group.message}" for group in group_places(check.places) if group.verdict == check.verdict
    ]
    if check.verdict == "fail":
        failure = Xml.SubElement(
            case, "failure", type=check.severity, message=_safe(f"{check.title}: fails at {counts.fail} places")
        )
        failure.text = _safe("\n".join([*messages, f"change: {check.remedy}"]))
    elif check.verdict in ("unknown", "waived"):
        Xml.SubElement(case, "skipped", message=_safe(f"{check.verdict}: {messages[0] if messages else ''}"))


def _safe(text: str) -> str:
    """Text that XML can hold; line ends stay."""
    return _FORBIDDEN.sub("�", "\n".join(clean(line) for line in text.split("\n")))
