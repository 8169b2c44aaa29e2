"""The zones of firewalld (firewalld.zone(5), firewalld.conf(5)): what the default zone lets in."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Final

from rupex.host.facts.firewall.rules import Chain, Ports, Rule, Ruleset, When
from rupex.host.facts.firewall.services import port_number
from rupex.model import Provenance

if TYPE_CHECKING:
    from lxml import etree

_HOOK: Final = "zone"
_OPEN_TARGETS: Final = frozenset(("ACCEPT", "trusted"))
_BUILT_IN: Final = {
    "http": 80, "https": 443, "ssh": 22, "http3": None, "cockpit": 9090, "mysql": 3306, "postgresql": 5432, "redis": 6379,
    "imaps": 993, "smtp": 25, "ftp": 21, "dns": 53, "mdns": None, "dhcpv6-client": None,
}  # fmt: skip
"""Ports of services as firewalld ships them, where the tree does not hold their files; None: not TCP."""


def parse_zone(path: str, text: bytes, service: Callable[[str], bytes | None]) -> Ruleset | None:
    """The zone file ``text``; None when it is none. ``service``: the file that defines a service by its name."""
    root = _xml(text)
    if root is None or root.tag != "zone":
        return None
    rules: list[Rule] = []
    for element in root:
        place = Provenance("explicit", path, element.sourceline, 1)
        if element.tag in ("service", "port"):
            rules.append(_rule(element, "always", place, service))
        elif element.tag == "rule":
            rules += _rich(element, place, service)
    target = str(root.get("target", "default"))
    policy = Chain(tuple(rules), "accept" if target in _OPEN_TARGETS else "drop", Provenance("explicit", path, 1, 1))
    return Ruleset({_HOOK: policy}, (_HOOK,))


def _xml(text: bytes) -> etree._Element | None:
    from lxml import etree

    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, remove_comments=True, remove_pis=True
    )
    try:
        return etree.fromstring(text, parser)
    except (etree.XMLSyntaxError, ValueError):
        return None


def _rule(
    element: etree._Element,
    when: When,
    place: Provenance,
    service: Callable[[str], bytes | None],
    *,
    accepts: bool = True,
) -> Rule:
    is_service = element.tag == "service"
    ports = _service_ports(str(element.get("name", "")), service) if is_service else _ports(element)
    return Rule("accept" if accepts else "drop", "unknown" if ports is None else when, ports, provenance=place)


def _rich(element: etree._Element, place: Provenance, service: Callable[[str], bytes | None]) -> list[Rule]:
    """A rich rule (firewalld.richlanguage(5)): deny rules stand before allow rules, which is how they are written here."""
    if element.get("family") == "ipv6":
        return []
    source = element.find("source")
    when: When = "always"
    if source is not None:
        when = "others" if source.get("invert") in ("true", "yes", "True") else "some"
    accepts = element.find("accept") is not None
    if not accepts and element.find("drop") is None and element.find("reject") is None:
        return []
    found = [_rule(part, when, place, service, accepts=accepts) for part in element if part.tag in ("service", "port")]
    is_about_all = not any(part.tag in ("service", "port", "protocol", "icmp-type") for part in element)
    return found or ([Rule("accept" if accepts else "drop", when, None, provenance=place)] if is_about_all else [])


def _service_ports(name: str, service: Callable[[str], bytes | None]) -> Ports | None:
    text = service(name)
    root = None if text is None else _xml(text)
    if root is not None:
        found = [_ports(part) for part in root if part.tag == "port"]
        return tuple(pair for ports in found if ports for pair in ports)
    if name not in _BUILT_IN:
        return None
    port = _BUILT_IN[name]
    return () if port is None else ((port, port),)


def _ports(element: etree._Element) -> Ports | None:
    if element.get("protocol", "tcp") != "tcp":
        return ()
    low, dash, high = str(element.get("port", "")).partition("-")
    first = port_number(low)
    last = port_number(high) if dash else first
    return None if first is None or last is None else ((first, last),)
