"""What a snapshot takes, or took, as text."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rupex.reports.text.text_layout import Page

if TYPE_CHECKING:
    from rupex.snapshot import Taken

_SHOWN = 12


def render_plan(
    taken: Sequence[Taken], closed: Sequence[tuple[str, str]], *, width: int = 100, colour: bool = False
) -> str:
    """Every file, link and name, by what it is for; nothing has been written yet."""
    page = Page(width)
    for kind in dict.fromkeys(one.kind for one in taken):
        page.line((kind, "strong"))
        for one in (one for one in taken if one.kind == kind):
            done = "" if one.how == "as it is" else f"  ({one.how})"
            page.entry(_size(one.size).rjust(9), f"{one.path}{done}", indent=0, column=11)
        page.blank()
    page.line(("of this machine", "strong"))
    page.entry(
        "",
        "versions of servers, their processes with owner and start, the packet filter's rules where root asks",
        column=11,
    )
    page.blank()
    _render_closed(page, taken, closed)
    page.line(f"{len(taken)} items, {_size(sum(one.size for one in taken))}; no private key is among them.")
    return page.render(colour=colour)


def render_taken(
    taken: Sequence[Taken],
    closed: Sequence[tuple[str, str]],
    where: str,
    *,
    width: int = 100,
    colour: bool = False,
    quiet: bool = False,
) -> str:
    """What a snapshot that was just written holds, in a few lines."""
    page = Page(width)
    keys = sum("key described" in one.how for one in taken)
    if not quiet:
        counts = Counter(one.kind for one in taken)
        page.line(("Taken", "strong"))
        for kind, count in counts.items():
            page.entry(kind, str(count), indent=2, column=20)
        page.blank()
        removed = [one for one in taken if "secret" in one.how]
        if removed:
            page.line(("Secrets removed", "strong"))
            for one in removed[:_SHOWN]:
                page.entry("", f"{one.path}: {one.how}", column=2)
            if len(removed) > _SHOWN:
                page.entry("", f"and in {len(removed) - _SHOWN} more files", column=2)
            page.blank()
        _render_closed(page, taken, closed)
    page.line(f"{where} written: {len(taken)} items, no private key; {keys} described.")
    if not quiet:
        page.line(f"Audit it anywhere: rupex audit {where}")
    return page.render(colour=colour)


def _render_closed(page: Page, taken: Sequence[Taken], closed: Sequence[tuple[str, str]]) -> None:
    """What could not be read, which is not what was left out on purpose."""
    unread = [*closed, *((one.path, one.unread) for one in taken if one.unread is not None and one.unread == one.how)]
    if not unread:
        return
    page.line(("Could not be read", "doubt"), "  (whoever may read it can take it; it counts as unknown)")
    for path, why in unread[:_SHOWN]:
        page.entry("", f"{path}: {why}", column=2)
    if len(unread) > _SHOWN:
        page.entry("", f"and {len(unread) - _SHOWN} more", column=2)
    page.blank()


def _size(count: int) -> str:
    return (
        f"{count} B"
        if count < 10_000
        else f"{count / 1024:.0f} KiB"
        if count < 10_000_000
        else f"{count / (1 << 20):.0f} MiB"
    )
