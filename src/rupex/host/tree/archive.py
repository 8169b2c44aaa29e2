"""A host tree in a tar archive, plain or compressed (gz, xz, bz2, zst): read once, kept in memory, never unpacked to disk."""

from __future__ import annotations

import stat
import tarfile
import zlib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from functools import cached_property
from lzma import LZMAError
from pathlib import Path
from typing import IO, Final, Self, cast

from msgspec import Struct

from rupex.host.rights.access import AccessList, parse_access_list
from rupex.host.tree.host_tree import MANIFEST_NAME, Entry, HostTree, TreeError
from rupex.host.tree.mtree import ManifestEntry, parse_mtree
from rupex.host.tree.paths import is_possible, normalize_path
from rupex.host.tree.snapshot_tables import ACCESS_LISTS, OWNERS_LOST, UNREAD, rows_of
from rupex.model import Problem, ProblemKind, RupexError, Setting, bounds, unknown

_BROKEN: Final = (tarfile.TarError, EOFError, OSError, zlib.error, LZMAError, ValueError, OverflowError, RecursionError)
_CHUNK: Final = 1 << 20
_READS_BEYOND: Final = 100
_EXTENDED: Final = frozenset(
    (tarfile.XHDTYPE, tarfile.XGLTYPE, tarfile.SOLARIS_XHDTYPE, tarfile.GNUTYPE_LONGNAME, tarfile.GNUTYPE_LONGLINK)
)
_ACCESS_LIST: Final = "SCHILY.acl.access"  # star(4), GNU tar, libarchive


class _Header(tarfile.TarInfo):
    """A header as it is read. The library reads an extended one whole, and takes one that is broken for the archive's end."""

    @classmethod
    def frombuf(cls, buf: bytes | bytearray, encoding: str, errors: str) -> Self:
        try:
            header = super().frombuf(buf, encoding, errors)
        except tarfile.EOFHeaderError:  # type: ignore[attr-defined]  # the mark at the end
            raise
        except tarfile.HeaderError as error:  # the library ends in silence here, also where the file just stops
            raise _BrokenHeaderError(str(error)) from None
        if header.type in _EXTENDED and header.size > bounds.ARCHIVE_HEADER_BYTES:
            raise _BrokenHeaderError(f"an extended header of {header.size} bytes")
        return header


class _BrokenHeaderError(Exception):
    """A header that cannot be read, behind which nothing can be found."""


class Member(Struct, frozen=True, gc=False):
    """What is kept of one member: its name as written, its kind as the library tells it, owners and times, where it leads, and
    what extended headers say of its owners and access list. ``target``: of a link, else empty."""

    name: str
    kind: bytes
    mode: int
    uid: int
    gid: int
    user: str
    group: str
    size: int
    written: float
    target: str
    has_lost_owners: bool
    access_list: str | None

    @property
    def is_file(self) -> bool:
        return self.kind in tarfile.REGULAR_TYPES

    @property
    def is_folder(self) -> bool:
        return self.kind == tarfile.DIRTYPE


class ArchiveTree(HostTree):
    """The tree in the archive at ``path``, with the owners and modes that it kept. Members that climb out of it, devices,
    and what lies beyond the bounds are left out, each with a problem. Raises :class:`~rupex.model.RupexError` for a file
    that is no archive. ``manifest``: owners and modes that it did not keep; one called ``manifest.mtree`` at its root is
    found by itself."""

    def __init__(self, path: Path, manifest: dict[str, ManifestEntry] | None = None) -> None:
        super().__init__(manifest)
        self.root = path
        self._problems: list[Problem] = []
        self._entries: dict[str, Member] = {}
        self._contents: dict[str, bytes] = {}
        self._listed: dict[str, set[str]] = {"": set()}
        self._kept = self._named = 0
        self._read(path)
        self._strip_single_folder()
        self._note_all(self._entries)
        self._made: dict[str, Entry] = {}
        listed = self._contents.get(MANIFEST_NAME)
        if manifest is None and listed is not None:
            self._manifest = parse_mtree(listed.decode("utf-8", "surrogateescape"))
        self._only_listed: dict[str, ManifestEntry] = {}
        if UNREAD in self._contents:
            self._take_listed()

    @property
    def problems(self) -> tuple[Problem, ...]:
        return tuple(self._problems)

    # Reading

    def _read(self, path: Path) -> None:
        members = 0
        try:
            with _opened(path) as stream, tarfile.open(fileobj=stream, mode="r|", tarinfo=_Header) as archive:
                for member in archive:
                    archive.members = []  # type: ignore[attr-defined]  # the library keeps them all
                    members += 1
                    if members > bounds.ARCHIVE_MEMBERS:
                        self._problem("bound", path.name, f"more than {bounds.ARCHIVE_MEMBERS} members are not read")
                        break
                    self._take(archive, member)
        except _TooLargeError:
            self._problem("bound", path.name, f"more than {bounds.ARCHIVE_BYTES} bytes, unpacked, are not read")
        except (_BrokenHeaderError, *_BROKEN) as error:
            if not members:
                raise RupexError(f"{path}: not a tar archive that can be read ({_short(error)})") from None
            self._problem("syntax", path.name, f"the archive is broken behind {members} members ({_short(error)})")

    def _take(self, archive: tarfile.TarFile, member: tarfile.TarInfo) -> None:
        name = member.name
        if name.startswith("/") or ".." in name.split("/"):
            self._problem("syntax", name, "a member that climbs out of the tree was left out")
            return
        clean = normalize_path(name)
        if member.isdev():
            self._problem("syntax", clean, "a device was left out")
            return
        if not is_possible(clean):
            self._problem("bound", clean[:80] + "…", "the path is longer than any file system allows")
            return
        self._entries[clean] = Member(
            name, member.type, stat.S_IMODE(member.mode), member.uid, member.gid, member.uname, member.gname, member.size,
            float(member.mtime), member.linkname if member.issym() or member.islnk() else "",
            OWNERS_LOST in member.pax_headers, member.pax_headers.get(_ACCESS_LIST),
        )  # fmt: skip
        self._contents.pop(clean, None)
        if not member.isreg() or member.size > bounds.CONFIG_FILE_BYTES:
            return
        self._kept += member.size
        if self._kept > bounds.ARCHIVE_KEPT_BYTES:
            raise _TooLargeError
        content = archive.extractfile(member)
        if content is not None:
            self._contents[clean] = content.read(bounds.CONFIG_FILE_BYTES + 1)

    def _problem(self, kind: ProblemKind, name: str, message: str) -> None:
        if len(self._problems) < bounds.PROBLEMS:
            hides = kind == "bound" or "broken" in message
            self._problems.append(Problem(kind, name, None, message, hides))

    def _strip_single_folder(self) -> None:
        """An archive of a folder in which the tree lies: that folder is the root."""
        tops = {name.partition("/")[0] for name in self._entries if name}
        if "etc" in tops or len(tops) != 1:
            return
        top = next(iter(tops)) + "/"
        if any(name.startswith(f"{top}etc/") for name in self._entries):
            self._entries = {name.removeprefix(top): m for name, m in self._entries.items() if name.startswith(top)}
            self._contents = {name.removeprefix(top): c for name, c in self._contents.items() if name.startswith(top)}

    def _note_all(self, names: Iterable[str]) -> None:
        """Enter paths, and the folders on the way, which an archive may leave out."""
        for name in names:
            self._note(name)
            if self._named > bounds.ARCHIVE_NAMES:
                self._problem(
                    "bound", self.root.name, f"more than {bounds.ARCHIVE_NAMES} characters of folder paths are not read"
                )
                break

    def _note(self, name: str) -> None:
        while name:
            folder, _, last = name.rpartition("/")
            listed = self._listed.get(folder)
            if listed is None:
                listed = self._listed[folder] = set()
                self._named += len(folder)
            if last in listed:
                return
            listed.add(last)
            name = folder

    def _take_listed(self) -> None:
        """What a snapshot has in its manifest only: links, and files of which nothing but the name left."""
        for path, row in self._manifest.items():
            if path and path not in self._entries and row.kind in ("file", "link") and ".." not in path.split("/"):
                self._only_listed[path] = row
        self._note_all(self._only_listed)

    # The tree

    def link_target(self, path: str) -> str | None:
        member = self._entries.get(path)
        if member is None:
            row = self._only_listed.get(path)
            return None if row is None else row.link
        return member.target if member.kind == tarfile.SYMTYPE else None

    def entry(self, path: str) -> Entry | None:
        found = self._made.get(path)
        if found is None:
            member = self._member(path)
            row = self._only_listed.get(path)
            if row is not None:
                found = Entry(False, row.kind == "file", 0o644, Setting("root"), Setting("root"), row.size or 0, None)
            elif member is None:
                if path not in self._listed:
                    return None
                found = Entry(True, False, 0o755, Setting("root"), Setting("root"), 0, None)
            else:
                owners = self._owners(member)
                found = Entry(member.is_folder, member.is_file, member.mode, *owners, member.size, member.written)
            found = self._made[path] = self._as_listed(path, found)
        return found

    def _owners(self, member: Member) -> tuple[Setting[str], Setting[str]]:
        if member.has_lost_owners:
            lost: Setting[str] = unknown("the copy that the snapshot was made of did not keep owners")
            return lost, lost
        accounts = self.accounts
        return (
            Setting(_owner(member.user, member.uid, accounts.user_name(member.uid))),
            Setting(_owner(member.group, member.gid, accounts.group_name(member.gid))),
        )

    def access_list(self, path: str) -> AccessList | None:
        member = self._member(path)
        text = None if member is None else member.access_list
        if text is None and path in self._taken_lists:
            text = self._taken_lists[path]
            if text == "?":  # there is one, and the machine had no program to tell what it says
                return AccessList(7, (("somebody whom an access list names that was not read", 7),))
        return None if text is None else parse_access_list(text)

    @cached_property
    def _taken_lists(self) -> dict[str, str]:
        return dict(rows_of(self._contents.get(ACCESS_LISTS, b"").decode("utf-8", "surrogateescape")))

    def _member(self, path: str) -> Member | None:
        """The member at ``path``; of a hard link, the one that it is another name of."""
        member = self._entries.get(path)
        for _ in range(bounds.LINKS):
            if member is None or member.kind != tarfile.LNKTYPE:
                return member
            member = self._entries.get(normalize_path(member.target))
        return None

    def names_in(self, path: str) -> list[str]:
        return sorted(self._listed.get(path, ()), key=lambda name: name.encode("utf-8", "surrogateescape"))

    def read_real(self, path: str, limit: int) -> bytes:
        member = self._member(path)
        if path in self._only_listed:
            raise TreeError("unreadable", path, "the snapshot has only its name")
        if member is None:
            is_folder = path in self._listed
            raise TreeError(
                "unreadable" if is_folder else "missing", path, "a folder, not a file" if is_folder else "no such file"
            )
        if not member.is_file:
            raise TreeError("unreadable", path, "a folder, not a file" if member.is_folder else "not a file")
        content = self._contents.get(normalize_path(member.name)) or self._contents.get(path)
        if member.size > limit or (content is None and member.size):
            raise TreeError("bound", path, f"{member.size} bytes; more than {limit} are not read")
        return content or b""


def _owner(name: str, number: int, of_number: str) -> str:
    """An owner or group by the host's own account database. The name in an archive is that of the machine that made it, and
    counts where the host has none for the number, or the number was left out."""
    is_left_out = number == 0 and name not in ("", "root")
    return name if name and (is_left_out or of_number.startswith(("uid ", "gid "))) else of_number


class _TooLargeError(Exception):
    """More comes out of an archive than is read."""


class _Bounded:
    """A stream that ends with an error after so many bytes, or when it is read on and on behind its end: the library looks there
    for all that a header announced, which may be more than anybody has."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._stream, self._left, self._beyond = stream, bounds.ARCHIVE_BYTES, 0

    def read(self, size: int = -1) -> bytes:
        data = self._stream.read(_CHUNK if size < 0 else min(size, _CHUNK))
        self._left -= len(data)
        self._beyond += not data
        if self._left < 0:
            raise _TooLargeError
        if self._beyond > _READS_BEYOND:
            raise EOFError("it is shorter than its headers announce")
        return data


@contextmanager
def _opened(path: Path) -> Iterator[IO[bytes]]:
    """The archive's bytes, unpacked by what they begin with, and bounded."""
    with open(path, "rb") as file:
        start = file.read(6)
        file.seek(0)
        if start.startswith(b"\x1f\x8b"):
            import gzip

            stream: IO[bytes] = cast("IO[bytes]", gzip.GzipFile(fileobj=file))
        elif start.startswith(b"\xfd7zXZ\x00"):
            import lzma

            stream = cast("IO[bytes]", lzma.LZMAFile(file))  # noqa: SIM115  the file behind it is closed
        elif start.startswith(b"BZh"):
            import bz2

            stream = cast("IO[bytes]", bz2.BZ2File(file))
        elif start.startswith(b"\x28\xb5\x2f\xfd"):
            import zstandard

            stream = cast("IO[bytes]", _Zstd(zstandard.ZstdDecompressor(max_window_size=1 << 27).stream_reader(file)))
        else:
            stream = file
        yield cast("IO[bytes]", _Bounded(stream))


class _Zstd:
    """A zstd stream whose errors are those of any other."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._stream = stream

    def read(self, size: int = -1) -> bytes:
        import zstandard

        try:
            return self._stream.read(size)
        except zstandard.ZstdError as error:
            raise OSError(str(error)) from None


def _short(error: BaseException) -> str:
    text = str(error) or type(error).__name__
    return text.splitlines()[0][:100]
