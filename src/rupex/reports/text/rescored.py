"""What a change of baseline does to a run, as text."""

from __future__ import annotations

from collections.abc import Sequence

from rupex.audit.rescore import Change, Rescored
from rupex.audit.score import band_of
from rupex.reports.text.text_layout import Page


def render_rescored(hosts: Sequence[Rescored], found: Sequence[Change], *, width: int, colour: bool) -> str:
    """Score by score, then control by control; what needs another look last."""
    page = Page(width)
    wide = max((len(host.name) for host in hosts), default=0)
    page.line(("Scores, with what was found as it was", "strong"))
    for host in hosts:
        words = f"{_score(host.old)}  becomes  {_score(host.new.value)}"
        held = host.new.ceiling
        page.line(f"  {host.name:<{wide}}  {words}" + (f", held by {held.control}" if held is not None else ""))
    page.blank()
    for title, needs_audit in (("What counts otherwise", False), ("What only another audit can tell", True)):
        rows = [change for change in found if change.needs_a_look == needs_audit]
        if rows:
            page.line((title, "strong"))
            for change in rows:
                page.entry(change.control, change.words, indent=2, column=30)
            page.blank()
    if not found:
        page.line("Both say the same of what was judged.")
    return page.render(colour=colour)


def _score(value: float | None) -> str:
    return "no score" if value is None else f"{value:5.1f} {band_of(value)}"
