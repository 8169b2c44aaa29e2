"""Addresses of visitors, and whether they lie in a network as servers write it."""

from __future__ import annotations

import ipaddress
from typing import TypeAlias

Address: TypeAlias = ipaddress.IPv4Address | ipaddress.IPv6Address
Network: TypeAlias = ipaddress.IPv4Network | ipaddress.IPv6Network


def parse_address(text: str) -> Address | None:
    """An address, in brackets or not; an IPv4 address that is written as IPv6 (``::ffff:``) is IPv4. None for anything else."""
    try:
        parsed = ipaddress.ip_address(text.strip("[]"))
    except ValueError:
        return None
    mapped = parsed.ipv4_mapped if isinstance(parsed, ipaddress.IPv6Address) else None
    return mapped or parsed


def parse_network(text: str) -> Network | None:
    """An address or network with its prefix or mask; what stands below the mask does not count. None for anything else."""
    try:
        return ipaddress.ip_network(text, strict=False)
    except ValueError:
        return None


def is_in(address: Address, network: Network) -> bool:
    """Whether ``address`` lies in ``network``: never in one of the other version."""
    return address.version == network.version and address in network
