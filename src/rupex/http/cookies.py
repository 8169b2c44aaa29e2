"""Cookies as a server sets them: the value of Set-Cookie (RFC 6265, 5.2; RFC 6265bis, 5.6 and 4.1.3)."""

from __future__ import annotations

import re
from typing import Final

from msgspec import Struct

HEADER: Final = "Set-Cookie"

_EPOCH = re.compile(r"\b(?:19\d\d|1970|2000)\b")


class Cookie(Struct, frozen=True):
    """One cookie: its ``name`` and attributes. ``same_site`` is lower case, None when not given; ``deletes``: it takes
    the cookie away (an empty lifetime, or one that ended long ago)."""

    name: str
    secure: bool
    http_only: bool
    same_site: str | None
    path: str | None
    domain: str | None
    deletes: bool


def parse_cookie(value: str) -> Cookie | None:
    """The cookie in ``value``, or None when a browser ignores it: no name."""
    pair, *rest = value.split(";")
    name, mark, _ = pair.partition("=")
    if not mark or not name.strip():
        return None
    attributes: dict[str, str] = {}
    for part in rest:
        key, _, word = part.partition("=")
        attributes[key.strip().lower()] = word.strip()  # the last one counts (RFC 6265, 5.3)
    age = attributes.get("max-age", "")
    deletes = bool(re.fullmatch(r"-\d+|0+", age)) if age else bool(_EPOCH.search(attributes.get("expires", "")))
    return Cookie(
        name.strip(),
        "secure" in attributes,
        "httponly" in attributes,
        attributes["samesite"].lower() if "samesite" in attributes else None,
        attributes.get("path"),
        attributes.get("domain") or None,
        deletes,
    )


def broken_prefix(cookie: Cookie) -> str | None:
    """What a name's prefix promises that the attributes do not keep (RFC 6265bis, 4.1.3); None when all is kept."""
    lowered = cookie.name.lower()
    if lowered.startswith(("__secure-", "__host-")) and not cookie.secure:
        return "its prefix asks for Secure"
    if lowered.startswith("__host-") and (cookie.domain is not None or cookie.path != "/"):
        return "its prefix asks for Path=/ and no Domain"
    return None
