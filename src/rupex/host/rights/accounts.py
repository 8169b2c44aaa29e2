"""The account database of a host tree: passwd(5) and group(5)."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property

from msgspec import Struct

from rupex.model.numbers import whole_number


class Account(Struct, frozen=True):
    name: str
    uid: int
    gid: int
    home: str


class Accounts:
    """Accounts and groups of the host, by name and by number. Empty when the tree has no database.

    ``is_known`` tells whether the tree had one: without it nobody can say who is in a group.
    """

    def __init__(self, passwd: str = "", group: str = "") -> None:
        self.by_name: dict[str, Account] = {}
        self._user_names: dict[int, str] = {0: "root"}
        self._group_names: dict[int, str] = {0: "root"}
        self._listed: dict[str, tuple[str, ...]] = {}
        self.is_known = bool(passwd.strip())
        for fields in _records(passwd, 7):
            name, home = fields[0], fields[5]
            uid, gid = whole_number(fields[2]), whole_number(fields[3])
            if uid is not None and gid is not None:
                self.by_name[name] = Account(name, uid, gid, home)
                self._user_names.setdefault(uid, name)
        for fields in _records(group, 4):
            gid = whole_number(fields[2])
            if gid is not None:
                self._group_names.setdefault(gid, fields[0])
                self._listed[fields[0]] = tuple(member for member in fields[3].split(",") if member)

    def user_name(self, uid: int) -> str:
        """The name of ``uid``, or ``uid N`` when the host has none for it."""
        return self._user_names.get(uid, f"uid {uid}")

    def group_name(self, gid: int) -> str:
        """The name of ``gid``, or ``gid N`` when the host has none for it."""
        return self._group_names.get(gid, f"gid {gid}")

    @cached_property
    def _members(self) -> dict[str, frozenset[str]]:
        members: dict[str, set[str]] = {name: set(listed) for name, listed in self._listed.items()}
        for account in self.by_name.values():
            members.setdefault(self.group_name(account.gid), set()).add(account.name)
        return {name: frozenset(found) for name, found in members.items()}

    def members(self, group: str) -> frozenset[str]:
        """The accounts in ``group``, by its list or as their primary group."""
        return self._members.get(group, frozenset())


def _records(text: str, fields: int) -> Iterable[list[str]]:
    for line in text.splitlines():
        parts = line.split(":")
        if len(parts) >= fields and not line.startswith("#"):
            yield parts
