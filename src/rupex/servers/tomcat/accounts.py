"""Which roles an account has: the realms whose accounts stand in files (MemoryRealm, UserDatabaseRealm)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Final

from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.tomcat.constraints import Constraint
from rupex.servers.tomcat.deployed import Reader
from rupex.servers.tomcat.syntax import Element

_OF_OTHERS: Final = ("LockOutRealm", "CombinedRealm")
"""Realms that ask those which stand in them."""
_FILE: Final = "conf/tomcat-users.xml"


class Accounts:
    """The accounts that the realms of one Tomcat know. ``server``: its main element, in which databases of users are named."""

    def __init__(self, reader: Reader, server: Element | None) -> None:
        self._reader = reader
        named = None if server is None else server.first("GlobalNamingResources")
        resources = () if named is None else named.all("Resource")
        self._databases: dict[str, Element] = {one.get("name"): one for one in resources}

    def roles_of(self, elements: Iterable[Element], account: str) -> frozenset[str] | None:
        """The roles of an account in the realm that holds, which is that of the first of ``elements`` to have one; None where it
        has no such account. Raises :class:`~rupex.servers.common.patterns.UndeterminedError`."""
        realm = next((one for element in elements for one in element.all("Realm")), None)
        if realm is None:
            return None
        known = [self._read(name, account, has_groups=has_groups) for name, has_groups in self._files(realm)]
        return next((roles for roles in known if roles is not None), None)

    def _files(self, realm: Element) -> Iterator[tuple[str, bool]]:
        """The files of accounts that a realm reads, in order, and whether its groups count, as they do not to a MemoryRealm."""
        kind = realm.get("className").rpartition(".")[2]
        if kind in _OF_OTHERS:
            for inner in realm.all("Realm"):
                yield from self._files(inner)
        elif kind == "MemoryRealm":
            yield realm.get("pathname", _FILE), False
        elif kind == "UserDatabaseRealm" and realm.get("resourceName", "UserDatabase") in self._databases:
            yield self._databases[realm.get("resourceName", "UserDatabase")].get("pathname", _FILE), True
        else:
            raise UndeterminedError(f"Rupex does not know the accounts of {kind} ({realm.provenance()})")

    def _read(self, name: str, account: str, *, has_groups: bool) -> frozenset[str] | None:
        path = self._reader.path(name.removeprefix("file:"))
        users = self._reader.xml(path)
        if users is None:
            raise UndeterminedError(f"what roles {account} has is not known: {path} is not in the tree")
        user = next((u for u in users.all("user") if account == (u.get("username") or u.get("name"))), None)
        if user is None:
            return None
        groups = {group.get("groupname") or group.get("name"): group for group in users.all("group")}
        members = (groups[name] for name in _words(user.get("groups")) if has_groups and name in groups)
        return frozenset(role for one in (user, *members) for role in _words(one.get("roles")))


def may_pass(constraints: Iterable[Constraint], roles: frozenset[str], known: frozenset[str]) -> bool:
    """Whether an account with ``roles`` gets past constraints that ask for a login: one that a role of it satisfies is enough.
    ``known``: the roles that the application names, which ``*`` stands for (RealmBase.hasResourcePermission)."""
    for constraint in constraints:
        wanted = constraint.roles or ()
        if "**" in wanted or not roles.isdisjoint(known if "*" in wanted else wanted):
            return True
    return False


def _words(text: str) -> list[str]:
    return [word.strip() for word in text.split(",") if word.strip()]
