"""The text that iptables-save writes and iptables-restore reads (iptables(8), iptables-extensions(8))."""

from __future__ import annotations

import shlex
from collections.abc import Callable, Mapping
from typing import Final

from rupex.host.facts.firewall.rules import Chain, Policy, Ports, Rule, Ruleset, Verdict, When, other_ports, together
from rupex.host.facts.firewall.services import port_number
from rupex.model import Provenance

_VERDICTS: Final[dict[str, Verdict]] = {"ACCEPT": "accept", "DROP": "drop", "REJECT": "drop", "RETURN": "return"}
_PASS_ON: Final = frozenset(
    "LOG NFLOG ULOG MARK CONNMARK AUDIT TRACE SET TCPMSS SECMARK NOTRACK CT CHECKSUM CLASSIFY".split()
)
"""Targets after which the next rule is asked."""
_HARMLESS: Final = frozenset(
    ("comment", "limit", "hashlimit", "tcp", "udp", "state", "conntrack", "multiport", "statistic")
)
_ALONE: Final = frozenset(("-f", "--fragment", "--set", "--update", "--rcheck", "--syn"))
"""Options without a value."""
_POLICIES: Final[dict[str, Policy]] = {"ACCEPT": "accept", "DROP": "drop"}
_EVERYWHERE: Final = frozenset(("0.0.0.0/0", "::/0", "0/0", "0.0.0.0/0.0.0.0"))


def parse_iptables(path: str, text: str) -> Ruleset:
    """The filter table of ``text``. Lines that are none are passed over; conditions that are not known leave it open
    what becomes of a connection."""
    rules: dict[str, list[Rule]] = {}
    policies: dict[str, tuple[Policy | None, Provenance]] = {}
    in_filter = False
    for number, line in enumerate(text.splitlines(), 1):
        place = Provenance("explicit", path, number, 1)
        line = line.strip()
        if line.startswith("*"):
            in_filter = line == "*filter"
        elif in_filter and line.startswith(":"):
            name, _, rest = line[1:].partition(" ")
            policies[name] = (_POLICIES.get(rest.split(" ")[0]), place)
            rules.setdefault(name, [])
        elif in_filter and line.startswith(("-A", "--append")):
            try:
                words = shlex.split(line)
            except ValueError:
                continue
            if len(words) > 1:
                rules.setdefault(words[1], []).append(_rule(words[2:], place))
    nowhere = Provenance("explicit", path)
    chains = {name: Chain(tuple(found), *policies.get(name, (None, nowhere))) for name, found in rules.items()}
    return Ruleset(chains, ("INPUT",) if "INPUT" in chains else ())


def _rule(words: list[str], place: Provenance) -> Rule:
    """The rule that the words behind ``-A CHAIN`` make. A word that is not known takes one value, which says nothing here."""
    when: list[When] = []
    ports: Ports | None = None
    verdict: Verdict = "none"
    target = ""
    is_not = False
    rest = iter(words)
    for option in rest:
        if option == "!":
            is_not = True
            continue
        value = "" if option in _ALONE or not option.startswith("-") else next(rest, "")
        if option in _MATCHES:
            found = _MATCHES[option](value, is_not)
            when += [] if found is None else [found]
        elif option in _PORT_OPTIONS:
            ports = _ports(value)
            if ports is None:
                when.append("unknown")
            elif is_not:
                ports = other_ports(ports)
        elif option in _TARGET_OPTIONS:
            verdict, target = _VERDICTS.get(value) or _other_target(value, option), value
        is_not = False
    return Rule(verdict, together(when), ports, target, place)


def _protocol(value: str, is_not: bool) -> When:
    return "always" if (value.lower() in ("tcp", "6", "all", "0")) is not is_not else "never"


def _address(value: str, is_not: bool) -> When:
    if value in _EVERYWHERE:
        return "never" if is_not else "always"
    return "others" if is_not else "some"


def _interface(value: str, is_not: bool) -> When:
    if value == "lo":
        return "always" if is_not else "never"
    return "others" if is_not else "some"


def _state(value: str, is_not: bool) -> When:
    return "always" if ("NEW" in value.upper().split(",")) is not is_not else "never"


def _module(value: str, is_not: bool) -> When | None:
    if value == "recent":
        return "some"
    return None if value in _HARMLESS else "unknown"


_MATCHES: Final[Mapping[str, Callable[[str, bool], When | None]]] = {
    **dict.fromkeys(("-p", "--protocol"), _protocol),
    **dict.fromkeys(("-s", "--source", "--src", "-d", "--destination", "--dst"), _address),
    **dict.fromkeys(("-i", "--in-interface"), _interface),
    **dict.fromkeys(("--state", "--ctstate"), _state),
    **dict.fromkeys(("-m", "--match"), _module),
}
"""What an option with its value, and with ``!`` before it, says of a new connection; None: nothing."""
_PORT_OPTIONS: Final = frozenset(("--dport", "--destination-port", "--dports", "--destination-ports"))
_TARGET_OPTIONS: Final = frozenset(("-j", "--jump", "-g", "--goto"))


def _other_target(name: str, option: str) -> Verdict:
    if name in _PASS_ON:
        return "none"
    return "goto" if option in ("-g", "--goto") else "jump"


def _ports(text: str) -> Ports | None:
    found = []
    for part in text.split(","):
        low, colon, high = part.partition(":")
        first = port_number(low or "0")
        last = port_number(high or "65535") if colon else first
        if first is None or last is None:
            return None
        found.append((first, last))
    return tuple(found)
