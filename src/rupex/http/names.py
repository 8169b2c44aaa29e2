"""Which server names a certificate covers (RFC 9525, 6)."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable


def covers(certified: Iterable[str], name: str) -> bool:
    """Whether one of the ``certified`` names (of subjectAltName, lower case) covers the host ``name``.

    A wildcard stands for exactly one whole leftmost label; an IP address is covered by an equal address only. A
    wildcard server name (``*.a.test``) is covered by the same wildcard.
    """
    name = name.lower().rstrip(".").strip("[]")
    labels = name.split(".")
    for entry in certified:
        if entry == name:
            return True
        if entry.startswith("*.") and len(labels) > 2 and entry[2:] == ".".join(labels[1:]) and not is_address(name):
            return True
    return False


def is_address(name: str) -> bool:
    """Whether ``name`` is an IP address and no DNS name."""
    if not name[-1:].isdigit() and ":" not in name:
        return False  # no top-level domain ends in a digit, and every IPv4 address does
    try:
        ipaddress.ip_address(name.strip("[]"))
    except ValueError:
        return False
    return True
