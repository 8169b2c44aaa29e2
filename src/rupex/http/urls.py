"""The parts of URLs that redirects are judged by. Ten thousand sites have forty thousand of them, so nothing more is read."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple


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


def authority_of(name: str, port: int, usual: int) -> str:
    """``name``, with its ``port`` where that is not the ``usual`` one of the scheme."""
    return name if port == usual else f"{name}:{port}"
