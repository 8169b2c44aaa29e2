"""Lines of a text report: wrapped to a width, with styles that only a terminal in colour shows."""

from __future__ import annotations

import textwrap
from typing import Literal

from rupex.reports.clean import clean

Style = Literal["plain", "strong", "quiet", "bad", "doubt", "good"]

# Shades that stay readable on light and dark grounds; no meaning rests on them.
_STYLES = {"plain": "", "strong": "bold", "quiet": "dim", "bad": "bold red", "doubt": "magenta", "good": "green"}


class Page:
    """Collects lines. ``width`` in columns; nothing is written but paths and words that have no place to break."""

    def __init__(self, width: int = 100) -> None:
        self.width = max(40, width)
        self._lines: list[list[tuple[str, Style]]] = []

    def line(self, *parts: str | tuple[str, Style]) -> None:
        """One line as given; each part a text, or a text and its style."""
        self._lines.append([(clean(p), "plain") if isinstance(p, str) else (clean(p[0]), p[1]) for p in parts])

    def blank(self) -> None:
        if self._lines and self._lines[-1]:
            self._lines.append([])

    def entry(self, label: str, text: str, *, indent: int = 4, column: int = 12, style: Style = "plain") -> None:
        """``label`` and, from ``column`` on, ``text`` wrapped under itself."""
        head = " " * indent + label
        if label and len(head) >= column:
            self._lines.append([(clean(head), "quiet")])
            head = ""
        room = self.width - column
        wrapped = textwrap.wrap(clean(text), room, break_long_words=False, break_on_hyphens=False) or [""]
        self._lines.append([(clean(head).ljust(column), "quiet"), (wrapped[0], style)])
        for rest in wrapped[1:]:
            self._lines.append([(" " * column, "plain"), (rest, style)])

    def render(self, *, colour: bool = False) -> str:
        """The page as text that ends with a line end."""
        if not colour:
            return "\n".join("".join(text for text, _ in line).rstrip() for line in self._lines) + "\n"
        from io import StringIO

        from rich.console import Console
        from rich.text import Text

        console = Console(file=StringIO(), force_terminal=True, width=100_000, color_system="standard", highlight=False)
        for line in self._lines:
            console.print(Text.assemble(*((text, _STYLES[style]) for text, style in line)), soft_wrap=True)
        written: str = console.file.getvalue()  # type: ignore[attr-defined]
        return written
