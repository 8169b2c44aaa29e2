"""Who can read or write a file: mode, owner, group members, and the folders on the way (path_resolution(7))."""

from __future__ import annotations

import stat
from functools import lru_cache

from rupex.host.accounts import Accounts
from rupex.model import Audience, FolderFacts, Setting

READ, WRITE, SEARCH = 4, 2, 1


def audience(
    mode: int, owner: Setting[str], group: Setting[str], folders: tuple[FolderFacts, ...], wish: int, accounts: Accounts
) -> Audience:
    """The accounts but root that may do ``wish`` (:data:`READ` or :data:`WRITE`) to a file.

    ``folders`` are those on the way, from the root down. An owner or group that is not known lets nobody in by name.
    Where the host's group database is missing, a group stands in as ``members of group NAME``.
    """
    closed_by = next((folder.path for folder in folders if not folder.mode & SEARCH), None)
    everyone = bool(mode & wish) and closed_by is None
    because = f"mode {stat.S_IMODE(mode):04o}"
    if everyone:
        return Audience(True, (), because)
    steps = tuple((folder.mode, folder.owner.value, folder.group.value, SEARCH) for folder in folders)
    named = _named(((mode, owner.value, group.value, wish), *steps), accounts)
    if mode & (wish << 3) and group.value is not None:
        because += f", group {group.value}"
    return Audience(False, named, because, closed_by if mode & wish else None)


@lru_cache(maxsize=4096)
def _named(steps: tuple[tuple[int, str | None, str | None, int], ...], accounts: Accounts) -> tuple[str, ...]:
    """The accounts that pass every step (mode, owner, group, wished bit)."""
    if accounts.is_known:
        candidates = set(accounts.by_name) | {owner for _, owner, _, _ in steps[:1] if owner}
        return tuple(
            sorted(name for name in candidates if name != "root" and all(_passes(name, *s, accounts) for s in steps))
        )
    mode, owner, group, wish = steps[0]
    named = [owner] if owner not in (None, "root") and mode & (wish << 6) else []
    if group not in (None, "root", owner) and mode & (wish << 3):
        named.append(f"members of group {group}")
    return tuple(name for name in named if name)


def _passes(name: str, mode: int, owner: str | None, group: str | None, wish: int, accounts: Accounts) -> bool:
    if name == owner:
        return bool(mode & (wish << 6))
    if group is not None and name in accounts.members(group):
        return bool(mode & (wish << 3))
    return bool(mode & wish)
