"""The text that iptables-save writes and iptables-restore reads (iptables(8), iptables-extensions(8))."""

from __future__ import annotations

import shlex
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
        here = Provenance("explicit", path, number, 1)
        line = line.strip()
        if line.startswith("*"):
            in_filter = line == "*filter"
        elif in_filter and line.startswith(":"):
            name, _, rest = line[1:].partition(" ")
            policies[name] = (_POLICIES.get(rest.split(" ")[0]), here)
            rules.setdefault(name, [])
        elif in_filter and line.startswith(("-A", "--append")):
            try:
                words = shlex.split(line)
            except ValueError:
                continue
            if len(words) > 1:
                rules.setdefault(words[1], []).append(_rule(words[2:], here))
    nowhere = Provenance("explicit", path)
    chains = {name: Chain(tuple(found), *policies.get(name, (None, nowhere))) for name, found in rules.items()}
    return Ruleset(chains, ("INPUT",) if "INPUT" in chains else ())


def _rule(words: list[str], here: Provenance) -> Rule:
    when: list[When] = []
    ports: Ports | None = None
    verdict: Verdict = "none"
    target = ""
    is_not = False
    position = 0

    def value() -> str:
        nonlocal position
        position += 1
        return words[position] if position < len(words) else ""

    while position < len(words):
        word = words[position]
        if word == "!":
            is_not = True
            position += 1
            continue
        if word in ("-p", "--protocol"):
            is_tcp = value().lower() in ("tcp", "6", "all", "0")
            when.append("always" if is_tcp is not is_not else "never")
        elif word in ("--dport", "--destination-port", "--dports", "--destination-ports"):
            ports = _ports(value())
            if ports is None:
                when.append("unknown")
            elif is_not:
                ports = other_ports(ports)
        elif word in ("-s", "--source", "--src", "-d", "--destination", "--dst"):
            if value() in _EVERYWHERE:
                when.append("never" if is_not else "always")
            else:
                when.append("others" if is_not else "some")
        elif word in ("-i", "--in-interface"):
            if value() == "lo":
                when.append("always" if is_not else "never")
            else:
                when.append("others" if is_not else "some")
        elif word in ("--state", "--ctstate"):
            has_new = "NEW" in value().upper().split(",")
            when.append("always" if has_new is not is_not else "never")
        elif word in ("-j", "--jump", "-g", "--goto"):
            name = value()
            verdict, target = _VERDICTS.get(name) or _other_target(name, word), name
        elif word in ("-m", "--match"):
            module = value()
            if module == "recent":
                when.append("some")
            elif module not in _HARMLESS:
                when.append("unknown")
        elif word.startswith("-") and word not in _ALONE:
            value()  # a module's own option, which says nothing that is asked here
        is_not = False
        position += 1
    return Rule(verdict, together(when), ports, target, here)


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
