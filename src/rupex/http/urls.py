"""The parts of URLs that redirects are judged by. Ten thousand sites have forty thousand of them, so nothing more is read."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Final, NamedTuple
from urllib.parse import urljoin


class Parts(NamedTuple):
    """``scheme`` and ``host`` in lower case, empty where there is none; ``host`` without port and user."""

    scheme: str
    host: str
    path: str
    query: str


@lru_cache(maxsize=1 << 17)
def split_url(url: str) -> Parts:
    """The parts of an absolute or relative reference (RFC 3986, 4)."""
    scheme, mark, rest = url.partition("://")
    if not mark:
        scheme, rest = "", url.removeprefix("//") if url.startswith("//") else ""
        if not rest:
            path, _, query = url.partition("#")[0].partition("?")
            return Parts("", "", path, query)
    authority, slash, tail = rest.partition("/")
    if "?" in authority or "#" in authority:
        cut = min(authority.find(mark) for mark in "?#" if mark in authority)
        authority, slash, tail = authority[:cut], "", rest[cut:]
    host = authority.rpartition("@")[2]
    host = host[: host.find("]") + 1] if host.startswith("[") else host.partition(":")[0]
    path, _, query = (slash + tail).partition("#")[0].partition("?")
    return Parts(scheme.lower(), host.strip("[]").lower(), path, query)


def authority_of(name: str, port: int, default_port: int) -> str:
    """``name``, with its ``port`` where that is not the ``default_port`` of the scheme."""
    return name if port == default_port else f"{name}:{port}"


_BEFORE_QUERY: Final = re.compile(r"(?:https?:|(?![a-z][a-z0-9+.-]*+:))[^?#]*+", re.IGNORECASE)
"""What stands before a query and a fragment, of a reference that is relative or of http."""
_AROUND: Final = "".join(map(chr, range(0x21)))
_WITHIN: Final = str.maketrans("", "", "\t\n\r")


def resolved(base: str, reference: str) -> str:
    """Where a browser goes that is at the http URL ``base`` and is told ``reference`` (WHATWG URL, 4.4): blanks around it and
    line ends in it do not count, and a backslash is a slash. What is no URL comes back as it is."""
    stripped = reference.strip(_AROUND).translate(_WITHIN)
    head = _BEFORE_QUERY.match(stripped)
    if head is not None:
        stripped = head[0].replace("\\", "/") + stripped[head.end() :]
    try:
        return urljoin(base, stripped)
    except ValueError:
        return reference
