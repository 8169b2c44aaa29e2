"""Figures, drawn by Matplotlib: PNG and SVG files for papers and pages."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any, Final

from rupex.history import Trend
from rupex.history.trend import Line
from rupex.model import RupexError

# The bands' shades, from open to hardened: told apart by lightness too, so that they need no colour.
BAND_SHADES: Final = (("open", 0, 40, "#8c2d3f"), ("weak", 40, 60, "#c0663f"), ("fair", 60, 75, "#c9a24a"),
                      ("firm", 75, 90, "#6f9fa5"), ("hardened", 90, 100, "#2f5f73"))  # fmt: skip
INK: Final = "#22303a"
_DPI: Final = 130
_NAMED: Final = 12
_APART: Final = 4.0


def figure(width: float, height: float) -> tuple[Any, Any]:
    """A figure in inches with one pair of axes."""
    import matplotlib

    matplotlib.use("Agg")
    import matplotlib.pyplot as plt

    plt.rcParams.update({"font.size": 10, "axes.edgecolor": INK, "axes.labelcolor": INK, "text.color": INK,
                         "xtick.color": INK, "ytick.color": INK, "axes.spines.top": False, "axes.spines.right": False,
                         "svg.hashsalt": "rupex", "font.family": "DejaVu Sans"})  # fmt: skip
    return plt.subplots(figsize=(width, height), layout="constrained")


def save(drawn: Any, path: Path) -> None:
    """Write a figure whole, PNG or SVG by its suffix. Raises :class:`~rupex.model.RupexError`."""
    import matplotlib.pyplot as plt

    form = path.suffix.lower().removeprefix(".")
    if form not in ("png", "svg"):
        raise RupexError(f"{path}: a figure's name ends in .png or .svg")
    scratch = path.with_name(f".{path.name}.part")
    try:
        drawn.savefig(scratch, format=form, dpi=_DPI, metadata={"Date": None} if form == "svg" else None)
        scratch.replace(path)
    except OSError as error:
        scratch.unlink(missing_ok=True)
        raise RupexError(f"{path}: cannot be written ({error.strerror})") from None
    finally:
        plt.close(drawn)


def plot_trend(trend: Trend, path: Path) -> None:
    """How a score, or the hosts that fail a control, went over the runs."""
    drawn, axes = figure(9.2, 4.6)
    when = [datetime.fromisoformat(point.started) for point in trend.points]
    values = [float("nan") if point.value is None else point.value for point in trend.points]
    if trend.control is None:
        _bands(axes)
        for line in trend.lines if len(trend.lines) > 1 else ():
            told = [float("nan") if value is None else value for value in line.values]
            axes.plot(when, told, color=INK, alpha=0.28, linewidth=1)
            last = next((v for v in reversed(line.values) if v is not None), None)
            if last is not None and len(trend.lines) <= 12:
                axes.annotate(
                    line.name, (when[-1], last), xytext=(5, 0), textcoords="offset points", fontsize=8, va="center"
                )
        low = [float("nan") if point.low is None else point.low for point in trend.points]
        high = [float("nan") if point.high is None else point.high for point in trend.points]
        axes.fill_between(when, low, high, color=INK, alpha=0.18, linewidth=0, label="bounds")
        axes.set_ylim(0, 100)
        axes.set_ylabel("score")
    else:
        axes.set_ylim(0, max(1.0, *(value for value in values if value == value)) * 1.1)
        axes.set_ylabel("hosts that fail it" if trend.host is None else "fails (1) or holds (0)")
    axes.plot(when, values, color=INK, marker="o", markersize=4, linewidth=2, label=trend.control or "score")
    axes.set_title(_title(trend), loc="left", fontweight="bold")
    axes.tick_params(axis="x", rotation=30)
    save(drawn, path)


def _name_lines(axes: Any, last: datetime, lines: Sequence[Line]) -> None:
    """The names of hosts at the ends of their lines, moved apart where they would lie on each other."""
    ends = sorted(
        (v, line.name) for line in lines if (v := next((x for x in reversed(line.values) if x is not None), None))
    )
    height = -10.0
    for value, name in ends:
        height = max(value, height + _APART)
        axes.annotate(
            name, (last, value), (1.01, height), textcoords=axes.get_yaxis_transform(), fontsize=8, va="center",
            annotation_clip=False,
        )  # fmt: skip


def _title(trend: Trend) -> str:
    what = trend.control or "Score"
    return (
        f"{what}: {trend.host or 'all hosts, mean by weight' if trend.control is None else trend.host or 'all hosts'}"
    )


def _bands(axes: Any) -> None:
    for name, start, end, shade in BAND_SHADES:
        axes.axhspan(start, end, color=shade, alpha=0.13, linewidth=0)
        axes.text(
            0.003, (start + end) / 2, name, transform=axes.get_yaxis_transform(), fontsize=8, color=shade, va="center"
        )
