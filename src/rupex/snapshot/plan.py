"""What a snapshot of a host takes: the tables ``evidence.tsv``, and what an audit of the host reads."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Final, Literal

import msgspec
from msgspec import Struct

from rupex.audit.collect import host_of, load_host
from rupex.families import all_facts, tables
from rupex.host import HostTree, TreeError
from rupex.host.facts.search import search
from rupex.host.tree.host_tree import Entry
from rupex.host.tree.paths import normalize_path
from rupex.masking.languages import language_of
from rupex.model import bounds
from rupex.package_files import folder_of
from rupex.servers.contract import Configured

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
    texts = (folder_of("rupex.snapshot").joinpath("evidence.tsv").read_text("utf-8"), *tables("evidence.tsv"))
    lines = (line.split("\t") for text in texts for line in text.splitlines() if line and not line.startswith("#"))
    return tuple(msgspec.convert(line, Row) for line in lines)


class Plan(Struct, frozen=True):
    """Everything that is taken, each path once, sorted. ``unlisted``: document roots of which no names are taken, and why;
    ``closed``: folders that whoever makes the snapshot may not look into; ``passwords``: what the configuration opens its
    key stores with, by path, and ``entries``: which entry it takes of them, where it says so. Those open them here, and do not
    leave."""

    items: tuple[Item, ...]
    unlisted: tuple[tuple[str, str], ...]
    closed: tuple[tuple[str, str], ...] = ()
    passwords: Mapping[str, str] = {}
    entries: Mapping[str, str] = {}


def plan(tree: HostTree) -> Plan:
    """What is taken of ``tree``."""
    taken = _Taken(tree)
    recorder = _Recorder(tree)
    loaded = load_host(recorder, "", name="host")
    host_of(loaded)
    taken.add_evidence()
    for configuration in loaded.configurations:
        taken.add_configuration(configuration)
    for path in recorder.read_paths:
        taken.add(path, "configuration", language_of(path, otherwise="unknown"))
    taken.add_names({root for c in loaded.configurations for service in c.services for root in service.document_roots})
    credentials = loaded.host_context.credentials
    passwords = {_real(tree, path): word for path, word in credentials.passwords.items()}
    entries = {_real(tree, path): entry for path, entry in credentials.entries.items() if entry}
    items = tuple(taken.items[path] for path in sorted(taken.items))
    return Plan(items, tuple(taken.unlisted), tuple(taken.closed.items()), passwords, entries)


class _Taken:
    """What is taken of a tree so far.

    ``items``: by path; the first reason to take one counts.
    ``unlisted``: folders whose names are not all taken, each with the reason.
    ``closed``: folders that could not be looked into, each with the reason.
    """

    def __init__(self, tree: HostTree) -> None:
        self.tree = tree
        self.items: dict[str, Item] = {}
        self.unlisted: list[tuple[str, str]] = []
        self.closed: dict[str, str] = {}

    def add(self, path: str, kind: Kind, language: str) -> None:
        """Take ``path``, with the links that lead to it."""
        for step in _with_links(self.tree, path, own_folder=kind in ("override", "deployment")):
            if len(self.items) < MOST_ITEMS:
                self.items.setdefault(step, Item(step, kind, language))

    def add_evidence(self) -> None:
        """What the table of evidence names, and files with secrets outside of configurations."""
        for row in evidence_rows():
            for path in _matching(self.tree, row.pattern, self.closed):
                self.add(path, row.kind, row.language)
        for file in search(self.tree):
            if file.kind == "deployment":
                self.add(file.path, "deployment", language_of(file.path, otherwise="environment"))
            else:
                self.add(file.path, "credential" if file.kind == "key" else "deployment", "credential")

    def add_configuration(self, configuration: Configured) -> None:
        """The files that a configuration reads or names."""
        for path in configuration.files:
            self.add(path, "configuration", language_of(path, configuration.family, otherwise="none"))
        for use in configuration.file_uses:
            if use.kind == "override":
                self.add(use.path, "override", configuration.family)
            else:
                self.add(use.path, "credential", "credential")
        for certificate_use in configuration.certificate_uses():
            for named in (certificate_use.certificate, certificate_use.key):
                if named is not None:
                    self.add(named, "credential", "credential")

    def add_names(self, roots: Iterable[str]) -> None:
        """The names below document roots, and the override files among them."""
        families = {facts.override_file: facts.name for facts in all_facts() if facts.override_file}
        for root in sorted(roots):
            names = _names_below(self.tree, root)
            if names is None:
                reason = f"more than {MOST_NAMES} names, or folders more than {DEEPEST_NAMES} deep"
                self.unlisted.append((root, reason))
            for name in names or ():
                family = families.get(name.rpartition("/")[2])
                self.add(name, "names" if family is None else "override", family or "none")


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
    left, before = normalize_path(path).split("/"), ""
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
            left, before = [part for part in normalize_path(start).split("/") if part] + left[1:], ""
        if tree.entry(before) is not None:
            yield before
    except TreeError:
        return


def _stays(tree: HostTree, link: str) -> bool:
    """Whether the link leads to a file in its own folder, or below, that belongs to the account that the link belongs to."""
    target = tree.real(link)
    link_entry, target_entry = tree.entry(link), tree.entry(target)
    folder = link.rpartition("/")[0]
    return (
        link_entry is not None
        and target_entry is not None
        and target.startswith(f"{folder}/")
        and link_entry.owner == target_entry.owner
    )


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
