"""The rules of the rewrite valve (org.apache.catalina.valves.rewrite), as far as a request decides them.

Its language looks like another server's and is not the same: a pattern must match the whole path, not a part of it; the
host's name comes without its port; a query string goes along unless the target has a question mark. All of it as
Tomcat 10.1.60 and 9.0.70 answered.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Final, NamedTuple
from urllib.parse import quote

from rupex.masking.quoting import quoted
from rupex.model import Provenance
from rupex.model.budget import filled, spend
from rupex.model.numbers import whole_number
from rupex.servers.common.patterns import UndeterminedError, search

_STATUS_WORDS: Final = {"": 302, "temp": 302, "permanent": 301, "seeother": 303}
_FLAG_NAMES: Final = {
    "redirect": "R", "last": "L", "forbidden": "F", "gone": "G", "nocase": "NC", "ornext": "OR", "qsappend": "QSA",
    "chain": "C", "next": "N", "skip": "S", "qsdiscard": "QSD", "noescape": "NE",
}  # fmt: skip
_READ: Final = frozenset(("R", "L", "F", "G", "NC", "OR", "QSA", "NE"))
_REFERENCE: Final = re.compile(r"\\(.)|([$%])(\d)|%\{([^{}:]*)\}|([$%]\{)")
_SCHEME: Final = re.compile(r"[a-z][a-z0-9+.-]*:", re.IGNORECASE)
_KEPT: Final = "-._~!$&'()*+,;=:@/?%"


class Condition(NamedTuple):
    test: str
    pattern: str
    flags: Mapping[str, str]


class Rule(NamedTuple):
    """``conditions``: those before it. ``unread``: why the rule cannot be followed; where its ``pattern`` is empty, it may
    concern every path."""

    pattern: str
    substitution: str
    flags: Mapping[str, str]
    conditions: tuple[Condition, ...]
    place: Provenance
    unread: str = ""


class Rewritten(NamedTuple):
    """What rules made of a request: a ``status`` (with a ``location`` for a redirect), or another ``path`` to go on with.
    Without ``by`` no rule held. ``goes_on``: no rule changed the path, so that the request goes its way all the same."""

    by: Provenance | None = None
    status: int | None = None
    location: str | None = None
    path: str = ""
    goes_on: bool = False


class Subject(NamedTuple):
    """A request as rules see it. ``path``: what patterns are matched against, below ``context_path`` for an application's
    rules; ``variables``: by name, None where it is not known."""

    path: str
    query: str | None
    variables: Mapping[str, str]
    context_path: str | None = None


def parse_rules(file: str, text: str) -> tuple[Rule, ...]:
    """The rules in ``text``, each with the conditions before it. What is not understood is a rule that says so."""
    found: list[Rule] = []
    conditions: list[Condition] = []
    for number, line in enumerate(text.split("\n"), 1):
        words = line.split()
        if not words or words[0].startswith("#"):
            continue
        place = Provenance("explicit", file, number, len(line) - len(line.lstrip()) + 1)
        flags = _flags(words[3]) if len(words) > 3 else {}
        is_plain = 3 <= len(words) <= 4 and '"' not in line
        if words[0] == "RewriteCond" and is_plain:
            conditions.append(Condition(words[1], words[2], flags))
            continue
        is_rule = words[0] == "RewriteRule" and is_plain
        unread = "" if is_rule else f"{quoted(line.strip())} is not one that Rupex can read"
        odd = sorted(set(flags) - _READ)
        if odd and not unread:
            unread = f"the flag {odd[0]} of a rewrite rule is not followed"
        pattern, substitution = (words[1], words[2]) if is_rule else ("", "")
        found.append(Rule(pattern, substitution, flags, tuple(conditions), place, unread))
        conditions = []
    return tuple(found)


def _flags(text: str) -> dict[str, str]:
    pairs = (part.strip().partition("=") for part in text.removeprefix("[").removesuffix("]").split(","))
    return {_FLAG_NAMES.get(name.lower(), name.upper()): value for name, _, value in pairs if name}


def rewrite(rules: tuple[Rule, ...], subject: Subject, release: tuple[int, ...]) -> Rewritten:
    """Follow ``rules``, in order. Raises :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    path, by, adds_query = subject.path, None, False
    for rule in rules:
        spend(1)
        if rule.unread and not rule.pattern:
            raise UndeterminedError(rule.unread)
        target = _target(rule, path, subject)
        if target is None:
            continue
        if rule.unread:  # it matters only where its pattern holds
            raise UndeterminedError(rule.unread)
        if target != path:
            path, by = target, rule.place
        adds_query = adds_query or "QSA" in rule.flags
        if "F" in rule.flags or "G" in rule.flags:
            return Rewritten(rule.place, 403 if "F" in rule.flags else 410, goes_on=by is None)
        if "R" in rule.flags:
            status_word = rule.flags["R"].lower()
            status = whole_number(status_word, most=999) or _STATUS_WORDS.get(status_word, 302)
            location = _location(path, subject, release, adds_query=adds_query, escapes="NE" not in rule.flags)
            return Rewritten(rule.place, status, location, goes_on=by is None)
        if "L" in rule.flags:
            break
    return Rewritten(by, path=path.partition("?")[0]) if by is not None else Rewritten()


def _location(target: str, subject: Subject, release: tuple[int, ...], *, adds_query: bool, escapes: bool) -> str:
    location = quote(target, safe=_KEPT if escapes else f"{_KEPT}#", errors="replace")
    if subject.query:
        if "?" not in location:
            location += f"?{subject.query}"
        elif adds_query:
            location += f"&{subject.query}"
        elif location.endswith("?") and release >= (10, 1):
            location = location[:-1]
    is_below = subject.context_path is not None and location.startswith("/") and _SCHEME.match(location) is None
    return f"{subject.context_path}{location}" if is_below else location


def _target(rule: Rule, path: str, subject: Subject) -> str | None:
    """What a rule makes of ``path``; None when it is not meant."""
    found = search(rf"\A(?:{rule.pattern})\Z", path, ignore_case="NC" in rule.flags)
    if found is None:
        return None
    groups = [found.group(), *found.groups()]
    last: list[str | None] = []
    waiting = iter(rule.conditions)
    held: list[str | None] | None = []
    for condition in waiting:
        held = _held(condition, groups, last, subject)
        if held is not None:
            last = held or last
            while "OR" in condition.flags:  # the others of the same row need not be asked
                following = next(waiting, None)
                if following is None:
                    break
                condition = following
        elif "OR" not in condition.flags:
            return None
    if held is None:  # the last one failed, whatever its flag says
        return None
    return path if rule.substitution == "-" else _filled(rule.substitution, groups, last, subject)


def _held(
    condition: Condition, groups: list[str | None], last: list[str | None], subject: Subject
) -> list[str | None] | None:
    """The groups of a condition that holds, an empty list where it has none; None when it does not hold."""
    value = _filled(condition.test, groups, last, subject)
    pattern = condition.pattern
    is_not = pattern.startswith("!")
    pattern = pattern.removeprefix("!")
    if pattern in ("-d", "-f", "-s"):
        raise UndeterminedError(f"a rewrite rule asks whether {quoted(value)} is there")
    if pattern[:1] in ("=", "<", ">"):
        other = pattern[1:]
        if "NC" in condition.flags:
            value, other = value.lower(), other.lower()
        met = {"=": value == other, "<": value < other, ">": value > other}[pattern[0]]
        return [] if met is not is_not else None
    found = search(rf"\A(?:{pattern})\Z", value, ignore_case="NC" in condition.flags)
    if (found is not None) is is_not:
        return None
    return [found.group(), *found.groups()] if found is not None else []


def _filled(text: str, groups: list[str | None], last: list[str | None], subject: Subject) -> str:
    """``text`` with its references to groups and variables replaced."""

    def value(match: re.Match[str]) -> str:
        escaped, kind, digit, variable, opened = match.groups()
        if escaped is not None:
            return escaped
        if digit is not None:
            known = groups if kind == "$" else last
            return (known[int(digit)] or "") if int(digit) < len(known) else ""
        if opened is not None or variable not in subject.variables:
            raise UndeterminedError(f"a rewrite rule asks for {match[0]}{'' if variable is not None else '…'}")
        return subject.variables[variable]

    return filled(_REFERENCE, value, text)
