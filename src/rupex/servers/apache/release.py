"""Which httpd it is, and what that release does by default."""

from __future__ import annotations

import re
from functools import cache
from importlib import resources
from typing import Any

import msgspec
from msgspec import Struct

from rupex.host.packages import DPKG_STATUS, taken_version, upstream_version
from rupex.model import Provenance, RupexError, Setting, default_of
from rupex.servers.family import Surroundings

_PACKAGES = ("apache2", "apache2-bin", "httpd", "apache")


class Release(Struct, frozen=True):
    """One release of httpd. ``is_debian``: as Debian and its kin build it."""

    number: tuple[int, ...]
    provenance: Provenance
    is_assumed: bool = False
    is_debian: bool = False

    def __str__(self) -> str:
        return ".".join(map(str, self.number))

    def setting(self) -> Setting[str]:
        return Setting(str(self), self.provenance)


@cache
def _table() -> dict[str, Any]:
    text = resources.files("rupex.servers.apache").joinpath("defaults.toml").read_bytes()
    table: dict[str, Any] = msgspec.toml.decode(text)
    return table


def parse_release(text: str) -> tuple[int, ...]:
    """``2.4`` or ``2.4.62`` as numbers. Raises :class:`~rupex.model.RupexError`."""
    if not re.fullmatch(r"\d{1,4}(\.\d{1,4}){1,2}", text):
        raise RupexError(f"{text!r} is no httpd version; one looks like 2.4.62")
    numbers = tuple(int(part) for part in text.split("."))
    return numbers if len(numbers) == 3 else (*numbers, 0)


def find_release(around: Surroundings) -> Release:
    """The release by what the user says, else by what the snapshot or the package database says, else the newest known."""
    is_debian = around.tree.is_file("etc/apache2/apache2.conf") or around.tree.is_file(DPKG_STATUS)
    said = around.assumed.get("apache")
    if said is not None:
        return Release(parse_release(said), Provenance("default", note="as assumed by the user"), is_debian=is_debian)
    told = taken_version(around.tree, "apache")
    for found in (told, *(upstream_version(around.tree, package) for package in _PACKAGES)):
        if found is not None and re.fullmatch(r"\d+\.\d+\.\d+", found.version):
            return Release(parse_release(found.version), found.provenance, is_debian=is_debian)
    newest = parse_release(_table()["newest"])
    note = f"no version found in the tree; {_table()['newest']} assumed, give --assume apache=VERSION"
    return Release(newest, Provenance("default", note=note), is_assumed=True, is_debian=is_debian)


def default(directive: str, release: Release) -> Setting[Any]:
    """What ``release`` does without ``directive``."""
    value = None
    for row in _table()[directive]:
        if parse_release(row["since"]) <= release.number:
            value = row["value"]
    return Setting(value, default_of(f"httpd {release}", "version assumed" if release.is_assumed else ""))
