"""Two runs side by side, as text: the scores, what got worse, what got better, and why the rest still fails."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

from rupex.audit.score import band_of
from rupex.documents.comparison import ChangeDocument, CompareDocument, HostComparison, UnchangedDocument
from rupex.documents.run import PlaceDocument
from rupex.reports.text.text_layout import Page, Style

_SECTIONS: Final[tuple[tuple[str, str, Style], ...]] = (
    ("worse", "Worse", "bad"),
    ("new", "New", "doubt"),
    ("better", "Better", "good"),
    ("gone", "Gone", "quiet"),
)
_SHOWN: Final = 4
_PARTS: Final = 6


def render_comparison(
    document: CompareDocument, *, width: int = 100, colour: bool = False, verbose: bool = False, quiet: bool = False
) -> str:
    """The whole comparison. ``quiet``: one line a host."""
    page = Page(width)
    for host in document.hosts:
        if quiet:
            page.line(f"{host.name}  ", *_score_words(host), f"  {_count_words(host)}")
            continue
        _render_host(page, host, verbose=verbose)
    if document.notes and not quiet:
        page.line(("To keep in mind", "strong"))
        for note in document.notes:
            page.entry("", note, indent=2, column=2)
    return page.render(colour=colour)


def _render_host(page: Page, host: HostComparison, *, verbose: bool) -> None:
    page.line((host.name, "strong"), "  ", *_score_words(host))
    held = f"; held at {host.ceilings.new:g} by a ceiling" if host.ceilings.new is not None else ""
    page.line(f"  {_count_words(host)}{held}")
    cells = min(60, page.width - 20)
    for word, value in (("before", host.score.old), ("after", host.score.new)):
        if value is not None:
            full = round(value * cells / 100)
            page.line(f"  {word:<7}0 ", ("█" * full + "·" * (cells - full), "plain"), (" 100", "quiet"))
    page.blank()
    for kind, title, style in _SECTIONS:
        found = [change for change in host.changes if change.change == kind]
        if found:
            page.line((f"{title} ({len(found)})", "strong"))
            _render_changes(page, found, style, verbose=verbose)
            page.blank()
    if host.unchanged_because:
        page.line(("Still failing, and why nothing changed", "strong"))
        _render_unchanged(page, host.unchanged_because, verbose=verbose)
        page.blank()
    _render_parts(page, host, verbose=verbose)


def _score_words(host: HostComparison) -> list[tuple[str, Style]]:
    old, new = host.score.old, host.score.new
    words = f"{_score(old)} → {_score(new)}"
    if old is None or new is None:
        return [(words, "plain")]
    gained = new - old
    style: Style = "good" if gained > 0.05 else "bad" if gained < -0.05 else "plain"
    return [(words, "plain"), (f"  {gained:+.1f}", style)]


def _score(value: float | None) -> str:
    return "not there" if value is None else f"{value:.1f} {band_of(value)}"


def _count_words(host: HostComparison) -> str:
    counts = {kind: sum(change.change == kind for change in host.changes) for kind, _, _ in _SECTIONS}
    words = [f"{count} {kind}" for kind, count in counts.items() if count]
    still = sum(row.places for row in host.unchanged_because)
    return ", ".join([*words, *([f"{still} still failing"] if still else [])]) or "nothing changed"


def _render_changes(page: Page, changes: Sequence[ChangeDocument], style: Style, *, verbose: bool) -> None:
    by_control: dict[tuple[str, str | None, str | None], list[ChangeDocument]] = {}
    for change in changes:
        by_control.setdefault((change.control, change.old, change.new), []).append(change)
    wide = max(len(control) for control, _, _ in by_control) + 2
    for (control, old, new), found in by_control.items():
        shown = found if verbose else found[:_SHOWN]
        places = ", ".join(dict.fromkeys(_place(change.place) for change in shown))
        more = f" and {len(found) - len(shown)} more" if len(found) > len(shown) else ""
        verdicts = f"{old or 'not there'} → {new or 'not there'}"
        page.line(f"  {control:<{wide}}", (verdicts, style))
        page.entry("", f"{places}{more}", indent=4, column=4, style="quiet")
        message = found[0].place.message
        if message and new in ("fail", "unknown"):
            page.entry("", message, indent=4, column=4)


def _place(place: PlaceDocument) -> str:
    if place.endpoint is None:
        return place.file or "the host"
    name = place.name or place.endpoint.partition("/")[2] or place.endpoint
    return name if place.scope in (None, "any", "prefix:/") else f"{name} {place.scope}"


def _render_unchanged(page: Page, rows: Sequence[UnchangedDocument], *, verbose: bool) -> None:
    by_reason: dict[tuple[str, str], list[UnchangedDocument]] = {}
    for row in rows:
        by_reason.setdefault((row.reason, row.evidence), []).append(row)
    ranked = sorted(by_reason.items(), key=lambda item: -sum(row.places for row in item[1]))
    for (reason, evidence), found in ranked[: None if verbose else 2 * _SHOWN]:
        page.entry("", reason, indent=2, column=2)
        page.entry("", evidence, indent=4, column=4, style="quiet")
        names = [f"{row.control} ({row.places})" if row.places > 1 else row.control for row in found]
        page.entry("", ", ".join(names), indent=4, column=4)
    if len(ranked) > 2 * _SHOWN and not verbose:
        page.entry("", f"and {len(ranked) - 2 * _SHOWN} more reasons (--verbose lists them)", indent=2, column=2)


def _render_parts(page: Page, host: HostComparison, *, verbose: bool) -> None:
    parts = sorted(host.parts, key=lambda part: -abs(part.new - part.old))
    if not parts or host.score.old is None or host.score.new is None:
        return
    page.line(("Where the points went", "strong"))
    wide = max(len(part.control) for part in parts) + 2
    for part in parts[: None if verbose else _PARTS]:
        page.line(f"  {part.control:<{wide}}", f"cost {part.old:4.1f}, now {part.new:4.1f}")
    if len(parts) > _PARTS and not verbose:
        page.entry("", f"and {len(parts) - _PARTS} more (--verbose lists them)", indent=2, column=2)
    if host.ceilings.old != host.ceilings.new:
        held = [
            ("no ceiling" if value is None else f"held at {value:g}")
            for value in (host.ceilings.old, host.ceilings.new)
        ]
        page.line(f"  {'the ceiling':<{wide}}", f"{held[0]}, now {held[1]}")
    page.blank()
