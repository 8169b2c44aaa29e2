"""A host tree in a folder of this machine's disk."""

from __future__ import annotations

import os
import stat
from functools import cached_property
from pathlib import Path
from typing import Literal

from rupex.host.rights.access import AccessList, decode_access_list
from rupex.host.tree.folders import Folders
from rupex.host.tree.host_tree import Entry, HostTree, TreeError
from rupex.host.tree.mtree import ManifestEntry
from rupex.model import Setting, unknown


class DiskTree(HostTree):
    """A folder on this machine's disk, or ``/`` itself.

    ``manifest`` overrides owners and modes, which a copy loses. Without one, owners count only where the tree kept
    them: at ``/``, or where root owns its top folders; elsewhere the copy belongs to whoever made it.
    """

    def __init__(self, root: Path, manifest: dict[str, ManifestEntry] | None = None) -> None:
        super().__init__(manifest)
        self.root = root.resolve()
        self._folders = Folders(str(self.root))

    def link_target(self, path: str) -> str | None:
        try:
            folder, name = self._folders.place(path)
            return os.readlink(name, dir_fd=folder)
        except (OSError, ValueError):
            return None

    def entry(self, path: str) -> Entry | None:
        try:
            folder, name = self._folders.place(path)
            status = os.stat(name, dir_fd=folder, follow_symlinks=False)
        except PermissionError:
            raise TreeError("unreadable", path, "a folder on the way may not be searched") from None
        except (OSError, ValueError):
            return None
        entry = Entry(
            stat.S_ISDIR(status.st_mode),
            stat.S_ISREG(status.st_mode),
            stat.S_IMODE(status.st_mode),
            self._owner(status.st_uid),
            self._group(status.st_gid),
            status.st_size,
            status.st_mtime if self._keeps_owners else None,
        )
        return self._as_listed(path, entry)

    def access_list(self, path: str) -> AccessList | None:
        if not self._keeps_owners:
            return None  # a copy's list names the accounts of the machine that it lies on
        try:
            folder, name = self._folders.place(path)
            # There is no call that takes a name in an open folder; this path leads into that folder and no other.
            place = f"/proc/self/fd/{folder}/{name}"
            value = os.getxattr(place, "system.posix_acl_access", follow_symlinks=False)
        except (OSError, ValueError, AttributeError):
            return None  # none, or a file system (or system) without them
        return decode_access_list(value, self.accounts.user_name, self.accounts.group_name)

    def names_in(self, path: str) -> list[str]:
        try:
            return self._folders.names(path)
        except PermissionError:
            raise TreeError("unreadable", path, "the folder may not be listed") from None
        except (OSError, ValueError):
            return []

    def read_real(self, path: str, limit: int) -> bytes:
        try:
            folder, name = self._folders.place(path)
            # Not blocking on a pipe, and not following a link that appeared since it was resolved.
            flags = os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW | os.O_NOCTTY | os.O_CLOEXEC
            descriptor = os.open(name, flags, dir_fd=folder)
        except PermissionError:
            raise TreeError("unreadable", path, "permission denied") from None
        except (FileNotFoundError, NotADirectoryError):
            raise TreeError("missing", path, "no such file") from None
        except (OSError, ValueError) as error:
            raise TreeError("unreadable", path, _reason(error)) from None
        try:
            status = os.fstat(descriptor)
            if not stat.S_ISREG(status.st_mode):
                raise TreeError(
                    "unreadable", path, "a folder, not a file" if stat.S_ISDIR(status.st_mode) else "not a file"
                )
            if status.st_size > limit:
                raise TreeError("bound", path, f"{status.st_size} bytes; more than {limit} are not read")
            content = os.read(descriptor, status.st_size + 1)
            # What is there is read at once; only a file that grows, or that has no size (as in /proc), is asked again.
            while len(content) != status.st_size and len(content) <= limit and (more := os.read(descriptor, 1 << 16)):
                content += more
        except OSError as error:
            raise TreeError("unreadable", path, _reason(error)) from None
        finally:
            os.close(descriptor)
        if len(content) > limit:
            raise TreeError("bound", path, f"more than {limit} bytes, which are not read")
        return content

    @cached_property
    def _keeps_owners(self) -> bool:
        if str(self.root) == "/":
            return True
        for name in ("etc", "."):
            try:
                return os.stat(name, dir_fd=self._folders.descriptor(""), follow_symlinks=False).st_uid == 0
            except OSError:
                continue
        return False

    @cached_property
    def _settings(self) -> dict[tuple[str, int], Setting[str]]:
        return {}

    def _owner(self, uid: int) -> Setting[str]:
        return self._named("user", uid)

    def _group(self, gid: int) -> Setting[str]:
        return self._named("group", gid)

    def _named(self, what: Literal["user", "group"], number: int) -> Setting[str]:
        found = self._settings.get((what, number))
        if found is None:
            if not self._keeps_owners:
                found = unknown("this copy did not keep owners; give them with a manifest (mtree)")
            else:
                accounts = self.accounts
                found = Setting(accounts.user_name(number) if what == "user" else accounts.group_name(number))
            self._settings[what, number] = found
        return found


def _reason(error: OSError | ValueError) -> str:
    return (error.strerror or "cannot be read") if isinstance(error, OSError) else "not a file name"
