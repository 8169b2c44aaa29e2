"""Host trees: folders laid out like a host's file system.

Paths inside a tree are relative to its root, with ``/`` and without a leading one: ``etc/ssl/site.pem``.
Links are followed inside the tree only: an absolute target starts at the tree's root, and ``..`` stops there, so a
copy of somebody's host never leads to the auditor's own files.
"""

from __future__ import annotations

import fnmatch
import re
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path
from typing import Final, Literal

from msgspec import Struct

from rupex.host.rights.access import READ, WRITE, AccessList, audience
from rupex.host.rights.accounts import Accounts
from rupex.host.tree.mtree import ManifestEntry
from rupex.host.tree.paths import normalize_path
from rupex.host.tree.snapshot_tables import UNREAD, rows_of
from rupex.model import Audience, FileFacts, FolderFacts, Key, Problem, Provenance, Setting, bounds, unknown
from rupex.model.facts import FileKind

MANIFEST_NAME: Final = "manifest.mtree"

_BACKUP_SUFFIXES: Final = (".bak", ".old", ".orig", ".save", ".backup", ".copy", ".1", "~", ".swp", ".tmp", ".txt")
"""What editors, tools and people put behind the name of a file that they copy."""

_GROUP_BITS: Final = 0o070
_MAGIC = re.compile(r"[*?\[]")


class TreeError(Exception):
    """A file of the tree cannot be read. ``kind`` and ``path`` are those of the problem it becomes."""

    def __init__(self, kind: Literal["missing", "unreadable", "bound", "loop"], path: str, message: str) -> None:
        super().__init__(kind, path, message)
        self.kind, self.path, self.message = kind, path, message

    def __str__(self) -> str:
        return f"{self.path}: {self.message}"


class Entry(Struct, frozen=True, gc=False):
    """Kind and permissions of one file or folder as the tree's source has them."""

    is_folder: bool
    is_file: bool
    mode: int
    owner: Setting[str]
    group: Setting[str]
    size: int
    modified: float | None


class HostTree(ABC):
    """One host's files. A source (folder, archive) supplies the four abstract methods; the rest follows from them."""

    @abstractmethod
    def link_target(self, path: str) -> str | None:
        """Where the link at ``path`` points, or None when it is no link or not there. No link on the way."""

    @abstractmethod
    def entry(self, path: str) -> Entry | None:
        """What is at the real path ``path``, or None. Raises :class:`TreeError` where that may not be asked."""

    @abstractmethod
    def names_in(self, path: str) -> list[str]:
        """The names in the folder at the real path ``path``, sorted; empty when it is none."""

    @abstractmethod
    def read_real(self, path: str, limit: int) -> bytes:
        """The bytes of the regular file at the real path ``path``. Raises :class:`TreeError`."""

    def access_list(self, path: str) -> AccessList | None:
        """The access list of what is at the real path ``path``, or None when it has none. Asked only where the group bits of
        its mode, which are the list's mask, let anybody in."""
        return None

    root: Path
    """Where the tree came from: a folder, or an archive."""

    @property
    def problems(self) -> tuple[Problem, ...]:
        """What kept the tree from being read whole."""
        return ()

    def __init__(self, manifest: dict[str, ManifestEntry] | None = None) -> None:
        self._manifest = manifest or {}
        self._real_folders: dict[str, str] = {"": ""}
        self._real_files: dict[str, str] = {}

    def _as_listed(self, path: str, entry: Entry) -> Entry:
        """``entry`` with what the manifest says of it, which a copy may have lost."""
        listed = self._manifest.get(path)
        if listed is None:
            return entry
        return Entry(
            entry.is_folder,
            entry.is_file,
            entry.mode if listed.mode is None else listed.mode,
            _listed(listed.owner, listed.uid, self.accounts.user_name) or entry.owner,
            _listed(listed.group, listed.gid, self.accounts.group_name) or entry.group,
            entry.size,
            entry.modified if listed.modified is None else listed.modified,
        )

    def real(self, path: str) -> str:
        """``path`` with every link resolved inside the tree; what is not there stays as it is.

        Raises :class:`TreeError` for more than :data:`~rupex.model.bounds.LINKS` links.
        """
        found = self._real_files.get(path)
        if found is None:
            folder, _, name = path.rpartition("/")
            found = self._resolved(self._real_folder(folder), name, path)
            if len(self._real_files) < bounds.INCLUDED_FILES:
                self._real_files[path] = found
        return found

    def named(self, path: str) -> str:
        """``path`` in the tree's own form, as the kernel takes it: ``..`` goes up from where a link before it leads, and not by
        the text. What has none, or cannot be followed, is :func:`~rupex.host.tree.paths.normalize_path` of it."""
        before, mark, after = f"/{path}".rpartition("/..")
        if not mark or (after and not after.startswith("/")):
            return normalize_path(path)
        try:
            return normalize_path(f"{self.real(f'{before}/..')}/{after}")
        except TreeError:
            return normalize_path(path)

    def _real_folder(self, path: str) -> str:
        """:meth:`real` for a folder that is asked for often."""
        found = self._real_folders.get(path)
        if found is None:
            found = self._resolved("", path, path)
            if len(self._real_folders) < bounds.INCLUDED_FILES:
                self._real_folders[path] = found
        return found

    def _resolved(self, here: str, rest: str, path: str) -> str:
        """``rest`` from the real folder ``here`` on, name by name as the kernel does it (path_resolution(7)): ``..`` behind a
        link goes up from where the link leads, and stops at the root. ``path`` is what was asked for."""
        if len(path) > bounds.PATH_CHARACTERS:
            raise TreeError("missing", path[:80] + "…", "the path is longer than any file system allows")
        waiting, links = rest.split("/")[::-1], 0
        while waiting:
            name = waiting.pop()
            if name in ("", "."):
                continue
            if name == "..":
                here = here.rpartition("/")[0]
                continue
            step = f"{here}/{name}" if here else name
            target = self.link_target(step)
            if target is None:
                here = step
                continue
            links += 1
            if links > bounds.LINKS:
                raise TreeError("loop", path, "too many symbolic links on the way")
            if target.startswith("/"):
                here = ""
            waiting += target.split("/")[::-1]
        return here

    def read(self, path: str, limit: int = bounds.CONFIG_FILE_BYTES) -> bytes:
        """The bytes of the file at ``path``. Raises :class:`TreeError`: missing, no file, unreadable, over ``limit``, or left
        out of a snapshot."""
        real = self.real(path)
        left_out = self._left_out.get(real)
        if left_out is not None:
            raise TreeError("unreadable", path, left_out)
        return self.read_real(real, limit)

    def is_listed(self, folder: str) -> bool:
        """Whether the tree has all the names in a folder; a snapshot may leave out those of a large document root."""
        return folder not in self._left_out

    @cached_property
    def _left_out(self) -> dict[str, str]:
        """What a snapshot has the name of and not the content, and why."""
        try:
            text = self.read_real(UNREAD, bounds.CONFIG_FILE_BYTES).decode("utf-8", "surrogateescape")
        except TreeError:
            return {}
        return dict(rows_of(text))

    def is_file(self, path: str) -> bool:
        return self._is(path, folder=False)

    def is_folder(self, path: str) -> bool:
        return self._is(path, folder=True)

    def _is(self, path: str, *, folder: bool) -> bool:
        try:
            entry = self.entry(self.real(path))
        except TreeError:
            return False
        return entry is not None and (entry.is_folder if folder else entry.is_file)

    def modified(self, path: str) -> datetime | None:
        """When the file at ``path`` was last written; None where it is not there, or the tree did not keep times."""
        try:
            entry = self.entry(self.real(path))
        except TreeError:
            return None
        return None if entry is None or entry.modified is None else datetime.fromtimestamp(entry.modified, UTC)

    def glob(self, pattern: str) -> list[str]:
        """The paths that a shell pattern (glob(3)) matches, sorted by bytes. A leading dot is matched only by a dot.

        Raises :class:`TreeError` when a folder in it may not be listed or has too many entries.
        """
        found = [""]
        for part in normalize_path(pattern).split("/"):
            if not _MAGIC.search(part):
                found = [f"{path}/{part}" if path else part for path in found]
                continue
            matches = re.compile(fnmatch.translate(part)).match
            step: list[str] = []
            for path in found:
                names = self.names_in(self._real_folder(path))
                if len(names) > bounds.FOLDER_ENTRIES:
                    raise TreeError("bound", path, f"more than {bounds.FOLDER_ENTRIES} entries in one folder")
                step += [
                    f"{path}/{name}" if path else name
                    for name in names
                    if matches(name) and (part.startswith(".") or not name.startswith("."))
                ]
            found = step
        is_listed = _MAGIC.search(pattern.rpartition("/")[2]) is not None  # and so is there, but for a link to nowhere
        return [
            path for path in found if ((real := self.real(path)) == path and is_listed) or self.entry(real) is not None
        ]

    @cached_property
    def accounts(self) -> Accounts:
        """The host's own accounts, from ``etc/passwd`` and ``etc/group`` of the tree."""
        return Accounts(self._text("etc/passwd"), self._text("etc/group"))

    def _text(self, path: str) -> str:
        try:
            return self.read(path).decode("utf-8", "replace")
        except TreeError:
            return ""

    def file_facts(
        self,
        path: str,
        kind: FileKind,
        named_by: tuple[Provenance, ...] = (),
        services: tuple[str, ...] = (),
        key: Key | None = None,
    ) -> FileFacts:
        """Permissions and owner of the file at ``path``, and who that lets in, links followed."""
        try:
            real = self.real(path)
            entry = self.entry(real)
            folders = self._folders_to(real)
        except TreeError as error:
            entry, why = None, error.message
        else:
            why = "it is not in the tree"
        if entry is None:
            return FileFacts(
                path=path, kind=kind, mode=unknown(why), owner=unknown(why), group=unknown(why),
                readers=unknown(why), writers=unknown(why), named_by=named_by, services=services,
            )  # fmt: skip
        lists = self._lists(real, entry.mode, folders)
        # Thousands of files of one folder have the same owner, group and mode.
        same = (real.rpartition("/")[0], entry.mode, entry.owner.value, entry.group.value, lists)
        if same not in self._audiences:
            readers, writers = (
                Setting(audience(entry.mode, entry.owner, entry.group, folders, wish, self.accounts, lists))
                for wish in (READ, WRITE)
            )
            self._audiences[same] = readers, writers
        readers, writers = self._audiences[same]
        return FileFacts(
            path=path, kind=kind, mode=Setting(entry.mode), owner=entry.owner, group=entry.group,
            readers=readers, writers=writers, named_by=named_by, services=services,
            folders=folders if kind == "key" else (), backups=self._backups(real) if kind == "key" else (), key=key,
        )  # fmt: skip

    def _backups(self, real: str) -> tuple[str, ...]:
        """Files beside the key at ``real`` that are called like copies of it and hold a private key; links are none."""
        folder, _, name = real.rpartition("/")
        names = self._names_of(folder)
        found = []
        for suffix in _BACKUP_SUFFIXES:
            other = f"{folder}/{name}{suffix}" if folder else name + suffix
            if name + suffix in names and self.link_target(other) is None and self._holds_key(other):
                found.append(other)
        return tuple(found)

    def _names_of(self, folder: str) -> frozenset[str]:
        """The names in a folder that is asked about often; none where it may not be listed."""
        names = self._names.get(folder)
        if names is None:
            try:
                names = self._names[folder] = frozenset(self.names_in(folder))
            except TreeError:
                names = self._names[folder] = frozenset()
        return names

    def folders_among(self, paths: Iterable[str]) -> Iterator[str]:
        """Those of ``paths`` that are folders. Many that are not there cost little: each folder above is listed once."""
        for path in paths:
            above, _, name = path.rpartition("/")
            try:
                is_there = name in self._names_of(self._real_folder(above))
            except TreeError:
                continue
            if is_there and self.is_folder(path):
                yield path

    def _holds_key(self, real: str) -> bool:
        try:
            content = self.read_real(real, bounds.CREDENTIAL_FILE_BYTES)
        except TreeError:
            return False
        return b"PRIVATE KEY-----" in content or b"-----BEGIN RUPEX KEY DESCRIPTION-----" in content

    @cached_property
    def _names(self) -> dict[str, frozenset[str]]:
        return {}

    def _folders_to(self, real: str) -> tuple[FolderFacts, ...]:
        folder = real.rpartition("/")[0]
        cached = self._folder_facts.get(folder)
        if cached is None:
            entry = self.entry(folder)
            above = self._folders_to(folder) if folder else ()
            here: tuple[FolderFacts, ...] = ()
            if entry is not None:
                lists = self._lists(folder, entry.mode, above)
                writers = audience(entry.mode, entry.owner, entry.group, above, WRITE, self.accounts, lists)
                here = (FolderFacts(folder, entry.mode, entry.owner, entry.group, Setting(writers)),)
            cached = self._folder_facts[folder] = above + here
        return cached

    def _lists(self, real: str, mode: int, folders: tuple[FolderFacts, ...]) -> tuple[AccessList | None, ...]:
        """The access lists of a file and the folders on the way to it; empty when there is none among them."""
        above = tuple(self._list_of(folder.path) if folder.mode & _GROUP_BITS else None for folder in folders)
        own = self.access_list(real) if mode & _GROUP_BITS else None
        return (own, *above) if own is not None or any(above) else ()

    def _list_of(self, folder: str) -> AccessList | None:
        if folder not in self._folder_lists:
            self._folder_lists[folder] = self.access_list(folder)
        return self._folder_lists[folder]

    @cached_property
    def _audiences(self) -> dict[tuple[object, ...], tuple[Setting[Audience], Setting[Audience]]]:
        """Who may read and write a file, by its folder, mode, owner, group and access lists."""
        return {}

    @cached_property
    def _folder_lists(self) -> dict[str, AccessList | None]:
        return {}

    @cached_property
    def _folder_facts(self) -> dict[str, tuple[FolderFacts, ...]]:
        return {}


def _listed(name: str | None, number: int | None, lookup: object) -> Setting[str] | None:
    if name is not None:
        return Setting(name)
    if number is not None and callable(lookup):
        return Setting(str(lookup(number)))
    return None
