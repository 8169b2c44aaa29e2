"""Products and their versions, as servers name themselves (RFC 9110, 10.1.5 and 10.2.4)."""

from __future__ import annotations

import re
from functools import cache

from rupex.families import all_facts

_VERSION = re.compile(r"/\s*v?\d|\b\d+\.\d+")


def tells_version(text: str) -> bool:
    """Whether ``text`` (a Server header, the foot of an error page) has a version number in it."""
    return _VERSION.search(text) is not None


_TRACE = re.compile(
    r"Traceback \(most recent call last\)|\bat [\w$.]+\([\w$]+\.java:\d+\)|\bat [\w.]+ in [A-Z]:\\\\?[^ <]+:line \d+"
    r"|(?:Fatal error|Warning|Notice)</?b?>?: .{0,200} on line|\bin (/(?:var|srv|home|usr|opt|app)/[\w./-]+)",
)


@cache
def _signature() -> re.Pattern[str]:
    """The name of a product with a version behind it."""
    names = "|".join(name for facts in all_facts() for name in facts.products)
    return re.compile(rf"\b(?:{names})(?:\(|/| )v?\d[\w.]*")


def telling_line(body: str) -> str:
    """What an error page tells of the inside: a stack trace, a path, or a product with its version; empty for nothing."""
    found = _TRACE.search(body) or _signature().search(body)
    return "" if found is None else " ".join(found[0].split())[:120]


def tells_inside(text: str) -> bool:
    """Whether ``text``, as of :func:`telling_line`, is a trace or a path."""
    return _TRACE.search(text) is not None
