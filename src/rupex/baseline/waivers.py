"""Waivers: failures that somebody accepts, for a reason, until a day. Reading and checking the document (TOML)."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from fnmatch import fnmatchcase
from hashlib import sha256
from pathlib import Path
from typing import Any, Final

from msgspec import Struct

from rupex.baseline.document import MAXIMUM_BYTES, converted
from rupex.baseline.toml import parse_toml, tables_of
from rupex.controls import all_controls
from rupex.model import RupexError
from rupex.user_files import read_bounded

_MOST: Final = 10_000


class _Document(Struct, frozen=True, forbid_unknown_fields=True):
    control: str
    reason: str
    owner: str
    until: date
    host: str = "*"
    place: str = "*"


class Waiver(Struct, frozen=True):
    """One accepted failure. ``control``, ``host`` and ``place`` are shell patterns; ``until`` is the last day, inclusive, in
    UTC; ``number`` counts from 1 in its document."""

    number: int
    control: str
    host: str
    place: str
    reason: str
    owner: str
    until: date

    def covers(self, control: str, host: str, places: Iterable[str]) -> bool:
        """Whether it is about ``control`` on ``host``, at a place that goes by one of the names ``places``."""
        return (
            fnmatchcase(control, self.control)
            and fnmatchcase(host, self.host)
            and (self.place == "*" or any(fnmatchcase(place, self.place) for place in places))
        )

    def is_over(self, today: date) -> bool:
        return today > self.until


class Waivers(Struct, frozen=True):
    """A checked document. ``digest`` is of its bytes."""

    label: str
    rows: tuple[Waiver, ...]
    digest: str

    def find(self, control: str, host: str, places: Iterable[str], today: date) -> Waiver | None:
        """The waiver for a place: one that is in force, else one that has run out; None for none."""
        names = tuple(places)
        found = [row for row in self.rows if row.covers(control, host, names)]
        return next((row for row in found if not row.is_over(today)), found[0] if found else None)


def place_names(
    endpoint: str | None, scope: str | None, name: str | None, file: str | None, line: int | None = None
) -> tuple[str, ...]:
    """What a waiver may call a place: the endpoint's id, the server name, the path of a scope, both together, the file, and
    the file with its line."""
    names = [one for one in (endpoint, name, scope, file) if one]
    if file and line:
        names.append(f"{file}:{line}")
    server = name or (endpoint or "").partition("/")[2]
    if server:
        names.append(server)
    if scope is not None:
        path = scope.partition(":")[2] or "/"
        names += [path, f"{server}{path}"]
    return tuple(dict.fromkeys(names))


def load_waivers(path: Path) -> Waivers:
    """The waivers in the file ``path``. Raises :class:`~rupex.model.RupexError`, with the key path of the mistake."""
    return parse_waivers(str(path), read_bounded(path, "waivers", MAXIMUM_BYTES))


def parse_waivers(label: str, content: bytes) -> Waivers:
    """The waivers in ``content``, which ``label`` names in errors. Raises :class:`~rupex.model.RupexError`."""
    rows = tables_of(label, parse_toml(label, content), "waivers")
    if len(rows) > _MOST:
        raise RupexError(f"{label}: waivers: {len(rows)} of them; more than {_MOST} are not taken")
    found = tuple(_row(label, index, row) for index, row in enumerate(rows))
    return Waivers(label, found, f"sha256:{sha256(content).hexdigest()}")


def _row(label: str, at: int, row: Any) -> Waiver:
    path = f"waivers[{at}]"
    given: _Document = converted(label, path, row, _Document)
    for key in ("control", "host", "place", "reason", "owner"):
        if not getattr(given, key).strip():
            raise RupexError(f"{label}: {path}.{key}: it is empty; somebody has to say")
    if not any(fnmatchcase(name, given.control) for name in all_controls()):
        raise RupexError(f"{label}: {path}.control: {given.control!r} is no control; see: rupex control list")
    return Waiver(at + 1, given.control, given.host, given.place, given.reason, given.owner, given.until)
