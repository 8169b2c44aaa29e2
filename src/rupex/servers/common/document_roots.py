"""What lies below document roots, and whether a server gives what nobody should get: the same for every family."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from typing import Final

from msgspec import Struct

from rupex.host import HostTree, TreeError
from rupex.host.tree.paths import normalize_path
from rupex.http.sensitive import SAMPLES, is_sensitive
from rupex.model import Setting, unknown

OVERRIDE_FILE: Final = ".htaccess"
"""Settings of a folder in the folder itself, which httpd reads (AccessFileName)."""
_MOST_ENTRIES: Final = 20_000
"""Entries below one document root that are looked at; a larger one is content that nobody reads through."""
_LEAST_ENTRIES: Final = 500
_ENTRIES_OF_ALL: Final = 1_000_000
"""Entries below all document roots of a host; each has the same part of them, whatever the others have."""
_MOST_SHOWN: Final = 8


class Below(Struct, frozen=True):
    """What lies below a document root. ``sensitive``: URL paths of what nobody should get; ``overrides``: paths in the tree of
    folders with a file called ``.htaccess``; ``not_seen``: why there may be more, empty where all was looked at."""

    sensitive: tuple[str, ...]
    overrides: tuple[str, ...]
    not_seen: str


class DocumentRoots:
    """Finds what lies under the document roots of a host that has so many ``sites``. Each root is walked once."""

    def __init__(self, tree: HostTree, sites: int) -> None:
        self.tree = tree
        self.most = min(_MOST_ENTRIES, max(_LEAST_ENTRIES, _ENTRIES_OF_ALL // max(1, sites)))
        self._known: dict[str, Below] = {}

    def below(self, root: str) -> Below:
        path = normalize_path(root)
        found = self._known.get(path)
        if found is None:
            found = self._known[path] = self._walked(path)
        return found

    def _walked(self, root: str) -> Below:
        sensitive: list[str] = []
        overrides: list[str] = []
        not_seen = ""
        waiting, entered, looked = deque((root,)), {self.tree.real(root)}, 0
        while waiting and not not_seen:
            folder = waiting.popleft()
            try:
                real = self.tree.real(folder)
                names = self.tree.names_in(real)
            except TreeError as error:
                not_seen = error.message
                break
            if not self.tree.is_listed(real):
                not_seen = "the snapshot does not list all its files"
            for name in names:
                looked += 1
                if looked > self.most:
                    not_seen = f"more than {self.most} files and folders"
                    break
                path = f"{folder}/{name}" if folder else name
                if name == OVERRIDE_FILE:
                    overrides.append(folder)
                is_folder = self.tree.is_folder(path)
                if is_sensitive(name):
                    sensitive.append(path[len(root) :] + "/" if is_folder else path[len(root) :])
                elif is_folder and (below := self.tree.real(path)) not in entered:
                    entered.add(below)
                    waiting.append(path)
        return Below(tuple(sensitive), tuple(overrides), not_seen)


def exposed(below: Below | None, is_refused: Callable[[str], bool], may_refuse: bool) -> Setting[tuple[str, ...]]:
    """Which sensitive files of a document root are served. ``below``: what is in it, None for one that is not in the tree;
    ``is_refused`` asks the server; ``may_refuse``: something in it could."""
    found = () if below is None else below.sensitive
    served = [path for path in found if not is_refused(path + "config" if path.endswith("/") else path)]
    if below is not None and (served or not below.not_seen):
        return Setting(tuple(served[:_MOST_SHOWN]))
    if may_refuse and all(map(is_refused, SAMPLES)):
        return Setting(())
    why = "is not in the tree" if below is None else f"was not searched completely ({below.not_seen})"
    open_to = next((path for path in SAMPLES if not may_refuse or not is_refused(path)), SAMPLES[0])
    return unknown(f"the document root {why}, and nothing refuses a request for {open_to}")
