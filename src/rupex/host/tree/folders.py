"""Folders of a host tree on disk, opened one inside the other.

A path is walked by descriptors from the root, one name at a time, and never through a symbolic link: the tree has resolved
those before. So a folder that somebody exchanges for a link, between the look and the reading, leads nowhere, and nothing
outside the root is ever opened. This needs no more than openat(2), which Python has; openat2(2) would do the same in one call.
"""

from __future__ import annotations

import errno
import os
from typing import Final

_MOST_OPEN: Final = 64
"""Folders that are kept open; a process may have some 1,000 descriptors."""
_FOLDER: Final = os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_PATH_ONLY: Final = _FOLDER | getattr(os, "O_PATH", os.O_RDONLY)


class Folders:
    """The folders below ``root``, the last ones kept open."""

    def __init__(self, root: str) -> None:
        self._root = root
        self._open: dict[str, int] = {}

    def descriptor(self, path: str) -> int:
        """A descriptor of the folder at ``path``, relative to the root, to which other calls can be relative. It is closed by
        itself. Raises :class:`OSError`."""
        found = self._open.get(path)
        if found is not None:
            return found
        if ".." in path and ".." in path.split("/"):
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT))  # a real path has none
        if "" not in self._open:
            self._open[""] = os.open(self._root, _PATH_ONLY & ~os.O_NOFOLLOW)
        if not path:
            return self._open[""]
        above = self._open.get(split_path(path)[0])  # as for most folders: beside one that was asked for before
        if above is not None:
            return self._enter(above, path)
        here, end = self._open[""], -1
        while end < len(path):
            end = path.find("/", end + 1)
            end = len(path) if end < 0 else end
            known = self._open.get(path[:end])
            here = self._enter(here, path[:end]) if known is None else known
        return here

    def _enter(self, above: int, path: str) -> int:
        """Open the last folder of ``path`` in ``above``."""
        found = os.open(split_path(path)[1], _PATH_ONLY, dir_fd=above)
        if len(self._open) > _MOST_OPEN:
            self._close_oldest(above)
        self._open[path] = found
        return found

    def place(self, path: str) -> tuple[int, str]:
        """The folder that ``path`` is in, as :meth:`descriptor` has it, and its name there; ``.`` for the root. Raises
        :class:`OSError`."""
        folder, name = split_path(path)
        if name == "..":
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT))
        return self.descriptor(folder), name or "."

    def names(self, path: str) -> list[str]:
        """The names in the folder at ``path``, sorted by bytes. Raises :class:`OSError`."""
        above, name = self.place(path)
        descriptor = os.open(name, os.O_RDONLY | _FOLDER, dir_fd=above)
        try:
            return sorted(os.listdir(descriptor), key=os.fsencode)
        finally:
            os.close(descriptor)

    def _close_oldest(self, kept: int) -> None:
        """Close half of the folders, but neither the root nor ``kept``."""
        for path in [path for path, descriptor in self._open.items() if path and descriptor != kept][: _MOST_OPEN // 2]:
            os.close(self._open.pop(path))

    def __del__(self) -> None:
        for descriptor in self._open.values():
            os.close(descriptor)


def split_path(path: str) -> tuple[str, str]:
    """The folder of a path, empty for the root, and the name in it."""
    folder, _, name = path.rpartition("/")
    return folder, name
