"""Versions of installed software, from the distribution's package database in the tree."""

from __future__ import annotations

import re
from collections.abc import Mapping
from weakref import WeakKeyDictionary

from msgspec import Struct

from rupex.host.tree.host_tree import HostTree, TreeError
from rupex.host.tree.snapshot_tables import VERSIONS, rows_of
from rupex.model import Provenance, bounds

DPKG_STATUS = "var/lib/dpkg/status"  # deb-old / dpkg(1), FILES
APK_INSTALLED = "lib/apk/db/installed"  # apk(5): stanzas with P: for the name and V: for the version

_STANZA = re.compile(r"^Package: (\S+)$(.*?)(?=^$|\Z)", re.MULTILINE | re.DOTALL)
_APK_STANZA = re.compile(r"^P:(\S+)$(.*?)(?=^$|\Z)", re.MULTILINE | re.DOTALL)
_VERSION = re.compile(r"^Version: (?:\d+:)?([^\s-]+)", re.MULTILINE)
_INSTALLED = re.compile(r"^Status: \S+ \S+ installed$", re.MULTILINE)


class PackageVersion(Struct, frozen=True):
    """``version`` is the upstream part: without epoch and the distribution's revision."""

    version: str
    provenance: Provenance


_cache: WeakKeyDictionary[HostTree, dict[str, PackageVersion]] = WeakKeyDictionary()


def taken_version(tree: HostTree, program: str) -> PackageVersion | None:
    """What ``program`` said of its own version when a snapshot was taken; None without a snapshot, or when it was not there."""
    try:
        text = tree.read(VERSIONS).decode("utf-8", "replace")
    except TreeError:
        return None
    for line, (name, version) in enumerate(rows_of(text), 1):
        if name == program:
            return PackageVersion(version, Provenance("explicit", VERSIONS, line, 1))
    return None


def upstream_version(tree: HostTree, package: str) -> PackageVersion | None:
    """The installed version of ``package``, or None when the tree's database does not list it."""
    return installed_packages(tree).get(package)


def installed_packages(tree: HostTree) -> Mapping[str, PackageVersion]:
    """What the tree's database lists as installed, by name."""
    found = _cache.get(tree)
    if found is None:
        found = _cache[tree] = _read(tree)
    return found


def _read(tree: HostTree) -> dict[str, PackageVersion]:
    for path, stanzas, read_one in (
        (DPKG_STATUS, _STANZA, _dpkg_version),
        (APK_INSTALLED, _APK_STANZA, _apk_version),
    ):
        try:
            text = tree.read(path, bounds.CONFIG_TOTAL_BYTES).decode("utf-8", "replace")
        except TreeError:
            continue
        found: dict[str, PackageVersion] = {}
        line, counted = 1, 0
        for stanza in stanzas.finditer(text):
            version = read_one(stanza[2])
            if version is not None:
                line, counted = line + text.count("\n", counted, stanza.start()), stanza.start()
                found[stanza[1]] = PackageVersion(version, Provenance("explicit", path, line, 1))
        return found
    return {}


def _dpkg_version(stanza: str) -> str | None:
    version = _VERSION.search(stanza)
    return version[1] if version is not None and _INSTALLED.search(stanza) else None


def _apk_version(stanza: str) -> str | None:
    version = re.search(r"^V:([^\s-]+)", stanza, re.MULTILINE)
    return version[1] if version is not None else None
