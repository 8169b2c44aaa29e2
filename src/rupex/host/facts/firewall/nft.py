"""The language of nftables (nft(8)): tables, chains, sets and rules, as far as a new TCP connection meets them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from functools import partial
from typing import Final

from msgspec import Struct

from rupex.host.facts.firewall.rules import Chain, Policy, Ports, Rule, Ruleset, Verdict, When, other_ports, together
from rupex.host.facts.firewall.services import port_number
from rupex.model import Provenance

_TOKEN = re.compile(r'#[^\n]*|\\\r?\n|[ \t\r]+|(?P<word>"[^"\n]*"|[{};,\n]|!=|==|[<>]=?|[^\s{};,"#!=<>]+|.)', re.DOTALL)
_VERDICTS: Final[dict[str, Verdict]] = {"accept": "accept", "drop": "drop", "reject": "drop", "return": "return"}
_FAMILIES: Final = frozenset(("ip", "ip6", "inet", "arp", "bridge", "netdev"))
_STRANGER_FAMILIES: Final = frozenset(("ip", "inet"))
_OTHER_PROTOCOLS: Final = frozenset("udp udplite icmp icmpv6 igmp esp ah comp sctp dccp vlan arp ether".split())
_TELLING: Final = frozenset(
    "counter packets bytes quota limit rate burst comment prefix level flags with type log".split()
)
"""What counts, tells or slows down."""
_DEEPEST: Final = 16


class NftError(Exception):
    """The text is written in a way that is not read here, so nobody knows what its rules do."""


class _Token(Struct, frozen=True):
    text: str
    line: int


class _Made(Struct):
    """What has been read: ``sets`` and ``variables`` by name, as words."""

    chains: dict[str, Chain]
    hooks: list[str]
    sets: dict[str, list[str]]
    variables: dict[str, list[str]]


def parse_nft(
    path: str, text: str, include: Callable[[str], Iterator[tuple[str, str]]] = lambda _: iter(())
) -> Ruleset:
    """The input chains of ``text`` and what they call. ``include``: a pattern to the files (path, text) that it names.
    Raises :class:`NftError` for the forms that change a ruleset rule by rule."""
    made = _Made({}, [], {}, {})
    _read(path, text, include, made, 0)
    return Ruleset(made.chains, tuple(made.hooks))


def _read(path: str, text: str, include: Callable[[str], Iterator[tuple[str, str]]], made: _Made, depth: int) -> None:
    if depth > _DEEPEST:
        raise NftError("files that include each other")
    tokens = _tokens(text)
    for statement in _statements(tokens):
        words = [token.text for token in statement]
        match words:
            case ["include", pattern]:
                for other, content in include(pattern.strip('"')):
                    _read(other, content, include, made, depth + 1)
            case ["define", name, "=", *value]:
                made.variables[name] = _flat(value, made)
            case ["flush" | "destroy" | "delete", *_] | ["add" | "create", "table", *_] | ["#!", *_]:
                if words[0] in ("flush", "destroy", "delete") and words[1:2] == ["ruleset"]:
                    made.chains.clear()
                    made.hooks.clear()
            case ["table", *head] if "{" in head:
                _table(path, statement, made)
            case ["table", *_]:
                pass
            case _:
                raise NftError(f"{words[0]} in line {statement[0].line} is no table in braces")


def _tokens(text: str) -> list[_Token]:
    found, line, counted = [], 1, 0
    for match in _TOKEN.finditer(text):
        if match["word"] is not None:
            line, counted = line + text.count("\n", counted, match.start()), match.start()
            found.append(_Token(match["word"], line))
    return found


def _statements(tokens: list[_Token]) -> Iterator[list[_Token]]:
    """Cut at line ends and semicolons outside of braces."""
    current: list[_Token] = []
    depth = 0
    for token in tokens:
        depth += (token.text == "{") - (token.text == "}")
        if depth <= 0 and token.text in (";", "\n"):
            if current:
                yield current
            current = []
        elif token.text != "\n" or depth > 0:
            current.append(token)
    if current:
        yield current


def _inner(statement: list[_Token]) -> list[_Token]:
    """What stands between the first brace and its end; nothing where there is none."""
    start = next((index for index, token in enumerate(statement) if token.text == "{"), len(statement))
    return statement[start + 1 : -1] if statement[-1].text == "}" else statement[start + 1 :]


def _table(path: str, statement: list[_Token], made: _Made) -> None:
    head = [token.text for token in statement[1 : next(i for i, t in enumerate(statement) if t.text == "{")]]
    family = next((word for word in head[:1] if word in _FAMILIES), "ip")
    name = " ".join(head)
    parts = [part for part in _statements(_inner(statement)) if len(part) > 1]
    for part in parts:  # sets may stand behind the rules that use them
        if part[0].text == "set":
            made.sets[f"{name}/{part[1].text}"] = _elements(part, made)
    for part in parts:
        if part[0].text == "chain" and any(token.text == "{" for token in part):
            _chain(path, name, family, part, made)


def _elements(part: list[_Token], made: _Made) -> list[str]:
    for inner in _statements(_inner(part)):
        if [token.text for token in inner[:2]] == ["elements", "="]:
            return _flat([token.text for token in inner[2:]], made)
    return []


def _chain(path: str, table: str, family: str, part: list[_Token], made: _Made) -> None:
    rules: list[Rule] = []
    policy: Policy | None = None
    place = Provenance("explicit", path, part[0].line, 1)
    identity = f"{table}/{part[1].text}"
    for statement in _statements(_inner(part)):
        words = [token.text for token in statement]
        if words[0] == "type" and "hook" in words:
            policy = "accept"
            hook = words[words.index("hook") + 1 :][:1]
            if hook == ["input"] and words[1] == "filter" and family in _STRANGER_FAMILIES:
                made.hooks.append(identity)
        elif words[0] == "policy":
            policy = "drop" if words[1:2] == ["drop"] else "accept"
            place = Provenance("explicit", path, statement[0].line, 1)
        else:
            rules += _rules(words, table, Provenance("explicit", path, statement[0].line, 1), made)
    before = made.chains.get(identity, Chain(()))  # a chain may be written in several parts
    made.chains[identity] = Chain((*before.rules, *rules), policy or before.policy, place)


class _Words:
    """The words of one rule, taken one by one."""

    def __init__(self, words: list[str], table: str, made: _Made) -> None:
        self.words, self.position, self.table, self.made = words, 0, table, made

    def next(self) -> str:
        self.position += 1
        return self.words[self.position - 1] if self.position <= len(self.words) else ""

    def peek(self) -> str:
        return self.words[self.position] if self.position < len(self.words) else ""

    def value(self) -> tuple[bool, list[str]]:
        """The right side of a comparison: whether it is negated, and its words, sets and variables filled in."""
        is_not = self.peek() == "!="
        if self.peek() in ("!=", "=="):
            self.next()
        words = [self.next()]
        if words == ["{"]:
            depth = 1
            while depth and self.position < len(self.words):
                words.append(self.next())
                depth += (words[-1] == "{") - (words[-1] == "}")
        else:
            while self.peek() == ",":
                words += [self.next(), self.next()]
        return is_not, _flat(words, self.made, self.table)


def _flat(words: list[str], made: _Made, table: str = "") -> list[str]:
    """The elements of a value without braces and commas; sets and variables replaced by what is in them."""
    found: list[str] = []
    for word in words:
        if word.startswith("$"):
            found += made.variables.get(word[1:], [word])
        elif word.startswith("@"):
            found += made.sets.get(f"{table}/{word[1:]}", [word])
        elif word not in ("{", "}", ",", "\n"):
            found.append(word.strip('"'))
    return found


def _rules(words: list[str], table: str, place: Provenance, made: _Made) -> list[Rule]:
    """One statement as rules: a verdict map gives one for each of its entries."""
    reader = _Words(words, table, made)
    when: list[When] = []
    ports: Ports | None = None
    found: list[Rule] = []
    make = partial(Rule, provenance=place)
    while word := reader.next():
        if word in ("tcp", "th"):
            field = reader.next()
            if field != "dport":
                reader.value()
                when.append("unknown" if field != "flags" else "always")
            elif reader.peek() == "vmap":
                reader.next()
                entries = _verdict_map(reader)
                found += [make(verdict, together(when), _ports(keys), target) for keys, verdict, target in entries]
            else:
                is_not, values = reader.value()
                ports = _ports(values)
                when.append("unknown" if ports is None else "always")
                ports = other_ports(ports) if is_not and ports is not None else ports
        elif word in _VERDICTS:
            found.append(make(_VERDICTS[word], together(when), ports))
            break
        elif word in ("jump", "goto"):
            found.append(make("jump" if word == "jump" else "goto", together(when), ports, f"{table}/{reader.next()}"))
            break
        else:
            when.append(_condition(word, reader))
    return found


def _condition(word: str, reader: _Words) -> When:
    """When one condition holds, its words taken off ``reader``."""
    if word in _OTHER_PROTOCOLS:
        return "never"
    if word == "ct":
        return _tracked(reader)
    if word in ("iif", "iifname", "meta", "oif", "oifname"):
        key = reader.next() if word == "meta" else word
        is_not, values = reader.value()
        return _meta(key, values, is_not=is_not)
    if word in ("ip", "ip6"):
        return _address(word, reader)
    if word in _TELLING:
        return _passing(word, reader)
    return "unknown"


def _passing(word: str, reader: _Words) -> When:
    """Statements that count, tell or slow down, and let pass; but above a limit is nobody who keeps below it."""
    if word == "limit":
        over = False
        while (
            reader.peek() and reader.peek() not in _VERDICTS and reader.peek() not in ("jump", "goto", "counter", "log")
        ):
            over = reader.next() == "over" or over
        return "never" if over else "always"
    if word not in ("counter", "log", "limit"):
        reader.next()
    return "always"


def _tracked(reader: _Words) -> When:
    key = reader.next()
    if reader.peek() == "vmap":
        reader.next()
        decided = [verdict for keys, verdict, _ in _verdict_map(reader) if "new" in keys]
        return "unknown" if decided else "never"
    is_not, values = reader.value()
    if key != "state":
        return "unknown"
    return "always" if ("new" in values) is not is_not else "never"


def _meta(key: str, values: list[str], *, is_not: bool) -> When:
    if key in ("iif", "iifname"):
        if values == ["lo"]:
            return "always" if is_not else "never"
        return "others" if is_not else "some"
    if key in ("l4proto", "protocol"):
        if key == "protocol":
            return "always" if ("ip" in values) is not is_not else "never"
        return "always" if ("tcp" in values or "6" in values) is not is_not else "never"
    if key == "nfproto":
        return "always" if ("ipv4" in values) is not is_not else "never"
    return "never" if key in ("oif", "oifname") else "unknown"


def _address(word: str, reader: _Words) -> When:
    key = reader.next()
    is_not, values = reader.value()
    if word == "ip6":
        return "never"  # a stranger by IPv4 is asked about
    if key in ("protocol",):
        return "always" if ("tcp" in values or "6" in values) is not is_not else "never"
    if key in ("saddr", "daddr"):
        if "0.0.0.0/0" in values:
            return "never" if is_not else "always"
        return "others" if is_not else "some"
    return "unknown"


def _verdict_map(reader: _Words) -> list[tuple[list[str], Verdict, str]]:
    """The entries of a map to verdicts: keys, verdict, and the chain of a jump."""
    found: list[tuple[list[str], Verdict, str]] = []
    if reader.next() != "{":
        return found
    keys: list[str] = []
    while (word := reader.next()) and word != "}":
        if word == ":":
            verdict = reader.next()
            if verdict in ("jump", "goto"):
                found.append((keys, "jump" if verdict == "jump" else "goto", f"{reader.table}/{reader.next()}"))
            elif verdict in _VERDICTS:
                found.append((keys, _VERDICTS[verdict], ""))
            keys = []
        elif word not in (",", "\n"):
            keys += _flat([word], reader.made, reader.table)
    return found


def _ports(values: list[str]) -> Ports | None:
    found = []
    for value in values:
        low, dash, high = (value, "", "") if port_number(value) is not None else value.rpartition("-")
        first = port_number(low)
        last = port_number(high) if dash else first
        if first is None or last is None:
            return None
        found.append((first, last))
    return tuple(found)
