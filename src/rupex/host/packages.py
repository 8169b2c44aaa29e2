"""Versions of installed software, from the distribution's package database in the tree."""

from __future__ import annotations

import re
from weakref import WeakKeyDictionary

from msgspec import Struct

from rupex.host.tree import HostTree, TreeError
from rupex.model import Provenance, bounds

DPKG_STATUS = "var/lib/dpkg/status"  # deb-old / dpkg(1), FILES

_STANZA = re.compile(r"^Package: (\S+)$(.*?)(?=^$|\Z)", re.MULTILINE | re.DOTALL)
_VERSION = re.compile(r"^Version: (?:\d+:)?([^\s-]+)", re.MULTILINE)
_INSTALLED = re.compile(r"^Status: \S+ \S+ installed$", re.MULTILINE)


class PackageVersion(Struct, frozen=True):
    """``version`` is the upstream part: without epoch and the distribution's revision."""

    version: str
    provenance: Provenance


_cache: WeakKeyDictionary[HostTree, dict[str, PackageVersion]] = WeakKeyDictionary()


def upstream_version(tree: HostTree, package: str) -> PackageVersion | None:
    """The installed version of ``package``, or None when the tree's database does not list it."""
    found = _cache.get(tree)
    if found is None:
        found = _cache[tree] = _read(tree)
    return found.get(package)


def _read(tree: HostTree) -> dict[str, PackageVersion]:
    try:
        text = tree.read(DPKG_STATUS, bounds.CONFIG_TOTAL_BYTES).decode("utf-8", "replace")
    except TreeError:
        return {}
    found: dict[str, PackageVersion] = {}
    line, counted = 1, 0
    for stanza in _STANZA.finditer(text):
        version = _VERSION.search(stanza[2])
        if version is not None and _INSTALLED.search(stanza[2]):
            line, counted = line + text.count("\n", counted, stanza.start()), stanza.start()
            found[stanza[1]] = PackageVersion(version[1], Provenance("explicit", DPKG_STATUS, line, 1))
    return found
