"""HSTS policies: the value of Strict-Transport-Security (RFC 6797, 6.1)."""

from __future__ import annotations

import re
from datetime import timedelta
from functools import lru_cache
from typing import Final

from msgspec import Struct

HEADER: Final = "Strict-Transport-Security"

_DIRECTIVE = re.compile(r'\s*+([!#$%&\'*+.^_`|~0-9A-Za-z-]++)\s*+(?:=\s*+("(?:[^"\\]|\\.)*+"|[^\s;"]*+))?\s*+')
_LONGEST_SECONDS: Final = 10**10
"""Three centuries; a larger number means the same and would not fit a timedelta."""


class HstsPolicy(Struct, frozen=True):
    """What one valid header conveys."""

    max_age: timedelta
    include_subdomains: bool
    preload: bool


@lru_cache(maxsize=4096)
def parse_hsts(value: str) -> HstsPolicy | None:
    """The policy in ``value``, or None when a browser ignores it: no ``max-age``, one directive twice, bad grammar."""
    directives: dict[str, str] = {}
    for part in value.split(";"):
        if not part.strip():
            continue
        found = _DIRECTIVE.fullmatch(part)
        if found is None:
            return None
        name = found[1].lower()
        if name in directives:
            return None
        directives[name] = (found[2] or "").strip('"')
    age = directives.get("max-age", "")
    if not re.fullmatch(r"[0-9]+", age):
        return None
    seconds = min(int(age[:20]), _LONGEST_SECONDS)
    return HstsPolicy(timedelta(seconds=seconds), "includesubdomains" in directives, "preload" in directives)
