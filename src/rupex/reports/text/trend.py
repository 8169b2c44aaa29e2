"""Trends as text: a line a run, with a bar; of a fleet also each host from first to last."""

from __future__ import annotations

from typing import Final

from rupex.audit.score import band_of
from rupex.documents.comparison import TrendPoint
from rupex.history import Trend
from rupex.reports.text.text import scale, score_style
from rupex.reports.text.text_layout import Page, Style

_BAR: Final = 40
_BESIDE: Final = 62
"""Columns for what stands beside the bar."""
_BLOCKS: Final = "▁▂▃▄▅▆▇█"


def render_trend(trend: Trend, *, width: int = 100, colour: bool = False) -> str:
    page = Page(width)
    what = trend.control or "score"
    whose = trend.host or ("all hosts, mean by weight" if trend.control is None else "all hosts")
    page.line((f"{what}", "strong"), f"  {whose}, {len(trend.points)} runs")
    before: float | None = None
    for point in trend.points:
        _render_point(page, trend, point, before)
        before = point.value
    if len(trend.lines) > 1:
        page.blank()
        page.line(("Each host, first to last", "strong"))
        wide = max(len(line.name) for line in trend.lines) + 2
        for line in trend.lines:
            values = [value for value in line.values if value is not None]
            if values:
                change = values[-1] - values[0]
                style: Style = "good" if change > 0.05 else "bad" if change < -0.05 else "plain"
                page.line(
                    f"  {line.name:<{wide}}{_spark(line.values)}  {values[0]:5.1f} → {values[-1]:5.1f}  ",
                    (f"{change:+.1f}", style),
                )
    return page.render(colour=colour)


def _render_point(page: Page, trend: Trend, point: TrendPoint, before: float | None) -> None:
    cells = min(_BAR, page.width - _BESIDE)
    stamp = point.started.replace("T", " ").rstrip("Z")[:16]
    if point.value is None:
        page.line(f"  {stamp}  run:{point.run:<5}", ("no score", "doubt"))
        return
    change = "" if before is None or abs(point.value - before) < 0.05 else f"  {point.value - before:+.1f}"
    if trend.control is not None:
        many = max((p.value or 0.0) for p in trend.points) or 1.0
        bar = "█" * round(cells * point.value / many)
        where = (
            f"{point.places} places"
            if trend.host
            else f"{point.value:.0f} of {point.hosts} hosts, {point.places} places"
        )
        page.line(f"  {stamp}  run:{point.run:<5}{bar:<{cells}}  {where}, {point.lost or 0.0:.1f} points")
        return
    bar_parts = scale(point.low or 0.0, point.value, point.high or 100.0, cells)
    held = f"  held by {point.held_by}" if point.held_by else ""
    page.line(
        f"  {stamp}  run:{point.run:<5}", (f"{point.value:5.1f} {band_of(point.value):<8}", score_style(band_of(point.value))),
        " ", *bar_parts, f"{change}{held}",
    )  # fmt: skip


def _spark(values: tuple[float | None, ...]) -> str:
    shown = values[-30:]
    return "".join(" " if value is None else _BLOCKS[min(7, int(value / 12.5))] for value in shown)
