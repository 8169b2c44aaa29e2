"""Who asks: the valves and filters of Tomcat that go by the client's address, and those that let a proxy name it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from ipaddress import IPv6Address
from typing import Final, NamedTuple

from rupex.model import Provenance
from rupex.servers.common.addresses import is_in, parse_address, parse_network
from rupex.servers.common.patterns import search

BY_ADDRESS: Final = frozenset(
    "RemoteAddrValve RemoteCIDRValve RemoteHostValve RemoteAddrFilter RemoteCIDRFilter RemoteHostFilter".split()
)
"""Valves and filters that refuse by address. Without lookups, the name of a host is its address."""
BEHIND_PROXIES: Final = ("RemoteIpValve", "RemoteIpFilter")

_INTERNAL: Final = (
    r"10\.\d{1,3}\.\d{1,3}\.\d{1,3}|192\.168\.\d{1,3}\.\d{1,3}|169\.254\.\d{1,3}\.\d{1,3}|127\.\d{1,3}\.\d{1,3}\.\d{1,3}"
    r"|100\.6[4-9]\.\d{1,3}\.\d{1,3}|100\.[7-9]\d\.\d{1,3}\.\d{1,3}|100\.1[0-1]\d\.\d{1,3}\.\d{1,3}"
    r"|100\.12[0-7]\.\d{1,3}\.\d{1,3}|172\.1[6-9]\.\d{1,3}\.\d{1,3}|172\.2[0-9]\.\d{1,3}\.\d{1,3}"
    r"|172\.3[0-1]\.\d{1,3}\.\d{1,3}|0:0:0:0:0:0:0:1|::1|fe[89ab][0-9a-fA-F]:.*|f[cd][0-9a-fA-F]{2}:.*"
)
"""``internalProxies`` where nothing is said (org.apache.catalina.valves.RemoteIpValve, 10.1)."""
_COMMA = re.compile(r"\s*,\s*")


class Visitor(NamedTuple):
    """Who asks.

    ``address``: the client's, as Java writes it; ``peer``: that of the connection, which may be a proxy's.
    ``headers``: of the request, by lower-case name.
    ``is_secure``: whether a proxy says that it was asked by TLS; None where none says so.
    ``let_in_by``: the last valve or filter that could have refused the address.
    ``account``: the one that it logs in with where it is asked to.
    """

    address: str
    peer: str
    headers: Mapping[str, str]
    is_secure: bool | None = None
    let_in_by: Provenance | None = None
    account: str | None = None


STRANGER: Final = Visitor("198.51.100.7", "198.51.100.7", {})
"""One from an address that no rule speaks of (RFC 5737)."""


def visitor_of(source: str | None, headers: Mapping[str, str], account: str | None) -> Visitor:
    """Who sends a request with ``headers`` (by lower-case name) from ``source``; a stranger where that is not known."""
    parsed = None if source is None else parse_address(source)
    if parsed is None:
        return STRANGER._replace(headers=headers, account=account)
    address = str(parsed)
    if isinstance(parsed, IPv6Address):  # Java shortens nothing
        address = ":".join(f"{int(group, 16):x}" for group in parsed.exploded.split(":"))
    return Visitor(address, address, headers, account=account)


def refuses(kind: str, settings: Mapping[str, str], visitor: Visitor, port: int | None) -> bool:
    """Whether a valve or filter of :data:`BY_ADDRESS` refuses a visitor at a connector's ``port``: whom ``deny`` names, and of
    the others whom ``allow`` does not; without ``allow`` nobody else, without both everybody (RequestFilterValve.isAllowed)."""
    is_peer = _is_on(settings, "usePeerAddress") and "Host" not in kind  # a name is never the peer's
    address = visitor.peer if is_peer else visitor.address
    allow, deny = settings.get("allow", ""), settings.get("deny", "")
    if "CIDR" in kind:
        is_denied, is_allowed = (_lies_in(words, address) for words in (deny, allow))
    else:
        subject = f"{address};{port}" if _is_on(settings, "addConnectorPort") else address
        is_denied, is_allowed = (bool(words) and _fits(words, subject) for words in (deny, allow))
    return is_denied or not (is_allowed or (bool(deny) and not allow))


def behind_proxy(settings: Mapping[str, str], visitor: Visitor) -> Visitor:
    """Who asks after a RemoteIpValve or RemoteIpFilter: whom the proxies name that are trusted (RemoteIpValve.invoke)."""
    internal, trusted = settings.get("internalProxies", _INTERNAL), settings.get("trustedProxies", "")

    def is_proxy(address: str) -> bool:
        return any(bool(pattern) and _fits(pattern, address) for pattern in (internal, trusted))

    if not is_proxy(visitor.address):
        return visitor
    named = visitor.headers.get(settings.get("remoteIpHeader", "X-Forwarded-For").lower(), "")
    for word in reversed(_COMMA.split(named.strip())) if named.strip() else ():
        visitor = visitor._replace(address=word)
        if not is_proxy(word):
            break
    protocol = visitor.headers.get(settings.get("protocolHeader", "X-Forwarded-Proto").lower())
    if protocol is not None:
        wanted = settings.get("protocolHeaderHttpsValue", "https").lower()
        words = [word.lower() for word in _COMMA.split(protocol.strip())]
        visitor = visitor._replace(is_secure=bool(protocol.strip()) and all(word == wanted for word in words))
    return visitor


def _is_on(settings: Mapping[str, str], name: str) -> bool:
    return settings.get(name, "").strip().lower() == "true"


def _fits(pattern: str, address: str) -> bool:
    return search(f"^(?:{pattern})$", address) is not None


def _lies_in(words: str, address: str) -> bool:
    """Whether an address lies in one of the networks of a list."""
    parsed = parse_address(address)
    networks = (parse_network(word) for word in _COMMA.split(words.strip()) if word)
    return parsed is not None and any(network is not None and is_in(parsed, network) for network in networks)
