"""Which nginx it is, and what that release does by default."""

from __future__ import annotations

import re
from functools import cache, lru_cache
from importlib import resources
from typing import Any

import msgspec
from msgspec import Struct

from rupex.host.packages import taken_version, upstream_version
from rupex.model import Provenance, RupexError, Setting, default_of
from rupex.servers.family import Surroundings

_PACKAGES = ("nginx", "nginx-core", "nginx-light", "nginx-full", "nginx-extras", "nginx-common")


class Release(Struct, frozen=True):
    """One release of nginx. ``found``: how it is known, for a person."""

    number: tuple[int, ...]
    provenance: Provenance
    is_assumed: bool = False

    def __str__(self) -> str:
        return ".".join(map(str, self.number))

    def setting(self) -> Setting[str]:
        return Setting(str(self), self.provenance)


@cache
def _table() -> dict[str, Any]:
    text = resources.files("rupex.servers.nginx").joinpath("defaults.toml").read_bytes()
    table: dict[str, Any] = msgspec.toml.decode(text)
    return table


def parse_release(text: str) -> tuple[int, ...]:
    """``1.18`` or ``1.22.1`` as numbers. Raises :class:`~rupex.model.RupexError`."""
    if not re.fullmatch(r"\d{1,4}(\.\d{1,4}){1,2}", text):
        raise RupexError(f"{text!r} is no nginx version; one looks like 1.22.1")
    numbers = tuple(int(part) for part in text.split("."))
    return numbers if len(numbers) == 3 else (*numbers, 0)


def find_release(around: Surroundings) -> Release:
    """The release by what the user says, else by the tree's package database, else the newest that Rupex knows."""
    said = around.assumed.get("nginx")
    if said is not None:
        return Release(parse_release(said), Provenance("default", note="as assumed by the user"))
    told = taken_version(around.tree, "nginx")
    for found in (told, *(upstream_version(around.tree, package) for package in _PACKAGES)):
        if found is not None and re.fullmatch(r"\d+\.\d+\.\d+", found.version):
            return Release(parse_release(found.version), found.provenance)
    newest = parse_release(_table()["newest"])
    note = f"no version found in the tree; {_table()['newest']} assumed, give --assume nginx=VERSION"
    return Release(newest, Provenance("default", note=note), is_assumed=True)


@cache
def directives_by_release() -> dict[str, tuple[tuple[int, ...] | None, tuple[int, ...] | None]]:
    """Directives that not every release knows: the first that does, and the first that no longer does."""
    table = _table()["directives"]
    return {
        name: (
            parse_release(row["since"]) if "since" in row else None,
            parse_release(row["until"]) if "until" in row else None,
        )
        for name, row in table.items()
    }


@lru_cache(maxsize=256)
def default(directive: str, release: Release) -> Setting[Any]:
    """What ``release`` does without ``directive``; its value is None for a release that has no such default."""
    value = None
    for row in _table()[directive]:
        if parse_release(row["since"]) <= release.number:
            value = tuple(row["value"]) if isinstance(row["value"], list) else row["value"]
    return Setting(value, default_of(f"nginx {release}", "version assumed" if release.is_assumed else ""))
