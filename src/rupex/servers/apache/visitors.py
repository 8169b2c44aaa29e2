"""Where a request comes from: the address that it counts as, and whether it lies in a network as httpd writes it."""

from __future__ import annotations

import re
from typing import Final

from rupex.servers.apache.hosts import VirtualHost
from rupex.servers.apache.load import LoadedConfig, all_of
from rupex.servers.common.addresses import Address, Network, is_in, parse_address, parse_network

_INTERNAL: Final = ("remoteipinternalproxy", "remoteipinternalproxylist")
_TRUSTED: Final = ("remoteiptrustedproxy", "remoteiptrustedproxylist")
_PRIVATE: Final = tuple(
    network for text in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16", "127.0.0.0/8")
    if (network := parse_network(text)) is not None
)  # fmt: skip
"""What a peer that is trusted, and not one of the own house, may not name (mod_remoteip, remoteip_modify_request)."""
_PARTIAL = re.compile(r"[0-9]{1,3}(?:\.[0-9]{1,3}){0,2}\.?")


def network_of(text: str) -> Network | None:
    """A network as Require and Allow take it: the first numbers of an address stand for all that begin so
    (apr_ipsubnet_create)."""
    if _PARTIAL.fullmatch(text):
        numbers = text.rstrip(".").split(".")
        return parse_network(".".join([*numbers, *["0"] * (4 - len(numbers))]) + f"/{8 * len(numbers)}")
    return parse_network(text)


def client_address(
    config: LoadedConfig, virtual: VirtualHost, source: str | None, headers: dict[str, str]
) -> str | None:
    """The address that a request from ``source`` counts as coming from (mod_remoteip); None where it is not known.
    ``headers``: its headers, by lower-case name."""
    header = virtual.last("remoteipheader")
    address = None if source is None else parse_address(source)
    if address is None or header is None or not header.args or "remoteip" not in config.modules:
        return source
    named = headers.get(header.args[0].lower())
    if named is None:
        return source
    lists = [(d, d.key in _INTERNAL) for block in virtual.chain for d in all_of(block, *_INTERNAL, *_TRUSTED)]
    if any(directive.key.endswith("list") for directive, _ in lists):
        return None  # the networks stand in a file of their own
    peers = [(parse_network(word), is_own) for directive, is_own in lists for word in directive.args]
    if any(network is None for network, _ in peers):
        return None  # the addresses of a host's name
    for word in reversed(named.split(",")):
        is_own = _trust(address, peers) if peers else False
        found = parse_address(word.strip())
        if is_own is None or found is None:
            break
        if not is_own and any(is_in(found, network) for network in _PRIVATE):
            break
        address = found
    return str(address)


def _trust(address: Address, peers: list[tuple[Network | None, bool]]) -> bool | None:
    """Whether the first network in which a peer lies is one of the own house; None for a peer that is not trusted."""
    return next((is_own for network, is_own in peers if network is not None and is_in(address, network)), None)
