"""Writes the tables of directives at the end of docs/families/*.md from the code. ``python tools/families_doc.py``."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path

from rupex.servers.apache import inventory as apache
from rupex.servers.nginx import inventory as nginx
from rupex.servers.tomcat import inventory as tomcat

_FOLDER = Path(__file__).parent.parent / "docs/families"
HEADING = "\n## Directives\n"


def _table(rows: Iterable[tuple[str, str, frozenset[str], str]]) -> str:
    """``rows``: the name, class, effects and note of each directive; as one row for all that are alike."""
    alike: dict[tuple[str, str], list[str]] = {}
    for name, kind, effects, note in rows:
        about = f"{', '.join(sorted(effects))}: {note}" if effects else note
        alike.setdefault((kind, about), []).append(f"`{name}`")
    lines = ["| class | what it is about, or can change | directives |", "| --- | --- | --- |"]
    for kind in ("modelled", "unmodelled", "inert"):
        lines += [
            f"| {kind} | {about} | {' '.join(names)} |" for (of, about), names in sorted(alike.items()) if of == kind
        ]
    return "\n".join(lines) + "\n"


def of_apache() -> str:
    """The directives of httpd, sections in angle brackets."""
    found = sorted(apache.directives().items())
    return _table((f"<{name}>" if one.is_section else name, one.kind, one.effects, one.note) for name, one in found)


def of_nginx() -> str:
    """The directives of nginx; those that stand elsewhere than in ``http`` with the block they stand in."""
    found = sorted(nginx.directives().items(), key=lambda item: (item[0][1], item[0][0]))
    return _table(
        (name if where == "http" else f"{where}/{name}", one.kind, one.effects, one.note)
        for (where, name), one in found
    )


def of_tomcat() -> str:
    """The attributes of Tomcat with their element or class in front, and the classes with their element."""
    found = sorted(tomcat.directives().items())
    return _table((f"{place}/{name}", one.kind, one.effects, one.note) for (place, name), one in found)


PAGES: dict[Path, Callable[[], str]] = {
    _FOLDER / "apache.md": of_apache,
    _FOLDER / "nginx.md": of_nginx,
    _FOLDER / "tomcat.md": of_tomcat,
}


def render(page: str, table: Callable[[], str]) -> str:
    """``page`` with its table as the code has it."""
    text, heading, rest = page.partition(HEADING)
    return text + heading + rest.partition("\n| class |")[0] + "\n" + table()


if __name__ == "__main__":
    for path, made in PAGES.items():
        path.write_text(render(path.read_text(), made))
