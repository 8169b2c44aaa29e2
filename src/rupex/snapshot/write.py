"""A snapshot as a tar archive: what :mod:`rupex.snapshot.plan` names, cleaned, with owners, groups, modes and times."""

from __future__ import annotations

import io
import tarfile
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from typing import IO, Final, Literal

from msgspec import Struct

from rupex.host import HostTree, TreeError
from rupex.host.tree.host_tree import Entry
from rupex.host.tree.snapshot_tables import OWNERS_LOST, UNREAD, escaped
from rupex.masking.texts import Masker
from rupex.model import RupexError, bounds
from rupex.snapshot.clean import clean_content
from rupex.snapshot.plan import Plan

MODES: Final[Mapping[str, Literal["w:gz", "w:xz", "w"]]] = {
    ".tar.gz": "w:gz", ".tgz": "w:gz", ".tar.xz": "w:xz", ".txz": "w:xz", ".tar": "w",
}  # fmt: skip
LEFT_OUT: Final = "left out when the snapshot was taken: "


class Taken(Struct, frozen=True):
    """One item as it was taken: ``how`` for a person; ``size`` in bytes of what leaves; ``unread``: why its content does not
    leave; ``whole_size``: in bytes, of such a file."""

    path: str
    kind: str
    how: str
    size: int = 0
    unread: str | None = None
    whole_size: int | None = None


def take(tree: HostTree, planned: Plan) -> Iterator[tuple[Taken, bytes]]:
    """Each item with the bytes that leave of it: none of a link, of what is only named, or could not be read."""
    masker = Masker()
    for item in planned.items:
        target = tree.link_target(item.path)
        if target is not None:
            yield Taken(item.path, item.kind, f"link to {target}"), b""
            continue
        entry = _entry(tree, item.path)
        size = None if entry is None else entry.size
        if item.language == "none":
            what = (
                "of site content only names are taken"
                if item.kind == "names"
                else f"{LEFT_OUT}not needed, only its name"
            )
            yield Taken(item.path, item.kind, "only its name", unread=what, whole_size=size), b""
            continue
        limit = bounds.CONFIG_TOTAL_BYTES if item.kind == "package" else bounds.CONFIG_FILE_BYTES
        try:
            content = tree.read_real(item.path, limit)
        except TreeError as error:
            yield Taken(item.path, item.kind, error.message, unread=error.message, whole_size=size), b""
            continue
        password, wanted = planned.passwords.get(item.path), planned.entries.get(item.path)
        cleaned = clean_content(item.language, content, masker, password, wanted)
        kept = cleaned.content
        unread = f"{LEFT_OUT}{cleaned.how}" if kept is None else None
        yield Taken(item.path, item.kind, cleaned.how, len(kept or b""), unread, size), kept or b""


def archive_mode(path: Path) -> Literal["w:gz", "w:xz", "w"]:
    """How an archive called ``path`` is written. Raises :class:`~rupex.model.RupexError` for another name."""
    mode = next((mode for suffix, mode in MODES.items() if path.name.lower().endswith(suffix)), None)
    if mode is None:
        raise RupexError(f"{path}: a snapshot's name ends in {', '.join(MODES)}")
    return mode


def write_archive(
    file: IO[bytes],
    mode: Literal["w:gz", "w:xz", "w"],
    tree: HostTree,
    taken: Iterable[tuple[Taken, bytes]],
    facts: Mapping[str, str],
    now: float,
    *,
    unlisted: Iterable[tuple[str, str]] = (),
    told: Callable[[Taken], None] = lambda _: None,
) -> list[Taken]:
    """Write the archive to ``file``. ``facts``: texts for the folder ``rupex/``, by their path; ``now``: seconds since 1970,
    their time. Raises :class:`OSError`."""
    items: list[Taken] = []
    with tarfile.open(fileobj=file, mode=mode, format=tarfile.PAX_FORMAT) as archive:
        writer = _Writer(archive, tree)
        for one, content in taken:
            writer.add(one.path, content)
            items.append(one)
            told(one)
        rows = [(one.path, one.unread, one.whole_size) for one in items if one.unread is not None]
        rows += [(path, why, None) for path, why in unlisted]
        unread = "".join(
            f"{escaped(path)}\t{escaped(why)}" + ("" if size is None else f"\t{size}") + "\n"
            for path, why, size in rows
        )
        for name, text in sorted({**facts, UNREAD: unread}.items()):
            writer.add_text(name, text, now)
    return items


class _Writer:
    """Adds files with the folders on the way to them, each once."""

    def __init__(self, archive: tarfile.TarFile, tree: HostTree) -> None:
        self.archive, self.tree = archive, tree
        self.folders: set[str] = set()

    def add(self, path: str, content: bytes) -> None:
        self._folders_to(path)
        target = self.tree.link_target(path)
        if target is not None:
            link = tarfile.TarInfo(path)
            link.type, link.linkname = tarfile.SYMTYPE, target
            self.archive.addfile(link)
            return
        entry = _entry(self.tree, path)
        if entry is not None:
            member = _member(path, entry, self.tree)
            member.size = len(content)
            self.archive.addfile(member, io.BytesIO(content))

    def add_text(self, path: str, text: str, now: float) -> None:
        content = text.encode("utf-8", "surrogateescape")
        member = tarfile.TarInfo(path)
        member.size, member.mode, member.mtime = len(content), 0o600, int(now)
        self.archive.addfile(member, io.BytesIO(content))

    def _folders_to(self, path: str) -> None:
        folder = path.rpartition("/")[0]
        if not folder or folder in self.folders:
            return
        self.folders.add(folder)
        self._folders_to(folder)
        entry = _entry(self.tree, folder)
        if entry is not None:
            member = _member(folder, entry, self.tree)
            member.type = tarfile.DIRTYPE
            self.archive.addfile(member)


def _entry(tree: HostTree, path: str) -> Entry | None:
    try:
        return tree.entry(path)
    except TreeError:
        return None


def _member(path: str, entry: Entry, tree: HostTree) -> tarfile.TarInfo:
    member = tarfile.TarInfo(path)
    member.mode = entry.mode
    if entry.owner.value is None or entry.group.value is None:
        member.pax_headers = {OWNERS_LOST: "yes"}
    else:
        member.uid, member.uname = _numbered(entry.owner.value, {n: a.uid for n, a in tree.accounts.by_name.items()})
        member.gid, member.gname = _numbered(entry.group.value, {})
    if entry.modified is not None:
        member.mtime = int(entry.modified)
    listed = tree.access_list(path) if entry.mode & 0o070 else None
    if listed is not None:
        member.pax_headers = {**member.pax_headers, "SCHILY.acl.access": listed.render(entry.mode)}
    return member


def _numbered(name: str, numbers: Mapping[str, int]) -> tuple[int, str]:
    """Number and name of an account; ``uid 1234`` stands for one that the host has no name for."""
    kind, _, number = name.partition(" ")
    if kind in ("uid", "gid") and number.isdecimal():
        return int(number), ""
    return numbers.get(name, 0), name
