"""What a snapshot of a host takes: the tables ``evidence.tsv``, and what an audit of the host reads."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterator, Mapping
from importlib import resources
from typing import Final, Literal

import msgspec
from msgspec import Struct

from rupex.audit.collect import host_of, load_host
from rupex.families import all_facts, tables
from rupex.host import HostTree, TreeError
from rupex.host.facts.search import search
from rupex.host.tree.host_tree import Entry
from rupex.host.tree.paths import inside
from rupex.masking.languages import language_of
from rupex.model import bounds

Kind = Literal[
    "configuration", "crypto", "credential", "renewal", "account", "firewall", "socket", "system", "package", "deployment",
    "override", "names",
]  # fmt: skip
"""What an item is for. ``names``: files under a document root, of which only the name is taken."""

MOST_ITEMS: Final = 60_000
DEPTH: Final = 6
"""Folders below the start of a pattern that ``**`` goes into."""
DEEPEST_NAMES: Final = 64
"""Folders below a document root that are gone into."""
MOST_NAMES: Final = 20_000
"""Names under one document root; of a larger one nothing is taken, so that nobody takes what is missing for absent."""


class Row(Struct, frozen=True, array_like=True):
    """One line of a table."""

    kind: Kind
    language: str
    pattern: str
    purpose: str


class Item(Struct, frozen=True):
    """One file or link that is taken. ``path`` as it is reached, links on the way resolved; ``language``: what its text is
    written in, which says what of it leaves."""

    path: str
    kind: Kind
    language: str


def evidence_rows() -> tuple[Row, ...]:
    """The tables of what is taken on every host: what all have in common, then those of the families."""
    texts = (resources.files("rupex.snapshot").joinpath("evidence.tsv").read_text("utf-8"), *tables("evidence.tsv"))
    lines = (line.split("\t") for text in texts for line in text.splitlines() if line and not line.startswith("#"))
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

    def take(path: str, kind: Kind, language: str) -> None:
        for step in _with_links(tree, path, own_folder=kind in ("override", "deployment")):
            if len(found) < MOST_ITEMS:
                found.setdefault(step, Item(step, kind, language))

    for row in evidence_rows():
        for named in _matching(tree, row.pattern, closed):
            take(named, row.kind, row.language)
    for one in search(tree):
        is_deployment = one.kind == "deployment"
        language = language_of(one.path, otherwise="environment") if is_deployment else "credential"
        take(one.path, "credential" if one.kind == "key" else "deployment", language)
    recorder = _Recorder(tree)
    scene = load_host(recorder, "", name="host")
    host_of(scene)
    for configuration in scene.configurations:
        for part in configuration.files:
            take(part, "configuration", language_of(part, configuration.family, otherwise="none"))
        for used in configuration.file_uses:
            is_override = used.kind == "override"
            take(
                used.path,
                "override" if is_override else "credential",
                configuration.family if is_override else "credential",
            )
        for use in configuration.certificate_uses():
            for credential in (use.certificate, use.key):
                if credential is not None:
                    take(credential, "credential", "credential")
    for read in recorder.read_paths:
        take(read, "configuration", language_of(read, otherwise="unknown"))
    roots = {root for c in scene.configurations for service in c.services for root in service.document_roots}
    overrides = {facts.override_file: facts.name for facts in all_facts() if facts.override_file}
    for root in sorted(roots):
        names = _names_below(tree, root)
        if names is None:
            unlisted.append((root, f"more than {MOST_NAMES} names, or folders more than {DEEPEST_NAMES} deep"))
        for name in names or ():
            family = overrides.get(name.rpartition("/")[2])
            take(name, "names" if family is None else "override", family or "none")
    passwords = {_real(tree, path): word for path, word in scene.around.credentials.passwords.items()}
    return Plan(tuple(found[path] for path in sorted(found)), tuple(unlisted), tuple(closed.items()), passwords)


class _Recorder(HostTree):
    """A tree that notes which files are read."""

    def __init__(self, tree: HostTree) -> None:
        super().__init__()
        self.tree, self.root = tree, tree.root
        self.read_paths: dict[str, None] = {}

    def link_target(self, path: str) -> str | None:
        return self.tree.link_target(path)

    def entry(self, path: str) -> Entry | None:
        return self.tree.entry(path)

    def names_in(self, path: str) -> list[str]:
        return self.tree.names_in(path)

    def read_real(self, path: str, limit: int) -> bytes:
        content = self.tree.read_real(path, limit)
        self.read_paths.setdefault(path)
        return content


def _real(tree: HostTree, path: str) -> str:
    try:
        return tree.real(path)
    except TreeError:
        return path


def _with_links(tree: HostTree, path: str, *, own_folder: bool) -> Iterator[str]:
    """``path`` and what it leads to: each link on the way, and the file behind it. ``own_folder``: a link that leaves its
    folder, or leads to what belongs to another account, is taken and not followed: whoever may write that folder is not the
    one who takes the snapshot, and chose what it leads to."""
    left, before = inside(path).split("/"), ""
    links = 0
    try:
        while left:
            here = f"{before}/{left[0]}" if before else left[0]
            target = tree.link_target(here)
            if target is None:
                before = here
                del left[0]
                continue
            yield here
            links += 1
            if links > bounds.LINKS or (own_folder and len(left) == 1 and not _stays(tree, here)):
                return
            start = target if target.startswith("/") else f"{before}/{target}"
            left, before = [part for part in inside(start).split("/") if part] + left[1:], ""
        if tree.entry(before) is not None:
            yield before
    except TreeError:
        return


def _stays(tree: HostTree, link: str) -> bool:
    """Whether the link leads to a file in its own folder, or below, that belongs to the account that the link belongs to."""
    target = tree.real(link)
    here, there = tree.entry(link), tree.entry(target)
    folder = link.rpartition("/")[0]
    return here is not None and there is not None and target.startswith(f"{folder}/") and here.owner == there.owner


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
    if len(names) > MOST_NAMES:
        closed.setdefault(folder, f"only {MOST_NAMES} of its {len(names)} names were read")
        yield None
    for name in names[:MOST_NAMES]:
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
    for path in _walk(tree, root, DEEPEST_NAMES, {}):
        if path is None or len(found) >= MOST_NAMES:
            return None
        found.append(path)
    return found
