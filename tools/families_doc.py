"""Writes the tables of directives at the end of docs/families/*.md from the code. ``python tools/families_doc.py``."""

from __future__ import annotations

from pathlib import Path

from rupex.servers.apache.inventory import directives

PAGE = Path(__file__).parent.parent / "docs/families/apache.md"
HEADING = "\n## Directives\n"


def table() -> str:
    """The directives by what Rupex makes of them, and what the rest is about."""
    rows: dict[tuple[str, str], list[str]] = {}
    for name, known in sorted(directives().items()):
        about = f"{', '.join(sorted(known.effects))}: {known.note}" if known.effects else known.note
        rows.setdefault((known.kind, about), []).append(f"`<{name}>`" if known.is_section else f"`{name}`")
    lines = ["| class | what it is about, or can change | directives |", "| --- | --- | --- |"]
    for kind in ("modelled", "unmodelled", "inert"):
        lines += [
            f"| {kind} | {about} | {' '.join(names)} |" for (of, about), names in sorted(rows.items()) if of == kind
        ]
    return "\n".join(lines) + "\n"


def render(page: str) -> str:
    """``page`` with its table as the code has it."""
    text, heading, rest = page.partition(HEADING)
    return text + heading + rest.partition("\n| class |")[0] + "\n" + table()


if __name__ == "__main__":
    PAGE.write_text(render(PAGE.read_text()))
