"""Files of accounts, as servers read them: users with their passwords, and groups with their members."""

from __future__ import annotations

from collections.abc import Callable

from rupex.host import HostTree, TreeError
from rupex.servers.common.patterns import UndeterminedError


class AccountFiles:
    """Reads files of accounts from a host tree. ``path_of``: the path in the tree of a file's name in the configuration."""

    def __init__(self, tree: HostTree, path_of: Callable[[str], str]) -> None:
        self._tree, self._path_of = tree, path_of

    def has_user(self, name: str, user: str) -> bool:
        """Whether the file ``name`` has an account of ``user``, in a line ``user:password``. Raises
        :class:`~rupex.servers.common.patterns.UndeterminedError` where the tree does not hold the file."""
        return any(line.partition(":")[0] == user and ":" in line for line in self._lines(name, user))

    def groups_of(self, name: str, user: str) -> frozenset[str]:
        """The groups of the file ``name`` that ``user`` is a member of, in lines ``group: user user``. Raises as
        :meth:`has_user`."""
        pairs = (line.partition(":") for line in self._lines(name, user))
        return frozenset(group.strip() for group, _, members in pairs if user in members.split())

    def _lines(self, name: str, user: str) -> list[str]:
        try:
            text = self._tree.read(self._path_of(name)).decode("utf-8", "surrogateescape")
        except TreeError as error:
            words = f"whether {user} has an account is not known: {error.path}: {error.message}"
            raise UndeterminedError(words) from None
        return text.splitlines()
