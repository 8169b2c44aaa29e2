"""What all packet filters have in common: chains of rules, and what becomes of a new TCP connection that meets them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Final, Literal

from msgspec import Struct

from rupex.model import Provenance, Reach

When = Literal["always", "some", "others", "never", "unknown"]
"""For whom a rule's conditions, its ports aside, hold where a new TCP connection is made: for everybody, for some addresses,
networks or interfaces, for all but some, for nobody (loopback, established, another protocol), or nobody can tell."""

Verdict = Literal["accept", "drop", "jump", "goto", "return", "none"]
Policy = Literal["accept", "drop"]
Ports = tuple[tuple[int, int], ...]

MOST_JUMPS: Final = 64
"""nftables lets chains call each other sixteen deep (NFT_JUMP_STACK_SIZE); more are a circle."""


class Rule(Struct, frozen=True):
    """``ports``: the destination ports it is about, from and to; None for any. ``target``: the chain of a jump or goto."""

    verdict: Verdict
    when: When = "always"
    ports: Ports | None = None
    target: str = ""
    provenance: Provenance = Provenance("explicit")


class Chain(Struct, frozen=True):
    """``policy``: what becomes of what no rule decides; None in a chain that is only jumped to."""

    rules: tuple[Rule, ...]
    policy: Policy | None = None
    provenance: Provenance = Provenance("explicit")


class Ruleset(Struct, frozen=True):
    """``hooks``: the names of the chains that every packet for this machine meets; all of them have to let it pass."""

    chains: Mapping[str, Chain]
    hooks: tuple[str, ...]


class Way(Struct, frozen=True):
    """What becomes of a new connection to a port, and the rule that decided."""

    reach: Reach
    provenance: Provenance


_ORDER: Final[tuple[Reach, ...]] = ("closed", "unknown", "limited", "open")
_STRANGER: Final[Mapping[When, When]] = {"some": "never", "others": "always"}
_FAVOURED: Final[Mapping[When, When]] = {"some": "always", "others": "never"}


def together(whens: Iterable[When]) -> When:
    """For whom several conditions hold that must all hold."""
    given = set(whens)
    if "never" in given or {"some", "others"} <= given:
        return "never"
    return next((when for when in ("unknown", "some", "others") if when in given), "always")


def other_ports(ports: Ports) -> Ports:
    """Every port but these."""
    found, start = [], 0
    for low, high in sorted(ports):
        if low > start:
            found.append((start, low - 1))
        start = max(start, high + 1)
    return (*found, (start, 65535)) if start <= 65535 else tuple(found)


def edges(ruleset: Ruleset) -> set[int]:
    """The ports at which a rule may begin to hold, or to hold no more: between them all are treated alike."""
    pairs = [pair for chain in ruleset.chains.values() for rule in chain.rules for pair in rule.ports or ()]
    return {edge for low, high in pairs for edge in (low, high + 1) if edge <= 65535}


def way_to(ruleset: Ruleset, port: int) -> Way | None:
    """What a new TCP connection to ``port`` meets, of a stranger and, where he is shut out, of the addresses that rules speak
    of; None where no chain is asked."""
    ways = [_through(ruleset, name, port) for name in ruleset.hooks]
    return narrowest(ways) if ways else None


def narrowest(ways: Sequence[Way]) -> Way:
    """What becomes of a connection that several filters have to let pass."""
    return min(ways, key=lambda way: _ORDER.index(way.reach))


def _through(ruleset: Ruleset, name: str, port: int) -> Way:
    stranger = _follow(ruleset, name, port, _STRANGER)
    if stranger.reach != "closed":
        return stranger
    favoured = _follow(ruleset, name, port, _FAVOURED)
    return stranger if favoured.reach != "open" else Way("limited", favoured.provenance)


def _follow(ruleset: Ruleset, name: str, port: int, eyes: Mapping[When, When]) -> Way:
    walk = _Walk(ruleset, port, eyes)
    chain = ruleset.chains[name]
    verdict, provenance = walk.follow(chain) or (chain.policy or "accept", chain.provenance)
    if walk.doubt is not None:
        return Way("unknown", walk.doubt)
    return Way("open" if verdict == "accept" else "closed", provenance)


class _Walk:
    """One connection on its way, seen with the ``eyes`` of whoever makes it. ``doubt``: the first rule that may decide."""

    def __init__(self, ruleset: Ruleset, port: int, eyes: Mapping[When, When]) -> None:
        self.ruleset, self.port, self.eyes = ruleset, port, eyes
        self.doubt: Provenance | None = None
        self.jumps = 0

    def follow(self, chain: Chain) -> tuple[Verdict, Provenance] | None:
        """The verdict of the first rule that decides, or None when the chain ends without one."""
        for rule in chain.rules:
            holds = self.eyes.get(rule.when, rule.when)
            is_met = rule.ports is None or any(low <= self.port <= high for low, high in rule.ports)
            if holds == "never" or not is_met or rule.verdict == "none":
                continue
            if holds == "unknown":
                self.doubt = self.doubt or rule.provenance
            elif rule.verdict in ("accept", "drop"):
                return rule.verdict, rule.provenance
            elif rule.verdict == "return":
                return None
            else:
                decided = self._call(rule)
                if decided is not None or rule.verdict == "goto":
                    return decided
        return None

    def _call(self, rule: Rule) -> tuple[Verdict, Provenance] | None:
        self.jumps += 1
        called = self.ruleset.chains.get(rule.target)
        if called is None or self.jumps > MOST_JUMPS:
            self.doubt = self.doubt or rule.provenance
            return None
        return self.follow(called)
