"""The inventory of a fleet: TOML for people, CSV for large lists. Reading and checking, no more."""

from __future__ import annotations

import csv
import io
from hashlib import sha256
from pathlib import Path
from typing import Annotated, Any, Final

from msgspec import Meta, Struct

from rupex.baseline.document import converted
from rupex.baseline.toml import parse_toml, tables_of
from rupex.model import RupexError
from rupex.user_files import read_bounded
from rupex.wire.connection.targets import Target, merge_targets, parse_target

MOST_HOSTS: Final = 20_000
MOST_BYTES: Final = 32 << 20
_LIST_COLUMNS: Final = frozenset({"names", "connect", "tags"})
_Weight = Annotated[float, Meta(ge=0, le=1000)]


class _Row(Struct, frozen=True, forbid_unknown_fields=True):
    name: str
    names: tuple[str, ...] = ()
    tree: str | None = None
    connect: tuple[str, ...] = ()
    behind: str = ""
    owner: str = ""
    tags: tuple[str, ...] = ()
    weight: _Weight = 1.0
    baseline: str | None = None
    family: str | None = None
    assume: dict[str, str] = {}
    manifest: str | None = None


class Entry(Struct, frozen=True):
    """One host. ``targets``: names to look at from outside, empty for none; ``tree``: its configuration, a path as the
    inventory has it; ``connect``: addresses with ports to go to instead, one for each port in order; ``behind``: the edge that
    stands in front. ``digest``: of what its row says."""

    name: str
    targets: tuple[Target, ...]
    tree: Path | None
    connect: tuple[Target, ...]
    behind: str
    owner: str
    tags: tuple[str, ...]
    weight: float
    baseline: str | None
    family: str | None
    assume: dict[str, str]
    manifest: Path | None
    digest: str


class Inventory(Struct, frozen=True):
    """The hosts in order; ``digest`` is of the whole document."""

    label: str
    entries: tuple[Entry, ...]
    digest: str


def load_inventory(path: Path) -> Inventory:
    """The inventory in the file ``path``, CSV by its suffix, else TOML; paths in it start at its folder. Raises
    :class:`~rupex.model.RupexError`, with the row or key path of the mistake."""
    content = read_bounded(path, "inventory", MOST_BYTES)
    return parse_inventory(str(path), content, path.parent, is_table=path.suffix.lower() == ".csv")


def parse_inventory(label: str, content: bytes, folder: Path, *, is_table: bool = False) -> Inventory:
    """The inventory in ``content``, which ``label`` names in errors. Raises :class:`~rupex.model.RupexError`."""
    rows = _table(label, content) if is_table else _document(label, content)
    if not rows:
        raise RupexError(f"{label}: no host in it; each is a [[hosts]] table, or a row of a CSV file")
    if len(rows) > MOST_HOSTS:
        raise RupexError(f"{label}: {len(rows)} hosts; more than {MOST_HOSTS} are not taken in one run")
    entries = [_entry(label, where, row, folder) for where, row in rows]
    seen: dict[str, str] = {}
    for (where, _), entry in zip(rows, entries, strict=True):
        if entry.name in seen:
            raise RupexError(f"{label}: {where}.name: {entry.name} is there already, at {seen[entry.name]}")
        seen[entry.name] = where
    return Inventory(label, tuple(entries), sha256(content).hexdigest())


def _document(label: str, content: bytes) -> list[tuple[str, Any]]:
    rows = tables_of(label, parse_toml(label, content), "hosts")
    return [(f"hosts[{index}]", row) for index, row in enumerate(rows)]


def _table(label: str, content: bytes) -> list[tuple[str, Any]]:
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise RupexError(f"{label}: it is not UTF-8") from None
    reader = csv.DictReader(io.StringIO(text))
    columns = [name for name in _Row.__struct_fields__ if name != "assume"]
    for name in reader.fieldnames or ():
        if name not in columns:
            raise RupexError(f"{label}: line 1: unknown column {name!r}; allowed are {', '.join(columns)}")
    rows = []
    try:
        for row in reader:
            where = f"line {reader.line_num}"
            if None in row:
                raise RupexError(f"{label}: {where}: more fields than columns")
            filled = {name: value for name, value in row.items() if value}
            rows.append((where, {name: _field(label, where, name, value) for name, value in filled.items()}))
    except csv.Error as error:
        raise RupexError(f"{label}: line {reader.line_num}: {error}") from None
    return rows


def _field(label: str, where: str, name: str, value: str) -> Any:
    if name in _LIST_COLUMNS:
        return [part.strip() for part in value.split(";") if part.strip()]
    if name == "weight":
        try:
            return float(value)
        except ValueError:
            raise RupexError(f"{label}: {where}.weight: {value!r} is no number") from None
    return value


def _entry(label: str, where: str, row: Any, folder: Path) -> Entry:
    given: _Row = converted(label, where, row, _Row)
    if not given.name.strip():
        raise RupexError(f"{label}: {where}.name: it is empty")
    if not given.names and given.tree is None:
        raise RupexError(f"{label}: {where}: neither names to look at nor a tree; give one of them, or both")
    if not 0 <= given.weight < float("inf"):
        raise RupexError(f"{label}: {where}.weight: a finite number is expected")
    targets = merge_targets(_target(label, f"{where}.names", text) for text in given.names)
    connect = tuple(_target(label, f"{where}.connect", text) for text in given.connect)
    if len({one.name for one in connect}) > 1:
        raise RupexError(f"{label}: {where}.connect: one address is expected, with a port for each port that is asked")
    return Entry(
        given.name, tuple(targets), None if given.tree is None else folder / given.tree, connect, given.behind, given.owner,
        given.tags, given.weight, given.baseline, given.family, given.assume,
        None if given.manifest is None else folder / given.manifest, sha256(repr(given).encode()).hexdigest(),
    )  # fmt: skip


def _target(label: str, where: str, text: str) -> Target:
    try:
        return parse_target(text)
    except RupexError as error:
        raise RupexError(f"{label}: {where}: {error}") from None
