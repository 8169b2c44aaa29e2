"""A run as Markdown: for a ticket, a page of a wiki, or a comment. Whatever came from outside is escaped."""

from __future__ import annotations

import re
from collections.abc import Iterator

from rupex.audit.score import band_of
from rupex.documents.run import CheckDocument, HostDocument, Run
from rupex.model.judgement import SEVERITIES
from rupex.reports.clean import clean
from rupex.reports.text.text import group_places, merge_groups

_SPECIAL = re.compile(r"([\\`*_{}\[\]|~>])")
_LEADING = re.compile(r"^(\d+)?([#+.)-])")  # what makes a heading or a list at the start of a line
_LINKS = (("://", ":&#47;/"), ("www.", "www&#46;"), ("@", "&#64;"))
"""What becomes a link or a mention by itself."""
_SHOWN = 6


def render_markdown(run: Run) -> str:
    """The whole document."""
    return "\n".join(_lines(run)) + "\n"


def escaped(text: str) -> str:
    """``text`` as Markdown that shows it and means nothing else."""
    plain = _SPECIAL.sub(r"\\\1", " ".join(clean(text).split()).replace("&", "&amp;").replace("<", "&lt;"))
    for word, inert in _LINKS:
        plain = plain.replace(word, inert)
    return _LEADING.sub(lambda found: f"{found[1] or ''}\\{found[2]}", plain)


def _lines(run: Run) -> Iterator[str]:
    yield "# Hardening audit"
    yield ""
    whole = "" if run.complete else " The run is incomplete."
    yield f"Baseline {escaped(run.baseline.name)} {escaped(run.baseline.version)}, {escaped(run.started)}.{whole}"
    yield ""
    yield "| host | score | between | seen | fail | unknown | waived | held by |"
    yield "| --- | ---: | ---: | ---: | ---: | ---: | ---: | --- |"
    for host in run.hosts:
        yield _summary(host)
    for host in run.hosts:
        yield ""
        yield from _host(host)


def _summary(host: HostDocument) -> str:
    score = host.score
    value = "no score" if score.value is None else f"{score.value:.1f} {band_of(score.value)}"
    counts = [sum(getattr(check.counts, name) for check in host.checks) for name in ("fail", "unknown", "waived")]
    held = escaped(score.ceiling.control) if score.ceiling is not None else ""
    return (
        f"| {escaped(host.name)} | {value} | {score.low:.1f} to {score.high:.1f} | {score.coverage:.0%} |"
        f" {counts[0]} | {counts[1]} | {counts[2]} | {held} |"
    )


def _host(host: HostDocument) -> Iterator[str]:
    yield f"## {escaped(host.name)}"
    yield ""
    for number, step in enumerate(host.steps, 1):
        yield f"{number}. {escaped(' and '.join(step.controls))}: to {step.value:.1f} (+{step.gain:.1f})"
    failing = [check for check in host.checks if check.counts.fail]
    for check in sorted(failing, key=lambda check: (SEVERITIES.index(check.severity), -check.lost)):
        yield ""
        yield from _finding(check)
    for problem in host.problems:
        where = f"{problem.file}:{problem.line}" if problem.line else problem.file or "host"
        yield f"- could not be read or reached: {escaped(where)}: {escaped(problem.message)}"


def _finding(check: CheckDocument) -> Iterator[str]:
    yield f"### {escaped(check.title)}"
    yield ""
    yield f"{escaped(check.control)}, {check.severity}, costs {check.lost:.1f} points, fails at {check.counts.fail} places"
    yield ""
    groups = merge_groups(group for group in group_places(check.places) if group.verdict == "fail")
    for group in groups[:_SHOWN]:
        more = f" and {len(group.others)} more lines" if group.others else ""
        yield f"- {escaped(group.where)}{more}: {escaped(group.message)}"
    if len(groups) > _SHOWN:
        yield f"- and {len(groups) - _SHOWN} more"
    yield ""
    yield f"Why: {escaped(check.why)} ({escaped(', '.join(check.references))})"
    yield ""
    yield f"Change: {escaped(check.remedy)}"
