"""A fleet as text: the ranking with what to do first, what costs it most, by owner and tag, and what expires when."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

from rupex.audit.score import band_of
from rupex.documents.run import FleetDocument, FleetPart, HostDocument, Run
from rupex.reports.text.text import render_waivers, scale, score_style
from rupex.reports.text.text_layout import Page, Style

_HOSTS: Final = 40
_COSTS: Final = 10
_EXPIRIES: Final = 12
_SOON_DAYS: Final = 45
_BAR: Final = 30


def render_fleet(run: Run, *, width: int = 100, colour: bool = False, verbose: bool = False) -> str:
    """The fleet of ``run``. ``verbose``: every host, control and certificate, and then each host as an audit tells it."""
    assert isinstance(run.fleet, FleetDocument)
    fleet, page = run.fleet, Page(width)
    hosts = {host.name: host for host in run.hosts}
    scored = sum(host.score.value is not None for host in run.hosts)
    mean = "no score" if fleet.mean is None else f"mean {fleet.mean:.1f} {band_of(fleet.mean)}"
    page.line((fleet.inventory, "strong"), f"  {len(run.hosts)} hosts, {scored} with a score, {mean}")
    page.line(f"  baseline {run.baseline.name} {run.baseline.version}, where a host has none of its own")
    page.blank()
    _render_ranking(page, fleet, hosts, run.baseline.minimum_coverage, verbose=verbose)
    _render_costs(page, fleet, verbose=verbose)
    _render_parts(page, "By owner", fleet.owners)
    _render_parts(page, "By tag", fleet.tags)
    _render_expiries(page, fleet, verbose=verbose)
    _render_problems(page, run.hosts)
    if run.waivers:
        page.blank()
        render_waivers(page, run.waivers)
    text = page.render(colour=colour)
    if verbose:
        from rupex.reports.text.text import render_run

        text += "\n" + render_run(run, width=width, colour=colour, verbose=True)
    return text


def _render_ranking(
    page: Page, fleet: FleetDocument, hosts: dict[str, HostDocument], minimum_coverage: float, *, verbose: bool
) -> None:
    page.line(("Ranking, worst first", "strong"))
    names = fleet.ranking if verbose else fleet.ranking[:_HOSTS]
    wide = max((len(name) for name in names), default=0)
    for number, name in enumerate(names, 1):
        host = hosts[name]
        score = host.score
        if score.value is None:
            page.line(f"{number:>4}  {name:<{wide}}  ", ("no score", "doubt"), f"  {_why_none(host)}")
            continue
        style: Style = score_style(score.band) if score.coverage >= minimum_coverage else "doubt"
        shown = scale(score.low, score.value, score.high, _BAR)
        page.line(
            f"{number:>4}  {name:<{wide}}  ", (f"{score.value:5.1f} {score.band:<8}", style), "  ", *shown,
            f"  {score.low:.0f} to {score.high:.0f}" + ("" if score.coverage >= minimum_coverage else ", too little seen"),
        )  # fmt: skip
        held = f"held at {score.ceiling.value:g} by {score.ceiling.control}; " if score.ceiling is not None else ""
        first = host.steps[0] if host.steps else None
        todo = (
            f"first {' and '.join(first.controls)}: +{first.gain:.1f}" if first is not None else "nothing left to gain"
        )
        page.entry("", f"{held}{todo}", indent=8 + wide, column=8 + wide, style="quiet")
    if len(fleet.ranking) > len(names):
        page.line(f"      and {len(fleet.ranking) - len(names)} more (--verbose lists them)")
    page.blank()


def _why_none(host: HostDocument) -> str:
    return host.problems[0].message if host.problems else "nothing could be judged"


def _render_costs(page: Page, fleet: FleetDocument, *, verbose: bool) -> None:
    if not fleet.costs:
        return
    page.line(("What costs the fleet most", "strong"))
    costs = fleet.costs if verbose else fleet.costs[:_COSTS]
    wide = max(len(cost.control) for cost in costs) + 2
    most = max(cost.points for cost in costs) or 1.0
    for cost in costs:
        bar = "█" * max(1, round(12 * cost.points / most)) if cost.points >= 0.05 else ""
        hosts = f"{cost.hosts} host{'s'[: cost.hosts > 1]}"
        held = f", holds {cost.held} down" if cost.held else ""
        page.line(f"  {cost.control:<{wide}}{cost.points:5.1f}  {bar:<12}  {hosts}{held}")
    if len(fleet.costs) > len(costs):
        page.line(f"  and {len(fleet.costs) - len(costs)} more controls (--verbose lists them)")
    page.blank()


def _render_parts(page: Page, title: str, parts: Sequence[FleetPart]) -> None:
    if not parts:
        return
    page.line((title, "strong"))
    wide = max(len(part.name) for part in parts) + 2
    for part in parts:
        mean = "no score" if part.mean is None else f"{part.mean:5.1f} {band_of(part.mean)}"
        worst = f", the worst {part.worst}" if part.worst is not None and part.hosts > 1 else ""
        page.line(f"  {part.name:<{wide}}{mean:<16}{part.hosts} host{'s'[: part.hosts > 1]}{worst}")
    page.blank()


def _render_expiries(page: Page, fleet: FleetDocument, *, verbose: bool) -> None:
    soon = [expiry for expiry in fleet.expiries if expiry.days_left <= _SOON_DAYS]
    shown = fleet.expiries if verbose else soon[:_EXPIRIES]
    if not fleet.expiries:
        return
    page.line(("What expires when", "strong"))
    if not shown:
        first = fleet.expiries[0]
        words = (
            f"nothing within {_SOON_DAYS} days; the first is {first.subject} on {first.host}, {first.not_after[:10]}"
        )
        page.entry("", words, indent=2, column=2)
    for expiry in shown:
        time_left = f"{expiry.days_left} days left" if expiry.days_left >= 0 else f"{-expiry.days_left} days ago"
        style: Style = "bad" if expiry.days_left < 7 else "doubt" if expiry.days_left < 21 else "plain"
        page.line(f"  {expiry.not_after[:10]}  ", (f"{time_left:<14}", style), f"  {expiry.host}  {expiry.subject}")
    rest = len(fleet.expiries) - len(shown)
    if rest and shown and not verbose:
        page.line(f"  and {rest} later (--verbose lists them)")
    page.blank()


def _render_problems(page: Page, hosts: Sequence[HostDocument]) -> None:
    troubled = [host for host in hosts if host.problems]
    if not troubled:
        return
    page.line(("Could not be read or reached", "strong"))
    for host in troubled[:_EXPIRIES]:
        problem = host.problems[0]
        more = f" (and {len(host.problems) - 1} more)" if len(host.problems) > 1 else ""
        page.entry("", f"{host.name}: {problem.kind}: {problem.message}{more}", indent=2, column=4)
    if len(troubled) > _EXPIRIES:
        page.line(f"  and {len(troubled) - _EXPIRIES} more hosts")
