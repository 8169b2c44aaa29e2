"""Names of addresses, as far as the host's own table has them (``etc/hosts``); what a name server says is not known."""

from __future__ import annotations

from functools import cached_property

from rupex.host import HostTree, TreeError
from rupex.servers.common.addresses import Address, parse_address

_TABLE = "etc/hosts"


class HostNames:
    """The table of one host."""

    def __init__(self, tree: HostTree) -> None:
        self._tree = tree

    def name_of(self, address: Address) -> str | None:
        """What ``address`` is called: the first name of its first line, lower case; None where the table has it not."""
        return next((names[0] for known, names in self._lines if known == address and names), None)

    def addresses_of(self, name: str) -> tuple[Address, ...]:
        """The addresses that the table gives a name; none where it has it not."""
        return tuple(known for known, names in self._lines if name.lower() in names)

    @cached_property
    def _lines(self) -> tuple[tuple[Address, tuple[str, ...]], ...]:
        try:
            text = self._tree.read(_TABLE).decode("utf-8", "replace")
        except TreeError:
            return ()
        rows = (line.partition("#")[0].lower().split() for line in text.splitlines())
        return tuple(
            (address, tuple(row[1:])) for row in rows if row and (address := parse_address(row[0])) is not None
        )
