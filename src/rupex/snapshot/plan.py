"""What a snapshot of a host takes: the table ``evidence.tsv``, and what the configurations themselves name."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterator, Mapping
from importlib import resources
from typing import Final, Literal

import msgspec
from msgspec import Struct

from rupex.gather import Scene, open_scene
from rupex.host import HostTree, TreeError
from rupex.host.search import search
from rupex.host.tree import inside
from rupex.model import bounds

Kind = Literal[
    "configuration", "crypto", "credential", "renewal", "account", "firewall", "socket", "system", "package", "deployment",
    "override", "names",
]  # fmt: skip
"""What an item is for. ``names``: files under a document root, of which only the name is taken."""

MOST_ITEMS: Final = 60_000
DEPTH: Final = 6
"""Folders below the start of a pattern that ``**`` goes into."""
MOST_NAMES: Final = 5_000
"""Names under one document root; of a larger one nothing is taken, so that nobody takes what is missing for absent."""
_FOLDER_NAMES: Final = 2_000


class Row(Struct, frozen=True, array_like=True):
    """One line of the table."""

    kind: Kind
    pattern: str
    purpose: str


class Item(Struct, frozen=True):
    """One file or link that is taken. ``path`` as it is reached, links on the way resolved."""

    path: str
    kind: Kind


def evidence_rows() -> tuple[Row, ...]:
    """The table of what is taken on every host."""
    text = resources.files("rupex.snapshot").joinpath("evidence.tsv").read_text("utf-8")
    lines = (line.split("\t") for line in text.splitlines() if line and not line.startswith("#"))
    return tuple(msgspec.convert(line, Row) for line in lines)


class Plan(Struct, frozen=True):
    """Everything that is taken, each path once, sorted. ``unlisted``: document roots of which no names are taken, and why;
    ``closed``: folders that whoever makes the snapshot may not look into; ``passwords``: what the configuration opens its
    key stores with, by path. Those open them here, and do not leave."""

    items: tuple[Item, ...]
    unlisted: tuple[tuple[str, str], ...]
    closed: tuple[tuple[str, str], ...] = ()
    passwords: Mapping[str, str] = {}


def plan(tree: HostTree) -> Plan:
    """What is taken of ``tree``."""
    found: dict[str, Item] = {}
    unlisted: list[tuple[str, str]] = []
    closed: dict[str, str] = {}

    def take(path: str, kind: Kind) -> None:
        for step in _with_links(tree, path):
            if len(found) < MOST_ITEMS:
                found.setdefault(step, Item(step, kind))

    for row in evidence_rows():
        for named in _matching(tree, row.pattern, closed):
            take(named, row.kind)
    for one in search(tree):
        take(one.path, "credential" if one.kind == "key" else "deployment")
    scene = open_scene(tree, "", name="host")
    for path, kind in _named(scene):
        take(path, kind)
    for root in sorted(
        {root for c in scene.configurations for service in c.services for root in service.document_roots}
    ):
        names = _names_below(tree, root)
        if names is None:
            unlisted.append((root, f"more than {MOST_NAMES} names, or folders more than {DEPTH} deep"))
        for name in names or ():
            take(name, "names")
    passwords = {_real(tree, path): word for path, word in scene.around.credentials.passwords.items()}
    return Plan(tuple(found[path] for path in sorted(found)), tuple(unlisted), tuple(closed.items()), passwords)


def _real(tree: HostTree, path: str) -> str:
    try:
        return tree.real(path)
    except TreeError:
        return path


def _named(scene: Scene) -> Iterator[tuple[str, Kind]]:
    """The files that configurations name: their own parts, certificates and keys."""
    for configuration in scene.configurations:
        for path in configuration.files:
            yield path, "configuration"
        for use in configuration.certificate_uses():
            for named in (use.certificate, use.key):
                if named is not None:
                    yield named, "credential"


def _with_links(tree: HostTree, path: str) -> Iterator[str]:
    """``path`` and what it leads to: each link on the way, and the file behind it."""
    for _ in range(bounds.LINKS):
        folder, _, name = path.rpartition("/")
        try:
            here = f"{tree.real(folder)}/{name}" if folder else name
            if tree.entry(here) is None:
                return
            if folder and tree.real(folder) != folder:
                yield from _links_above(tree, folder)
            yield here
            target = tree.link_target(here)
        except TreeError:
            return
        if target is None:
            return
        path = target if target.startswith("/") else f"{here.rpartition('/')[0]}/{target}"
        path = inside(path)


def _links_above(tree: HostTree, folder: str) -> Iterator[str]:
    """The links among the folders on the way to ``folder``."""
    parts = folder.split("/")
    for end in range(1, len(parts) + 1):
        above, _, name = "/".join(parts[:end]).rpartition("/")
        here = f"{tree.real(above)}/{name}" if above else name
        if tree.link_target(here) is not None:
            yield here


def _matching(tree: HostTree, pattern: str, closed: dict[str, str]) -> Iterator[str]:
    """The files and links that a pattern of the table matches; folders that cannot be looked into are told in ``closed``."""
    top, deep, last = pattern.partition("**/")
    try:
        found = tree.glob(top.rstrip("/") if deep else pattern)
    except TreeError as error:
        closed.setdefault(error.path, error.message)
        return
    matches = re.compile(fnmatch.translate(last)).match
    for start in found:
        if not deep:
            if tree.is_file(start):
                yield start
            continue
        for path in _walk(tree, start, DEPTH, closed):
            if path is not None and matches(path.rpartition("/")[2]):
                yield path


def _walk(tree: HostTree, folder: str, depth: int, closed: dict[str, str]) -> Iterator[str | None]:
    """The files and links below a folder, and None where it is not gone further; folders that are links are not gone into."""
    try:
        names = tree.names_in(tree.real(folder))
    except TreeError as error:
        closed.setdefault(error.path, error.message)
        yield None
        return
    if len(names) > _FOLDER_NAMES:
        yield None
    for name in names[:_FOLDER_NAMES]:
        path = f"{folder}/{name}"
        if tree.link_target(path) is not None or not tree.is_folder(path):
            yield path
        elif depth:
            yield from _walk(tree, path, depth - 1, closed)
        else:
            yield None


def _names_below(tree: HostTree, root: str) -> list[str] | None:
    """The names below a document root; None where not all of them are taken."""
    found: list[str] = []
    for path in _walk(tree, root, DEPTH, {}):
        if path is None or len(found) >= MOST_NAMES:
            return None
        found.append(path)
    return found
