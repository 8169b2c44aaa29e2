"""Owners and modes from an mtree manifest, the BSD text format (mtree(5), as general archivers write it).

Read are full paths (``./etc/ssl type=dir mode=0755 uname=root``) and ``/set`` and ``/unset`` lines; the older form
that changes folders line by line is not. Keywords other than type, mode, ownership, size, time and link are passed over.
"""

from __future__ import annotations

import re

from msgspec import Struct

_OCTAL_ESCAPE = re.compile(rb"\\([0-7]{3})")


class ManifestEntry(Struct, frozen=True):
    """What the manifest says of one path; None where it says nothing. ``modified``: seconds since 1970; ``size``: in bytes;
    ``link``: where a symbolic link leads."""

    mode: int | None = None
    owner: str | None = None
    group: str | None = None
    uid: int | None = None
    gid: int | None = None
    modified: float | None = None
    kind: str | None = None
    size: int | None = None
    link: str | None = None


def parse_mtree(text: str) -> dict[str, ManifestEntry]:
    """Read a manifest: path relative to the tree's root (the root itself is ``""``) to its entry.

    Lines that are no mtree are passed over; a value that is no number where one is due counts as absent.
    """
    entries: dict[str, ManifestEntry] = {}
    standing: dict[str, str] = {}
    defaults: dict[str, dict[str, str]] = {}
    # Only what mtree(5) takes for blanks and line ends: a file's name may hold any other character.
    for line in text.replace("\\\n", " ").split("\n"):
        words = [word for word in re.split(r"[ \t\r]+", line) if word]
        if not words or words[0].startswith("#"):
            continue
        given = dict(word.split("=", 1) for word in words[1:] if "=" in word)
        if words[0] == "/set":
            standing.update(given)
        elif words[0] == "/unset":
            for word in words[1:]:
                standing.pop(word, None)
        elif words[0] == "." or "/" in words[0]:
            keywords = standing | given
            path = _path_of(words[0])
            defaults[path] = keywords = defaults.get(path, {}) | keywords  # a later row adds to an earlier one
            entries[path] = ManifestEntry(
                mode=_number(keywords.get("mode"), 8),
                owner=keywords.get("uname"),
                group=keywords.get("gname"),
                uid=_number(keywords.get("uid"), 10),
                gid=_number(keywords.get("gid"), 10),
                modified=_seconds(keywords.get("time")),
                kind=keywords.get("type"),
                size=_number(keywords.get("size"), 10),
                link=_unescaped(keywords["link"]) if "link" in keywords else None,
            )
    return entries


def _path_of(word: str) -> str:
    return "/".join(part for part in _unescaped(word).split("/") if part not in ("", "."))


def _unescaped(word: str) -> str:
    # vis(3) as archivers use it here: a backslash and three octal digits for each byte that is not printable.
    raw = word.encode("utf-8", "surrogateescape")
    return _OCTAL_ESCAPE.sub(lambda match: bytes((int(match[1], 8) & 0xFF,)), raw).decode("utf-8", "surrogateescape")


def _seconds(text: str | None) -> float | None:
    # time=SECONDS.NANOSECONDS; a year past 9999 is no time that anything can show.
    found = re.fullmatch(r"(\d{1,11})(?:\.\d{1,9})?", text or "")
    return float(found[1]) if found else None


def _number(text: str | None, base: int) -> int | None:
    digits = r"0?[0-7]{1,6}" if base == 8 else r"[0-9]{1,18}"
    return int(text, base) if text is not None and re.fullmatch(digits, text) else None
