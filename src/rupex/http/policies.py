"""Referrer-Policy (W3C Referrer Policy, 8.1) and Permissions-Policy (W3C Permissions Policy, 5; RFC 9651 dictionaries)."""

from __future__ import annotations

import re
from typing import Final

REFERRER_POLICIES: Final = (
    "no-referrer",
    "same-origin",
    "strict-origin",
    "origin",
    "strict-origin-when-cross-origin",
    "origin-when-cross-origin",
    "no-referrer-when-downgrade",
    "unsafe-url",
)
LEAKING_REFERRERS: Final = frozenset({"no-referrer-when-downgrade", "unsafe-url"})
"""Those that send the path to other origins."""

_MEMBER = re.compile(r"\s*+([a-z*][a-z0-9_.*-]*+)(?:=(\*|\([^()]*+\)|\"[^\"]*+\"|[A-Za-z*?][^\s,;]*+))?\s*+(?:;[^,]*)?")


def effective_referrer(values: list[str]) -> str | None:
    """The policy in force of all values sent: the last one that is known (Referrer Policy, 8.1); None without one."""
    found = None
    for value in values:
        for word in value.split(","):
            if word.strip().lower() in REFERRER_POLICIES:
                found = word.strip().lower()
    return found


def parse_permissions(value: str) -> dict[str, tuple[str, ...]] | None:
    """Feature to its allowlist: ``()`` for nobody; members as written, quotes off. None for what is no dictionary."""
    found: dict[str, tuple[str, ...]] = {}
    for part in _split(value):
        member = _MEMBER.fullmatch(part)
        if member is None:
            return None
        inner = (member[2] or "").strip("()")
        found[member[1]] = tuple(word.strip('"') for word in inner.split())
    return found


def _split(value: str) -> list[str]:
    """The members of a dictionary: at commas outside of quotes and parentheses."""
    return [part for part in re.findall(r"(?:\"[^\"]*\"|\([^()]*\)|[^,])+", value) if part.strip()]
