"""What a snapshot says of itself: the folder ``rupex/`` at its root, with tables of tab-separated text.

``unread.tsv``: path, why its content is not in it. ``versions.tsv``: program, version. ``access.tsv``: path, its
access list as text, ``?`` for one that was not read. ``processes.tsv``: pid, name, account,
start (RFC 3339). ``nft.rules``, ``iptables.rules``: what the kernel had loaded.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final

FOLDER: Final = "rupex"
UNREAD: Final = f"{FOLDER}/unread.tsv"
VERSIONS: Final = f"{FOLDER}/versions.tsv"
PROCESSES: Final = f"{FOLDER}/processes.tsv"
ACCESS_LISTS: Final = f"{FOLDER}/access.tsv"
NFT_RULES: Final = f"{FOLDER}/nft.rules"
IPTABLES_RULES: Final = f"{FOLDER}/iptables.rules"
OWNERS_LOST: Final = "RUPEX.owners-lost"
"""The keyword (pax(1), extended header) of a member whose owner and group nobody knew."""

_MOST_ROWS: Final = 100_000


def rows_of(text: str) -> Iterator[tuple[str, str]]:
    """The rows of a table of two columns; others are passed over."""
    for line in text.splitlines()[:_MOST_ROWS]:
        first, mark, second = line.partition("\t")
        if mark:
            yield first, second
