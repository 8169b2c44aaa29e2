"""Finished hosts of a fleet's run, kept so that an interrupted run can go on: what is kept, and when it still holds.

A finished host is taken over only if nothing changed that its result was made of: its row in the inventory, the baselines and
waivers, Rupex itself, the day, and the files of its tree (by their names, sizes, times, owners and modes).
"""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Iterable, Iterator
from contextlib import suppress
from hashlib import sha256
from pathlib import Path
from typing import Final

import msgspec

from rupex import __version__
from rupex.baseline import Baseline, Waivers
from rupex.documents.encoding import encode_json
from rupex.documents.run import HostDocument
from rupex.fleet.inventory import Entry, Inventory
from rupex.model import bounds
from rupex.user_files import append_line

_MOST_SECONDS: Final = 2 * 86_400
"""After which nothing is taken over: a run goes on within the day that it judges."""
_MOST_BYTES: Final = 4 << 30
"""What is read back: 20,000 hosts of 200 KiB each."""


class Kept:
    """Finished hosts in a file, one a line. A line that was cut short is passed over."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.error: str | None = None
        """Why nothing can be kept; the run goes on without."""

    def read(self) -> dict[str, HostDocument]:
        """The finished hosts by the keys that :meth:`add` was given."""
        found: dict[str, HostDocument] = {}
        try:
            descriptor = os.open(self.path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError:
            return found
        with os.fdopen(descriptor, "rb") as file:
            status = os.fstat(descriptor)
            if not stat.S_ISREG(status.st_mode) or status.st_size > _MOST_BYTES:
                return found
            for line in file:
                key, _, document = line.partition(b" ")
                try:
                    found[key.decode("ascii", "replace")] = msgspec.json.decode(document, type=HostDocument)
                except (msgspec.MsgspecError, RecursionError):
                    continue
        return found

    def add(self, key: str, document: HostDocument) -> None:
        """Keep one host, where that is possible."""
        if self.error is not None:
            return
        try:
            append_line(self.path, key.encode() + b" " + encode_json(document) + b"\n")
        except OSError as error:
            self.error = f"{self.path}: {error.strerror}"

    def forget(self) -> None:
        """Remove what is kept of this run, and of runs so old that none can go on with it."""
        with suppress(OSError):
            self.path.unlink(missing_ok=True)
            for other in self.path.parent.glob("fleet-*.jsonl"):
                if time.time() - other.lstat().st_mtime > _MOST_SECONDS:
                    other.unlink(missing_ok=True)


def state_name(
    inventory: Inventory, baselines: Iterable[Baseline], waivers: Waivers | None, day: str, options: object
) -> str:
    """A name for what is kept of a run: the same for the same inventory, baselines, waivers, release, ``day`` that is judged,
    and ``options`` that change a host's document."""
    parts = [inventory.digest, __version__, day, repr(options), *(b.digest for b in baselines)]
    parts += [waivers.digest if waivers is not None else ""]
    return f"fleet-{sha256(' '.join(parts).encode()).hexdigest()[:20]}.jsonl"


def evidence_key(entry: Entry) -> str | None:
    """What a finished host is kept under: a digest of its row and of the state of its files; None where its tree is too
    large to be compared, so that the host is always done again."""
    digest = sha256(entry.digest.encode())
    for path in (entry.tree, entry.manifest):
        if path is None:
            continue
        for count, row in enumerate(_rows(path)):
            if count >= bounds.COMPARED_FILES:
                return None
            digest.update(row.encode("utf-8", "surrogateescape") + b"\0")
    return digest.hexdigest()


def _rows(path: Path) -> Iterator[str]:
    """One text for the state of ``path`` and of each file and folder below it."""
    waiting = [str(path)]
    while waiting:
        value = waiting.pop()
        try:
            status = os.stat(value) if value == str(path) else os.lstat(value)
            yield (
                f"{value}\t{status.st_mode}\t{status.st_uid}\t{status.st_gid}\t{status.st_size}\t"
                f"{status.st_mtime_ns}\t{status.st_ctime_ns}"
            )
            if stat.S_ISDIR(status.st_mode):
                waiting += sorted(os.path.join(value, name) for name in os.listdir(value))
        except OSError as error:
            yield f"{value}\t{error.errno}"


__all__ = ["Kept", "evidence_key", "state_name"]
