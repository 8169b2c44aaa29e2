"""Who can read or write a file: mode, owner, group members, access lists, and the folders on the way (path_resolution(7)).

Access lists are those of POSIX.1e draft 17, as acl(5) tells: in a file that has one the group bits of the mode are its mask.
"""

from __future__ import annotations

import stat
import struct
from collections.abc import Callable
from functools import lru_cache

from msgspec import Struct

from rupex.host.rights.accounts import Accounts
from rupex.model import Audience, FolderFacts, Setting

READ, WRITE, SEARCH = 4, 2, 1

_XATTR_VERSION = 2  # linux/posix_acl_xattr.h
_USER, _GROUP_OBJ, _GROUP = 0x02, 0x04, 0x08


class AccessList(Struct, frozen=True):
    """An access list's entries beyond the mode: what the owning ``group`` may do, and named ``users`` and ``groups``; each a
    name and permission bits, before the mask."""

    group: int
    users: tuple[tuple[str, int], ...] = ()
    groups: tuple[tuple[str, int], ...] = ()

    def render(self, mode: int) -> str:
        """The text form, of a file with ``mode``; :func:`parse_access_list` reads it."""
        rows = [f"user::{_letters(mode >> 6)}", *(f"user:{name}:{_letters(bits)}" for name, bits in self.users)]
        rows += [f"group::{_letters(self.group)}", *(f"group:{name}:{_letters(bits)}" for name, bits in self.groups)]
        return ",".join((*rows, f"mask::{_letters(mode >> 3)}", f"other::{_letters(mode)}"))


def _letters(bits: int) -> str:
    return "".join(letter if bits & bit else "-" for letter, bit in (("r", READ), ("w", WRITE), ("x", SEARCH)))


def decode_access_list(value: bytes, user: Callable[[int], str], group: Callable[[int], str]) -> AccessList | None:
    """The extended attribute ``system.posix_acl_access``; None when it is none, or says no more than the mode."""
    if len(value) < 4 or len(value) % 8 != 4 or struct.unpack_from("<I", value)[0] != _XATTR_VERSION:
        return None
    owning, users, groups = 0, [], []
    for tag, bits, number in struct.iter_unpack("<HHI", value[4:]):
        if tag == _USER:
            users.append((user(number), bits))
        elif tag == _GROUP:
            groups.append((group(number), bits))
        elif tag == _GROUP_OBJ:
            owning = bits
    return AccessList(owning, tuple(users), tuple(groups)) if users or groups else None


def parse_access_list(text: str) -> AccessList | None:
    """The text form (``user::rw-,user:anna:r--,group::---,mask::r--,other::---``) in which archives keep a list; a fourth
    field, a number, is passed over. None when it says no more than the mode."""
    owning, users, groups = 0, [], []
    for entry in text.replace("\n", ",").split(","):
        kind, _, rest = entry.strip().partition(":")
        name, _, allowed = rest.partition(":")
        bits = sum(
            bit for letter, bit in (("r", READ), ("w", WRITE), ("x", SEARCH)) if letter in allowed.partition(":")[0]
        )
        if kind in ("user", "u") and name:
            users.append((name, bits))
        elif kind in ("group", "g"):
            if name:
                groups.append((name, bits))
            else:
                owning = bits
    return AccessList(owning, tuple(users), tuple(groups)) if users or groups else None


Step = tuple[int, str | None, str | None, int, AccessList | None]
"""A file or folder to get past: mode, owner, group, the wished bit, access list."""


def audience(
    mode: int,
    owner: Setting[str],
    group: Setting[str],
    folders: tuple[FolderFacts, ...],
    wish: int,
    accounts: Accounts,
    lists: tuple[AccessList | None, ...] = (),
) -> Audience:
    """The accounts but root that may do ``wish`` (:data:`READ` or :data:`WRITE`) to a file.

    ``folders`` are those on the way, from the root down; ``lists`` the access lists of the file and of each of these, left
    out where none has one. An owner or group that is not known lets nobody in by name. Where the host's group database is
    missing, a group stands in as ``members of group NAME``.
    """
    closed_by = next((folder.path for folder in folders if not folder.mode & SEARCH), None)
    everyone = bool(mode & wish) and closed_by is None
    because = f"mode {stat.S_IMODE(mode):04o}"
    if everyone:
        return Audience(True, (), because)
    own, *above = lists or (None,) * (len(folders) + 1)
    steps: tuple[Step, ...] = (
        (mode, owner.value, group.value, wish, own),
        *(
            (folder.mode, folder.owner.value, folder.group.value, SEARCH, listed)
            for folder, listed in zip(folders, above, strict=True)
        ),
    )
    named = _named(steps, accounts)
    if mode & (wish << 3) and own is not None:
        because += ", access list"
    elif mode & (wish << 3) and group.value is not None:
        because += f", group {group.value}"
    return Audience(False, named, because, closed_by if mode & wish else None)


@lru_cache(maxsize=4096)
def _named(steps: tuple[Step, ...], accounts: Accounts) -> tuple[str, ...]:
    """The accounts that pass every step."""
    mode, owner, group, wish, listed = steps[0]
    if accounts.is_known:
        candidates = set(accounts.by_name) | ({owner} if owner else set())
        candidates |= {name for name, _ in listed.users} if listed else set()
        return tuple(
            sorted(name for name in candidates if name != "root" and all(_passes(name, *s, accounts) for s in steps))
        )
    mask = mode >> 3 & 7
    groups = [(group, mask if listed is None else mask & listed.group)]
    users = [(owner, mode >> 6 & 7)]
    if listed is not None:
        groups += [(name, bits & mask) for name, bits in listed.groups]
        users += [(name, bits & mask) for name, bits in listed.users]
    named = [name for name, bits in users if name not in (None, "root") and bits & wish]
    named += [f"members of group {name}" for name, bits in groups if name not in (None, "root", owner) and bits & wish]
    return tuple(name for name in named if name)


def _passes(
    name: str, mode: int, owner: str | None, group: str | None, wish: int, listed: AccessList | None, accounts: Accounts
) -> bool:
    if name == owner:
        return bool(mode & (wish << 6))
    mask = mode >> 3 & 7
    if listed is not None:
        for user, bits in listed.users:
            if user == name:
                return bool(bits & mask & wish)
    matching = [mask if listed is None else listed.group & mask] if group and name in accounts.members(group) else []
    if listed is not None:
        matching += [bits & mask for other, bits in listed.groups if name in accounts.members(other)]
    return any(bits & wish for bits in matching) if matching else bool(mode & wish)


__all__ = ["READ", "SEARCH", "WRITE", "AccessList", "audience", "decode_access_list", "parse_access_list"]
