"""Figures, drawn by Matplotlib: PNG and SVG files for papers and pages."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from io import BytesIO
from pathlib import Path
from typing import Any, Final

from rupex.documents.run import HostDocument, Run
from rupex.history import Trend
from rupex.history.trend import Line
from rupex.model import RupexError
from rupex.reports.clean import clean
from rupex.reports.html.themes import NAMES, theme_of
from rupex.user_files import write_whole

# The bands' shades, from open to hardened: told apart by lightness too, so that they need no colour.
BAND_SHADES: Final = (("open", 0, 40, "#8c2d3f"), ("weak", 40, 60, "#c0663f"), ("fair", 60, 75, "#c9a24a"),
                      ("firm", 75, 90, "#6f9fa5"), ("hardened", 90, 100, "#2f5f73"))  # fmt: skip
THEME_SHADES: Final = ("#23485c", "#3f7f86", "#9a6a2f", "#8c2d3f", "#5d6f3a", "#6b4f7d", "#56646e", "#a9532f")
INK: Final = "#22303a"
_MOST_ROWS: Final = 40
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
    content = BytesIO()
    try:
        drawn.savefig(content, format=form, dpi=_DPI, metadata={"Date": None} if form == "svg" else None)
    finally:
        plt.close(drawn)
    write_whole(path, content.getvalue())


def plot_trend(trend: Trend, path: Path) -> None:
    """How a score, or the hosts that fail a control, went over the runs."""
    drawn, axes = figure(9.2, 4.6)
    when = [datetime.fromisoformat(point.started) for point in trend.points]
    values = [float("nan") if point.value is None else point.value for point in trend.points]
    if trend.control is None:
        _bands(axes)
        for line in trend.lines if len(trend.lines) > 1 else ():
            plotted = [float("nan") if value is None else value for value in line.values]
            axes.plot(when, plotted, color=INK, alpha=0.28, linewidth=1)
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
            shown(name), (last, value), (1.01, height), textcoords=axes.get_yaxis_transform(), fontsize=8, va="center",
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


def plot_run(run: Run, before: Run | None, folder: Path) -> list[Path]:
    """Every figure of a run, as PNG and SVG in ``folder``, which is made; the paths. Raises
    :class:`~rupex.model.RupexError`."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise RupexError(f"{folder}: cannot be made ({error.strerror})") from None
    drawings: dict[str, Callable[[], Any]] = {
        "scores": lambda: _draw_scores(run, before),
        "lost-points": lambda: _draw_lost(run),
        "themes": lambda: _draw_matrix(run),
        "expiries": lambda: _draw_expiries(run),
    }
    written = []
    for name, draw in drawings.items():
        for form in ("png", "svg"):
            drawn = draw()
            if drawn is not None:
                save(drawn, folder / f"{name}.{form}")
                written.append(folder / f"{name}.{form}")
    return written


def _ranked(run: Run) -> list[HostDocument]:
    """Hosts with a score, the worst last, so that it stands on top of a figure; no more than a figure can show."""
    scored = [host for host in run.hosts if host.score.value is not None]
    return sorted(scored, key=lambda host: -(host.score.value or 0.0))[-_MOST_ROWS:]


def _draw_scores(run: Run, before: Run | None) -> Any:
    hosts = _ranked(run)
    if not hosts:
        return None
    drawn, axes = figure(9.2, 1.4 + 0.42 * len(hosts))
    old = {} if before is None else {host.name: host.score.value for host in before.hosts}
    for name, start, end, shade in BAND_SHADES:
        axes.axvspan(start, end, color=shade, alpha=0.13, linewidth=0)
        axes.text((start + end) / 2, len(hosts) - 0.35, name, ha="center", fontsize=8, color=shade)
    for row, host in enumerate(hosts):
        axes.plot(
            [host.score.low, host.score.high], [row, row], color=INK, alpha=0.3, linewidth=7, solid_capstyle="butt"
        )
        axes.plot([host.score.value], [row], marker="o", color=INK, markersize=7)
        was = old.get(host.name)
        if was is not None:
            axes.plot([was], [row], marker="o", color=INK, markersize=7, markerfacecolor="none")
            if abs(was - (host.score.value or 0)) > 2:
                axes.annotate(
                    "", (host.score.value, row), (was, row), arrowprops={"arrowstyle": "->", "color": INK, "lw": 1}
                )
    axes.set_yticks(range(len(hosts)), [shown(host.name) for host in hosts])
    axes.set_ylim(-0.6, len(hosts) - 0.1)
    axes.set_xlim(0, 100)
    title = "Scores, with the bounds between which they lie" + ("; before as a ring" if before is not None else "")
    axes.set_title(title, loc="left", fontweight="bold")
    return drawn


def _draw_lost(run: Run) -> Any:
    hosts = _ranked(run)
    if not hosts:
        return None
    drawn, axes = figure(9.2, 1.8 + 0.42 * len(hosts))
    left = [0.0] * len(hosts)
    for index, theme in enumerate(NAMES):
        points = [sum(check.lost for check in host.checks if theme_of(check.control) == theme) for host in hosts]
        if any(points):
            axes.barh(range(len(hosts)), points, left=left, color=THEME_SHADES[index], label=theme, height=0.62)
            left = [before + more for before, more in zip(left, points, strict=True)]
    held = [host.score.ceiling.lost if host.score.ceiling is not None else 0.0 for host in hosts]
    if any(held):
        axes.barh(range(len(hosts)), held, left=left, color="none", edgecolor=INK, hatch="///", linewidth=0.6,
                  label="a ceiling, beside", height=0.62)  # fmt: skip
    axes.set_yticks(range(len(hosts)), [shown(host.name) for host in hosts])
    axes.set_xlim(0, 100)
    axes.set_xlabel("points lost")
    axes.legend(
        loc="upper center",
        bbox_to_anchor=(0.5, -0.35 / (1 + 0.12 * len(hosts)) - 0.06),
        ncols=3,
        frameon=False,
        fontsize=8,
    )
    axes.set_title("Where the points went, by theme", loc="left", fontweight="bold")
    return drawn


def _draw_matrix(run: Run) -> Any:
    hosts = _ranked(run)
    themes = [t for t in NAMES if any(theme_of(c.control) == t and c.lost for host in hosts for c in host.checks)]
    if len(hosts) < 2 or not themes:
        return None
    lost = [[sum(c.lost for c in host.checks if theme_of(c.control) == theme) for theme in themes] for host in hosts]
    drawn, axes = figure(9.2, 2.0 + 0.42 * len(hosts))
    axes.imshow(lost, cmap=_shades(), vmin=0, aspect="auto", origin="lower")
    top = max(map(max, lost)) or 1.0
    for row, values in enumerate(lost):
        for column, value in enumerate(values):
            axes.text(column, row, f"{value:.1f}", ha="center", va="center", fontsize=8,
                      color="white" if value > 0.55 * top else INK)  # fmt: skip
    axes.set_xticks(range(len(themes)), [theme.replace(" and ", "\nand ") for theme in themes], fontsize=8)
    axes.set_yticks(range(len(hosts)), [shown(host.name) for host in hosts])
    axes.set_title("Points lost, hosts by themes", loc="left", fontweight="bold")
    return drawn


def _shades() -> Any:
    """From paper to the shade of the worst band."""
    from matplotlib.colors import LinearSegmentedColormap

    return LinearSegmentedColormap.from_list("rupex", ["#faf8f3", "#e3b7a8", BAND_SHADES[0][3]])


def _draw_expiries(run: Run) -> Any:
    begun = datetime.fromisoformat(run.started)
    ends = sorted(
        {(c.sha256, host.name): (datetime.fromisoformat(c.not_after), host.name, c.subject)
         for host in run.hosts for c in host.certificates}.values(), reverse=True
    )[-_MOST_ROWS:]  # fmt: skip
    if not ends:
        return None
    drawn, axes = figure(9.2, 1.4 + 0.4 * len(ends))
    for row, (end, host, subject) in enumerate(ends):
        days = (end - begun).days
        shade = BAND_SHADES[0][3] if days < 7 else BAND_SHADES[2][3] if days < 30 else BAND_SHADES[4][3]
        axes.plot([0, days], [row, row], color=shade, linewidth=2)
        axes.plot([days], [row], marker="D", color=shade, markersize=6)
        axes.annotate(
            f"{end:%Y-%m-%d}", (days, row), xytext=(7, 0), textcoords="offset points", fontsize=8, va="center"
        )
        ends[row] = (end, host, subject)
    axes.axvline(0, color=INK, linewidth=1)
    axes.set_yticks(range(len(ends)), [shown(f"{host}: {subject}", 44) for _, host, subject in ends], fontsize=8)
    axes.set_xlabel("days from this run")
    axes.margins(x=0.12)
    axes.set_title("What expires when", loc="left", fontweight="bold")
    return drawn


def shown(text: str, most: int = 30) -> str:
    """Text from outside as a figure may show it: cut, harmless, and no formula of Matplotlib's."""
    plain = clean(text).replace("$", r"\$")
    return plain if len(plain) <= most else plain[: most - 1] + "…"
