"""A run as one HTML page: nothing is loaded from elsewhere, and it reads without script, on paper and by a screen reader.

Jinja2 escapes whatever came from outside; the page's own policy allows its own style and script by their digests, and no others.
"""

from __future__ import annotations

import re
from base64 import b64encode
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from functools import cache
from hashlib import sha256
from typing import Any, Final

from rupex.audit.score import BANDS, band_of
from rupex.compare.compare import compare
from rupex.documents.run import CheckDocument, Excerpt, HostDocument, Run, WaiverUsed
from rupex.model.judgement import SEVERITIES
from rupex.package_files import folder_of
from rupex.reports.clean import clean
from rupex.reports.html.themes import NAMES, theme_of
from rupex.reports.text.text import (
    Group,
    failing_checks,
    folded_checks,
    gain_words,
    group_places,
    merge_groups,
    waived_rows,
)

_GROUPS, _GROUPS_OF_MANY = 5, 2
_REASONS, _REASONS_OF_MANY = 14, 5
_MONTHS: Final = 12
_OF_A_MONTH: Final = 5
_MANY_HOSTS: Final = 12
"""From so many hosts on, what is the same for all stands once, excerpts are left out, and findings are folded."""
_MONTH_NAMES: Final = (
    "January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"
)  # fmt: skip
_INDENT = re.compile(r"\n\s*")
_LINE_END: Final = "\n"
_ANCHOR = re.compile(r"[^A-Za-z0-9]+")


def render_html(run: Run, before: Run | None = None) -> str:
    """The whole page; ``before``: an earlier run that is laid beside it."""
    style, script = _part("page.css"), _part("page.js")
    many = len(run.hosts) >= _MANY_HOSTS
    scores, changes = _compared(before, run)
    hosts = [_host(host, number, scores, changes, many=many) for number, host in enumerate(run.hosts)]
    by_name = {host["name"]: host for host in hosts}
    ranking = [by_name[clean(name)] for name in run.fleet.ranking] if run.fleet else []
    themes = [theme for theme in NAMES if any(theme in host["by_theme"] for host in hosts)]
    fleet = {"mean": run.fleet.mean, "band": band_of(run.fleet.mean), "costs": run.fleet.costs, "owners": run.fleet.owners,
             "tags": run.fleet.tags} if run.fleet else None  # fmt: skip
    page: str = _template().render(
        run=run, title=_title(run), started=run.started.replace("T", " ").replace("Z", " UTC"), hosts=hosts, fleet=fleet,
        ranking=ranking, themes=themes, calendar=list(_calendar(run)), severities=SEVERITIES, bands=_bands(),
        shared=_shared(run) if many else [], unfolded=len(run.hosts) <= 2, coverage_words=_coverage_words(run),
        style=style, script=script, style_hash=_digest(style), script_hash=_digest(script),
    )  # fmt: skip
    before_main, _, rest = page.partition("<main")
    main, end, behind = rest.rpartition("</main>")
    return f"{before_main}<main{_INDENT.sub(_LINE_END, main)}{end}{behind}"


@cache
def _part(name: str) -> Any:
    from markupsafe import Markup

    return Markup(folder_of("rupex.reports.html").joinpath("page_parts", name).read_text("utf-8"))  # noqa: S704  our own


@cache
def _template() -> Any:
    from jinja2 import Environment, StrictUndefined

    environment = Environment(
        trim_blocks=True, lstrip_blocks=True, autoescape=True, undefined=StrictUndefined, finalize=_cleaned
    )
    return environment.from_string(_part("page.html.jinja"))


def _cleaned(value: Any) -> Any:
    """Text from outside without control characters and marks that turn the reading direction."""
    return clean(value) if type(value) is str else "" if value is None else value


def _digest(text: str) -> str:
    return b64encode(sha256(str(text).encode()).digest()).decode()


def _title(run: Run) -> str:
    if run.fleet:
        return f"Hardening of {run.fleet.inventory}"
    return f"Hardening of {run.hosts[0].name}" if len(run.hosts) == 1 else f"Hardening of {len(run.hosts)} hosts"


def _bands() -> list[dict[str, Any]]:
    edges = [0, *(edge for edge, _ in BANDS), 100]
    names = [*(name for _, name in BANDS), "hardened"]
    return [{"name": name, "start": edges[index], "end": edges[index + 1]} for index, name in enumerate(names)]


def _coverage_words(run: Run) -> str:
    coverages = [host.score.coverage for host in run.hosts]
    mean = sum(coverages) / len(coverages) if coverages else 0.0
    return (
        f"On the mean {mean:.0%} of the baseline's weight could be seen. A gate asks for {run.baseline.minimum_coverage:.0%};"
        " what is listed as not told says why the rest could not."
    )


def _host(
    host: HostDocument,
    number: int,
    scores: dict[str, float | None],
    changes: dict[str, list[dict[str, Any]]],
    *,
    many: bool,
) -> dict[str, Any]:
    excerpts = {} if many else {(one.file, one.line): one for one in host.excerpts}
    ledger = list(_ledger(host))
    row = host.inventory if host.inventory else None
    folded = folded_checks(host)
    return {
        "name": clean(host.name),
        "anchor": f"h{number}-{_ANCHOR.sub('-', host.name)[:40]}",
        "score": host.score,
        "before": scores.get(host.name),
        "sources": [f"{s.family} {s.version or ''}".strip() if s.family else str(s.address) for s in host.sources],
        "owner": row.owner if row is not None else "",
        "tags": row.tags if row is not None else (),
        "steps": host.steps,
        "ledger": ledger,
        "ledger_words": "; ".join(f"{part['name']} {part['points']:.1f}" for part in ledger),
        "by_theme": _by_theme(host),
        "changes": changes.get(host.name, []),
        "findings": [
            _finding(check, host, folded.get(check.control, ()), excerpts, _GROUPS_OF_MANY if many else _GROUPS)
            for check in failing_checks(host)
        ],
        "waived": waived_rows(host),
        "unknown": list(_unknown(host, _REASONS_OF_MANY if many else _REASONS)),
        "problems": [
            {"where": f"{p.file}:{p.line}" if p.line else p.file or "host", "message": p.message}
            for p in host.problems[:20]
        ],
        "holds": "" if many else ", ".join(check.control for check in host.checks if check.verdict == "pass"),
    }


def _by_theme(host: HostDocument) -> dict[str, float]:
    found: dict[str, float] = {}
    for check in host.checks:
        if check.lost:
            found[theme_of(check.control)] = found.get(theme_of(check.control), 0.0) + check.lost
    return found


def _ledger(host: HostDocument) -> Iterator[dict[str, Any]]:
    """What is left, what each theme costs, and what a ceiling costs beside; together 100."""
    if host.score.value is None:
        return
    parts = [("left", host.score.value, "kept")]
    lost = _by_theme(host)
    parts += [(theme, lost[theme], f"t{index}") for index, theme in enumerate(NAMES) if lost.get(theme, 0.0) >= 0.05]
    if host.score.ceiling is not None and host.score.ceiling.lost >= 0.05:
        parts.append((f"the ceiling of {host.score.ceiling.control}", host.score.ceiling.lost, "held"))
    start = 0.0
    for name, points, shade in parts:
        yield {"name": name, "points": points, "shade": shade, "start": start}
        start += points


def _finding(
    check: CheckDocument,
    host: HostDocument,
    folded: Sequence[CheckDocument],
    excerpts: dict[tuple[str, int], Excerpt],
    most: int,
) -> dict[str, Any]:
    groups = [g for g in group_places(check.places) if g.verdict == "fail" and not g.places[0].folded]
    merged = merge_groups(groups)
    return {
        "control": check.control,
        "title": check.title,
        "severity": check.severity,
        "lost": f"{check.lost:.3f}",
        "why": check.why,
        "references": ", ".join(check.references),
        "remedy": check.remedy,
        "gain": gain_words(check, host, folded) if most > _GROUPS_OF_MANY else f"costs {check.lost:.1f} points",
        "groups": [_group(group, excerpts) for group in merged[:most]],
        "more": max(0, len(merged) - most),
    }


def _group(group: Group, excerpts: dict[tuple[str, int], Excerpt]) -> dict[str, Any]:
    place = group.places[0]
    excerpt = excerpts.get((place.file or "", place.line or 0))
    governed = group.governed
    shown = ", ".join(governed[:4])
    governs = (
        f"governs {group.count} places, among them {shown}" if group.count > 1 and shown else shown and f"at {shown}"
    )
    over = place.waiver if isinstance(place.waiver, WaiverUsed) else None
    return {
        "where": group.where,
        "more": group.lines - 1,
        "message": group.message,
        "governs": governs,
        "waived": "" if over is None else f"{over.until}, by {over.owner}: {over.reason}",
        "excerpt": None if excerpt is None else [
            {"number": excerpt.start + index, "text": text, "here": excerpt.start + index == excerpt.line}
            for index, text in enumerate(excerpt.lines)
        ],
    }  # fmt: skip


def _unknown(host: HostDocument, most: int) -> Iterator[dict[str, str]]:
    reasons: dict[str, dict[str, None]] = {}
    for check in host.checks:
        for place in check.places:
            if place.verdict == "unknown":
                reasons.setdefault(place.message, {})[check.control] = None
    ranked = sorted(reasons.items(), key=lambda item: -len(item[1]))
    for reason, controls in ranked[:most]:
        yield {"reason": reason, "controls": ", ".join(controls)}


def _compared(before: Run | None, run: Run) -> tuple[dict[str, float | None], dict[str, list[dict[str, Any]]]]:
    """By host, the score of an earlier run, and what changed, by control."""
    if before is None:
        return {}, {}
    found = compare(before, run, "before", "after")
    styles = {"better": "good", "worse": "bad", "new": "doubt", "gone": "soft"}
    changes: dict[str, list[dict[str, Any]]] = {}
    for host in found.hosts:
        counts: dict[tuple[str, str, str | None, str | None], int] = {}
        for change in host.changes:
            key = (change.control, change.change, change.old, change.new)
            counts[key] = counts.get(key, 0) + 1
        changes[host.name] = [
            {"control": control, "style": styles[kind], "old": old, "new": new, "count": count}
            for (control, kind, old, new), count in counts.items()
        ]
    return {host.name: host.score.old for host in found.hosts}, changes


def _calendar(run: Run) -> Iterable[dict[str, Any]]:
    """A year of months from that of the run on, with the certificates that end in each; the expired ones in the first."""
    begun = datetime.fromisoformat(run.started)
    rows: dict[int, list[dict[str, Any]]] = {}
    seen: set[tuple[str, str]] = set()
    for host in run.hosts:
        for one in host.certificates:
            if (host.name, one.sha256) in seen:
                continue
            seen.add((host.name, one.sha256))
            end = datetime.fromisoformat(one.not_after)
            month = max(0, (end.year - begun.year) * 12 + end.month - begun.month)
            row = {
                "day": end.strftime("%-d %b"),
                "host": host.name,
                "subject": one.subject,
                "days_left": (end - begun).days,
            }
            rows.setdefault(month, []).append(row)
    if not rows:
        return
    for month in range(_MONTHS):
        position = begun.month - 1 + month
        some = sorted(rows.get(month, []), key=lambda row: row["days_left"])
        yield {"name": f"{_MONTH_NAMES[position % 12]} {begun.year + position // 12}", "rows": some[:_OF_A_MONTH],
               "more": max(0, len(some) - _OF_A_MONTH)}  # fmt: skip


def _shared(run: Run) -> list[dict[str, str]]:
    """What is to be said of each control that fails anywhere, once."""
    found: dict[str, dict[str, str]] = {}
    for host in run.hosts:
        for check in host.checks:
            if check.verdict == "fail":
                found.setdefault(check.control, {"control": check.control, "title": check.title, "why": check.why,
                                                 "references": ", ".join(check.references), "remedy": check.remedy})  # fmt: skip
    return [found[name] for name in sorted(found)]
