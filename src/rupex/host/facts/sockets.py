"""Listening TCP sockets, from the kernel's own tables (proc(5), ``/proc/net/tcp``), of the live machine or a snapshot."""

from __future__ import annotations

import ipaddress
import re
from typing import Final

from rupex.host.tree.host_tree import HostTree, TreeError
from rupex.model import Listening, bounds

_TABLES: Final = ("proc/net/tcp", "proc/net/tcp6")
_ROW = re.compile(r"^[ \t]*+\d+: ([0-9A-F]{8}|[0-9A-F]{32}):([0-9A-F]{4}) \S+ 0A ", re.MULTILINE)
"""State 0A is TCP_LISTEN (include/net/tcp_states.h)."""


def find_listening(tree: HostTree) -> tuple[Listening, ...] | None:
    """The sockets that accept connections, by port and address; None where the tree does not hold the tables."""
    texts = []
    for path in _TABLES:
        try:
            texts.append((path, tree.read(path, bounds.FIREWALL_BYTES).decode("ascii", "replace")))
        except TreeError:
            continue
    if not texts:
        return None
    found = {Listening(_address(row[1]), int(row[2], 16)) for path, text in texts for row in _ROW.finditer(text)}
    return tuple(sorted(found, key=lambda one: (one.port, one.address)))


def _address(digits: str) -> str:
    """Addresses are words of four bytes, each in the machine's order; that of every machine Rupex meets is little-endian."""
    words = (digits[start : start + 8] for start in range(0, len(digits), 8))
    packed = b"".join(bytes.fromhex(word)[::-1] for word in words)
    return str(ipaddress.ip_address(packed))
