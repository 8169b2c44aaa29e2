"""What a snapshot says of itself: the folder ``rupex/`` at its root, with tables of tab-separated text.

``unread.tsv``: path, why its content is not in it, and how many bytes it has. ``versions.tsv``: program, version.
``access.tsv``: path, its access list as text, ``?`` for one that was not read. ``processes.tsv``: pid, name, account,
start (RFC 3339). ``nft.rules``, ``iptables.rules``: what the kernel had loaded.
"""

from __future__ import annotations

import re
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


_UNSAFE: Final = re.compile(r"[\x00-\x1f\\\x7f]")
_ESCAPED: Final = re.compile(r"\\([0-7]{3})")


def escaped(path: str) -> str:
    """``path`` for a row of a table: a control character, or a backslash, as a backslash and three octal digits (as in
    mtree(5)). A file may be called like two rows."""
    return _UNSAFE.sub(lambda found: f"\\{ord(found[0]):03o}", path)


def _unescaped(text: str) -> str:
    return _ESCAPED.sub(lambda found: chr(int(found[1], 8) & 0x7F), text)


def rows_of(text: str) -> Iterator[tuple[str, str]]:
    """The first two columns of a table's rows, the first one as it was before :func:`escaped`."""
    for line in text.split("\n")[:_MOST_ROWS]:
        fields = line.split("\t")
        if len(fields) > 1:
            yield _unescaped(fields[0]), fields[1]
