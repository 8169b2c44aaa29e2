"""A run as text: what is wrong, where, why, what to change, what it gains; then the score."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Final, NamedTuple

from msgspec import Struct

from rupex.documents.run import CheckDocument, HostDocument, PlaceDocument, Run, WaiversUsed, WaiverUsed
from rupex.model.judgement import SEVERITIES
from rupex.reports.text.observed import render_seen
from rupex.reports.text.text_layout import Page, Style

_SHOWN_GROUPS: Final = 6
_SHOWN_NAMES: Final = 4
_SHOWN_CONTROLS: Final = 12
_STYLE_OF: Final[dict[str, Style]] = {
    "fail": "bad",
    "unknown": "doubt",
    "waived": "quiet",
    "pass": "good",
    "exempt": "quiet",
}


class Group(Struct):
    """Places of one check that the same line decides; ``others``: further lines of which the same is to be said;
    ``unlisted``: how many more there are of those."""

    verdict: str
    where: str
    message: str
    places: list[PlaceDocument]
    others: list[str] = []
    unlisted: int = 0

    @property
    def count(self) -> int:
        """How many places it has, those that are not listed included."""
        return sum(place.count for place in self.places)

    @property
    def lines(self) -> int:
        """How many lines decide them: places that are not listed have a line of their own each."""
        return 1 + len(self.others) + self.unlisted

    @property
    def governed(self) -> list[str]:
        """What the line governs, for a person: server names, else endpoints."""
        return list(dict.fromkeys(name for place in self.places if (name := _subject(place))))


def _subject(place: PlaceDocument) -> str:
    if place.endpoint is None:
        return ""
    name = place.name or place.endpoint.partition("/")[2] or place.endpoint
    return name if place.scope in (None, "any", "prefix:/") else f"{name} {place.scope}"


def group_places(places: Iterable[PlaceDocument]) -> list[Group]:
    """Places grouped by verdict and deciding line (or default), fails first, each group in order of appearance."""
    held: dict[tuple[object, ...], list[PlaceDocument]] = {}
    for place in places:
        if place.file is not None and place.line is not None and not place.unseen:
            key: tuple[object, ...] = place.verdict, place.file, place.line
        else:
            key = place.verdict, _where(place), "" if place.line is not None else place.message
        held.setdefault(key, []).append(place)
    groups = {key: Group(some[0].verdict, _where(some[0]), some[0].message, some) for key, some in held.items()}
    for group in groups.values():
        if len({place.endpoint for place in group.places}) == 1:  # else the line is one that they share
            group.unlisted = max(place.count - 1 for place in group.places) if group.places[0].line is not None else 0
    order = ("fail", "unknown", "waived", "pass", "exempt")
    return sorted(groups.values(), key=lambda group: order.index(group.verdict))


def merge_groups(groups: Iterable[Group]) -> list[Group]:
    """Groups that differ by their line only, as one: what is missing is missing in many blocks in the same words."""
    merged: dict[tuple[str, str], Group] = {}
    for group in groups:
        key = (group.verdict, group.message)
        first = merged.get(key)
        if first is None:
            merged[key] = Group(group.verdict, group.where, group.message, list(group.places), unlisted=group.unlisted)
        else:
            first.others.append(group.where)
            first.unlisted += group.unlisted
            first.places += group.places
    return list(merged.values())


def _where(place: PlaceDocument) -> str:
    if place.unseen:
        return str(place.unseen)
    if place.file is not None:
        return place.file if place.line is None else f"{place.file}:{place.line}"
    if place.provenance is not None and place.provenance.note:
        return place.provenance.note.split("; ")[0]
    return place.endpoint or "this host"


def render_run(run: Run, *, width: int = 100, colour: bool = False, verbose: bool = False, quiet: bool = False) -> str:
    """The whole run. ``quiet``: one line a host; ``verbose``: evidence, provenance, and what holds."""
    page = Page(width)
    for host in run.hosts:
        if quiet:
            page.line(f"{host.name}  ", *_score_words(run.baseline.minimum_coverage, host))
            continue
        _render_host(page, run, host, verbose=verbose)
        page.blank()
    if run.waivers and not quiet:
        render_waivers(page, run.waivers)
    return page.render(colour=colour)


def render_waivers(page: Page, waivers: WaiversUsed) -> None:
    """Waivers that need somebody: those that have run out, and those that stand for nothing."""
    listed = [row for row in waivers.rows if row.state != "in force"]
    if not listed:
        return
    page.line((f"Waivers of {waivers.document} that need somebody", "strong"))
    for row in listed:
        what = f"ran out on {row.until}" if row.state == "run out" else "stands for no failure: delete it"
        words = f"{row.control} on {row.host}, {row.place}: {what}"
        page.entry(f"{row.number:>2}", f"{words} ({row.owner}: {row.reason})", indent=0, column=4)
    page.blank()


def render_brief(
    hosts: Sequence[HostDocument], minimum_coverage: float, *, width: int = 100, colour: bool = False
) -> str:
    """What was seen of each host, how many findings there are, and the score; without the findings themselves."""
    page = Page(width)
    for host in hosts:
        for endpoint in host.endpoints:
            render_seen(page, endpoint)
        failing = failing_checks(host)
        worst = ", ".join(check.control for check in failing[:_SHOWN_NAMES])
        page.line((host.name, "strong"), "  ", *_score_words(minimum_coverage, host))
        page.entry(
            "", f"{len(failing)} findings" + (f", the worst of them {worst}" if worst else ""), indent=4, column=4
        )
        page.blank()
    return page.render(colour=colour)


def _render_host(page: Page, run: Run, host: HostDocument, *, verbose: bool) -> None:
    sources = ", ".join(f"{s.family} {s.version or ''}".strip() if s.family else str(s.address) for s in host.sources)
    page.line(
        (host.name, "strong"), f"  {sources or 'no server found'}, baseline {run.baseline.name} {run.baseline.version}"
    )
    page.blank()
    for endpoint in host.endpoints:
        render_seen(page, endpoint)
    folded = folded_checks(host)
    for number, check in enumerate(failing_checks(host), 1):
        _render_finding(page, number, check, host, folded.get(check.control, ()), verbose=verbose)
    _render_waived(page, host)
    unknown = [c for c in host.checks if c.counts.unknown]
    if unknown:
        page.line(("Could not be told", "strong"))
        _render_unknown(page, unknown, verbose=verbose)
        page.blank()
    if host.problems:
        page.line(("Could not be read or reached", "strong"))
        for problem in host.problems[: None if verbose else 12]:
            where = problem.file or "host"
            page.entry("", f"{where}:{problem.line}" if problem.line else where, indent=2, column=2)
            page.entry("", f"{problem.kind}: {problem.message}", indent=4, column=4)
        _more(page, len(host.problems) - 12, "problems", verbose=verbose)
        page.blank()
    held = [c.control for c in host.checks if c.verdict == "pass"]
    if held:
        page.entry("Holds", ", ".join(held), indent=0, column=10, style="quiet")
        page.blank()
    _render_score(page, run, host)


def failing_checks(host: HostDocument) -> list[CheckDocument]:
    """The checks that fail by themselves, and not only with another one; the worst first."""
    failing = [c for c in host.checks if any(p.verdict == "fail" and not p.folded for p in c.places)]
    return sorted(failing, key=_badness)


def _badness(check: CheckDocument) -> tuple[int, float, float]:
    return SEVERITIES.index(check.severity), 101.0 if check.ceiling is None else check.ceiling, -check.lost


def folded_checks(host: HostDocument) -> Mapping[str, list[CheckDocument]]:
    """The checks of which a place fails only with that of another control, by that one."""
    found: dict[str, list[CheckDocument]] = {}
    for check in host.checks:
        for control in {place.folded for place in check.places if isinstance(place.folded, str)}:
            found.setdefault(control, []).append(check)
    return found


def gain_words(check: CheckDocument, host: HostDocument, folded: Sequence[CheckDocument]) -> str:
    """What a failing check costs, and what its repair gains. ``folded``: the checks that fail with it."""
    cost = check.lost + sum(c.lost for c in folded)
    words = f"costs {cost:.1f} points" + (f", with {', '.join(c.control for c in folded)}" if folded else "")
    if check.ceiling is not None:
        words += f"; no score above {check.ceiling:g} while it fails"
    if check.gain >= 0.05:
        return f"{words}; repaired alone it gains {check.gain:.1f}"
    if host.score.ceiling is not None:
        return f"{words}; gains nothing while the score is held at {host.score.ceiling.value:g}"
    return words


class Waived(NamedTuple):
    """A control that a waiver covers, at so many ``places``."""

    control: str
    reason: str
    owner: str
    until: str
    places: int


def waived_rows(host: HostDocument) -> list[Waived]:
    """What fails and is accepted, by control and reason."""
    found: dict[tuple[str, str, str, str], int] = {}
    for check in host.checks:
        for place in check.places:
            if place.verdict == "waived" and isinstance(place.waiver, WaiverUsed):
                key = check.control, place.waiver.reason, place.waiver.owner, place.waiver.until
                found[key] = found.get(key, 0) + place.count
    return [Waived(*key, count) for key, count in found.items()]


def _render_finding(
    page: Page, number: int, check: CheckDocument, host: HostDocument, folded: Sequence[CheckDocument], *, verbose: bool
) -> None:
    tail = f"{check.control}  {check.severity}"
    title = f"{number:>2}  {check.title}"
    room = page.width - len(title) - len(tail)
    if room < 2:
        page.line((title, "strong"))
        title, room = "", page.width - len(tail)
    page.line((title, "strong"), " " * room, (check.control, "plain"), "  ", (check.severity, "bad"))
    groups = [g for g in group_places(check.places) if g.verdict == "fail" and not g.places[0].folded]
    groups = groups if verbose else merge_groups(groups)
    for group in groups[: None if verbose else _SHOWN_GROUPS]:
        more = f" and {group.lines - 3} more" if group.lines > 3 else ""
        page.entry("where", ", ".join([group.where, *group.others[:2]]) + more, style="strong")
        page.entry("", group.message)
        if isinstance(group.places[0].waiver, WaiverUsed):
            over = group.places[0].waiver
            page.entry("", f"it was waived until {over.until}, by {over.owner}: {over.reason}", style="doubt")
        governed = group.governed
        if len(governed) > 1:
            among = governed if verbose else governed[:_SHOWN_NAMES]
            words = ", among them" if len(among) < group.count else ":"
            page.entry("", f"governs {group.count} places{words} {', '.join(among)}")
        elif governed:
            page.entry("", f"at {governed[0]}", style="quiet")
        _render_named_by(page, group.places[0])
        if verbose:
            _render_evidence(page, group.places[0])
    rest = groups[_SHOWN_GROUPS:]
    if rest and not verbose:
        page.entry(
            "",
            f"and {sum(g.lines for g in rest)} more lines with {sum(g.count for g in rest)} places (--verbose lists them)",
        )
    page.entry("why", f"{check.why} ({', '.join(check.references)})")
    page.entry("change", check.remedy)
    for number, line in enumerate(check.block.splitlines() if verbose else ()):
        page.entry("" if number else "paste", line, style="quiet")
    page.entry("gain", gain_words(check, host, folded))
    page.blank()


def _render_waived(page: Page, host: HostDocument) -> None:
    rows = waived_rows(host)
    if not rows:
        return
    page.line(("Waived", "strong"))
    for row in rows:
        many = f" at {row.places} places" if row.places > 1 else ""
        page.entry("", f"{row.control}{many}: {row.reason} ({row.owner}, until {row.until})", indent=2, column=2)
    page.blank()


def _render_named_by(page: Page, place: PlaceDocument) -> None:
    provenance = place.provenance
    if place.line is None and place.file is not None and provenance is not None and provenance.file is not None:
        page.entry("", f"named by {provenance.file}:{provenance.line}", style="quiet")
    for lost in provenance.overruled if provenance is not None else ():
        page.entry("", f"overrules {lost.file}:{lost.line}" + (f" ({lost.note})" if lost.note else ""), style="quiet")


def _render_evidence(page: Page, place: PlaceDocument) -> None:
    if place.provenance is not None and place.provenance.note:
        page.entry("", place.provenance.note, style="quiet")
    if place.evidence:
        page.entry("", f"evidence: {place.evidence}", style="quiet")


def _render_unknown(page: Page, checks: Sequence[CheckDocument], *, verbose: bool) -> None:
    """Unknown places by reason, since one cause often hides from many controls; reasons that hide the same together."""
    reasons: dict[str, dict[str, int]] = {}
    for check in checks:
        for place in check.places:
            if place.verdict == "unknown":
                controls = reasons.setdefault(place.message, {})
                controls[check.control] = controls.get(check.control, 0) + place.count
    alike: dict[str, tuple[list[str], int]] = {}
    for reason, controls in reasons.items():
        names = [f"{control} ({count})" if count > 1 else control for control, count in controls.items()]
        if len(names) > _SHOWN_CONTROLS and not verbose:
            names = [*names[:_SHOWN_NAMES], f"and {len(names) - _SHOWN_NAMES} more controls (--verbose lists them)"]
        places = ", ".join(names)
        together, weight = alike.get(places, ([], 0))
        alike[places] = ([*together, reason], weight + sum(controls.values()))
    ranked = sorted(alike.items(), key=lambda item: -item[1][1])
    for places, (together, _) in ranked[: None if verbose else _SHOWN_GROUPS]:
        shown = together if verbose else together[:_SHOWN_GROUPS]
        for reason in shown:
            page.entry("", reason, indent=2, column=2)
        _more(page, len(together) - len(shown), "reasons", verbose=verbose)
        page.entry("", places, indent=4, column=4, style="quiet")
    _more(page, len(ranked) - _SHOWN_GROUPS, "groups of reasons", verbose=verbose)


def _more(page: Page, count: int, what: str, *, verbose: bool) -> None:
    if count > 0 and not verbose:
        page.entry("", f"and {count} more {what} (--verbose lists them)", indent=2, column=2)


def _score_words(minimum_coverage: float, host: HostDocument) -> list[tuple[str, Style]]:
    score = host.score
    if score.value is None:
        return [("no score: nothing could be judged", "doubt")]
    style = score_style(score.band)
    bounds = f"between {score.low:.1f} and {score.high:.1f}"
    if score.coverage < minimum_coverage:
        coverage = f": {score.coverage:.0%} of the baseline, {bounds}; no gate is met"
        return [("too little was seen", "doubt"), (coverage, "plain")]
    words = f", {bounds}, with {score.coverage:.0%} of the baseline seen"
    return [(f"{score.value:.1f} {score.band}", style), (words, "plain")]


def score_style(band: str | None) -> Style:
    """How a score of this band is written."""
    return "good" if band in ("firm", "hardened") else "bad" if band in ("open", "weak") else "doubt"


def _render_score(page: Page, run: Run, host: HostDocument) -> None:
    score = host.score
    page.line(("Score  ", "strong"), *_score_words(run.baseline.minimum_coverage, host))
    if score.value is not None and score.unwaived is not None and score.unwaived < score.value - 0.05:
        page.entry("", f"without waivers it would be {score.unwaived:.1f}", indent=7, column=7)
    page.line("       ", *scale(score.low, score.value, score.high, min(60, page.width - 16)))
    if score.ceiling is not None:
        words = f"held at {score.ceiling.value:g} by {score.ceiling.control}"
        page.entry("", f"{words}; without a ceiling it would be {score.uncapped or 0:.1f}", indent=7, column=7)
    if score.low_ceiling is not None:
        doubt = score.low_ceiling
        words = f"it may be {doubt.value:g} or less: {doubt.control} could not be told ({doubt.because})"
        page.entry("", words, indent=7, column=7)
    if host.steps:
        page.blank()
        page.line(("First steps", "strong"))
        before = score.value or 0.0
        for number, step in enumerate(host.steps, 1):
            page.entry(
                f"{number:>2}", f"{' and '.join(step.controls)}: {before:.1f} to {step.value:.1f}", indent=0, column=4
            )
            before = step.value


def scale(low: float, value: float | None, high: float, cells: int) -> list[tuple[str, Style]]:
    """0 to 100 as a bar: full up to the value, shaded from the low to the high bound."""

    def cell(points: float) -> int:
        return min(cells, max(0, round(points * cells / 100)))

    position = cell(low if value is None else value)
    sure, end = min(cell(low), position), max(cell(high), position)
    bar = "█" * sure + "▓" * (position - sure) + "░" * (end - position) + "·" * (cells - end)
    return [("0 ", "quiet"), (bar, "plain"), (" 100", "quiet")]
