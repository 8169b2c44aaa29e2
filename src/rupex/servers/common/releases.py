"""Which release of a server it is, and what that release does by default: the same questions for every family.

Each family has a ``defaults.toml``: ``newest``, and by setting a list of rows with ``since`` (the first release) and ``value``.
"""

from __future__ import annotations

import re
from functools import cached_property, lru_cache
from typing import Any

import msgspec
from msgspec import Struct

from rupex.families import packages
from rupex.host.facts.packages import taken_version, upstream_version
from rupex.model import Provenance, RupexError, Setting, default_of
from rupex.servers.contract import HostContext


class Release(Struct, frozen=True):
    """One release of a server, and how it is known. ``is_assumed``: nothing in the tree says so."""

    number: tuple[int, ...]
    provenance: Provenance
    is_assumed: bool = False

    def __str__(self) -> str:
        return ".".join(map(str, self.number))

    def setting(self) -> Setting[str]:
        return Setting(str(self), self.provenance)


class Releases:
    """What is known of the releases of one ``family``. ``product``: its name for a person; ``packages``: what it comes
    in, the likeliest first."""

    def __init__(self, family: str, product: str, packages: tuple[str, ...]) -> None:
        self.family, self.product, self.packages = family, product, packages
        self.default = lru_cache(maxsize=256)(self._default)

    @cached_property
    def table(self) -> dict[str, Any]:
        """The family's ``defaults.toml``."""
        text = packages()[self.family].joinpath("defaults.toml").read_bytes()
        table: dict[str, Any] = msgspec.toml.decode(text)
        return table

    def parse(self, text: str) -> tuple[int, ...]:
        """A version of two or three numbers. Raises :class:`~rupex.model.RupexError`."""
        if not re.fullmatch(r"[0-9]{1,4}(\.[0-9]{1,4}){1,2}", text):
            raise RupexError(f"{text!r} is no {self.product} version; one looks like {self.table['newest']}")
        numbers = tuple(int(part) for part in text.split("."))
        return numbers if len(numbers) == 3 else (*numbers, 0)

    def find(self, host_context: HostContext, by_path: Release | None = None, likeliest: str | None = None) -> Release:
        """The release by what the user says, else ``by_path``, else by the snapshot or the package database, packages with
        ``likeliest`` in their name first; else the newest that is known."""
        assumed = host_context.assumed.get(self.family)
        if assumed is not None:
            return Release(self.parse(assumed), Provenance("default", note="as assumed by the user"))
        if by_path is not None:
            return by_path
        packages = sorted(self.packages, key=lambda name: likeliest is None or likeliest not in name)
        snapshot_version = taken_version(host_context.tree, self.family)
        for found in (snapshot_version, *(upstream_version(host_context.tree, package) for package in packages)):
            number = re.match(r"[0-9]{1,4}(?:\.[0-9]{1,4}){2}(?![0-9])", found.version) if found is not None else None
            if found is not None and number is not None:
                return Release(self.parse(number[0]), found.provenance)
        newest = self.table["newest"]
        note = f"no version found in the tree; {newest} assumed, give --assume {self.family}=VERSION"
        return Release(self.parse(newest), Provenance("default", note=note), is_assumed=True)

    def _default(self, name: str, release: Release) -> Setting[Any]:
        """What ``release`` does where ``name`` is not said; its value is None for a release that has no such default."""
        value = None
        for row in self.table[name]:
            if self.parse(row["since"]) <= release.number:
                value = tuple(row["value"]) if isinstance(row["value"], list) else row["value"]
        return Setting(value, default_of(f"{self.product} {release}", "version assumed" if release.is_assumed else ""))
