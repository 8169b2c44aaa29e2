"""Files under a document root that nobody should get, and whether a server gives them: the same for every family."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

from rupex.host import HostTree, TreeError
from rupex.host.tree import inside
from rupex.http.sensitive import SAMPLES, is_sensitive
from rupex.model import Setting, unknown

_MOST_ENTRIES: Final = 5_000
"""Entries under one document root that are looked at; a larger one is content that nobody reads through."""
_DEEPEST: Final = 6
_MOST_SHOWN: Final = 8


class ExposedFiles:
    """Finds what lies under document roots and should not be served. Each root is walked once."""

    def __init__(self, tree: HostTree) -> None:
        self.tree = tree
        self._known: dict[str, tuple[str, ...] | None] = {}

    def under(self, root: str) -> tuple[str, ...] | None:
        """URL paths of such files under ``root``; None where it has too many entries to look at, or may not be read."""
        path = inside(root)
        if path not in self._known:
            found: list[str] = []
            self._known[path] = tuple(found) if self._walk(path, "", found, [_MOST_ENTRIES]) else None
        return self._known[path]

    def _walk(self, root: str, below: str, found: list[str], left: list[int]) -> bool:
        here = f"{root}/{below}" if below else root
        try:
            for name in self.tree.names_in(self.tree.real(here)):
                left[0] -= 1
                if left[0] < 0:
                    return False
                path = f"{below}/{name}" if below else name
                is_folder = self.tree.is_folder(f"{root}/{path}")
                if is_sensitive(name):
                    found.append(f"/{path}/" if is_folder else f"/{path}")
                elif is_folder and path.count("/") < _DEEPEST and not self._walk(root, path, found, left):
                    return False
        except TreeError:
            return False
        return True


def exposed(
    files: tuple[str, ...] | None, has_root: bool, is_refused: Callable[[str], bool], may_refuse: bool
) -> Setting[tuple[str, ...]]:
    """Which of ``files`` are served. ``is_refused`` asks the server; ``may_refuse``: something in it could."""
    if has_root and files is not None:
        served = [path for path in files if not is_refused(path + "config" if path.endswith("/") else path)]
        return Setting(tuple(served[:_MOST_SHOWN]))
    if may_refuse and all(map(is_refused, SAMPLES)):
        return Setting(())
    why = "has too many files to look at" if has_root else "is not in the tree"
    open_to = next((path for path in SAMPLES if not may_refuse or not is_refused(path)), SAMPLES[0])
    return unknown(f"the document root {why}, and nothing refuses a request for {open_to}")
