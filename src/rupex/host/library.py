"""The crypto library of a host: its release and the security level it starts with."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Final

from rupex.host.packages import upstream_version
from rupex.host.tree import HostTree, TreeError
from rupex.model import RupexError
from rupex.tls.openssl import Library

_PACKAGES: Final = ("libssl3t64", "libssl3", "libssl1.1", "libssl1.0.2", "libssl1.0.0")
_CONFIGURATIONS: Final = ("etc/ssl/openssl.cnf", "etc/pki/tls/openssl.cnf")
_LEVEL = re.compile(r"^\s*CipherString\s*=\s*\S*@SECLEVEL=([0-5])", re.MULTILINE)


def find_library(tree: HostTree, assumed: Mapping[str, str]) -> Library:
    """OpenSSL's release by what the user says, else by the tree's package database, else unknown."""
    said = assumed.get("openssl")
    if said is not None:
        found = re.fullmatch(r"(\d+)\.(\d+)(?:\.(\d+))?[a-z]*", said)
        if found is None:
            raise RupexError(f"{said!r} is no OpenSSL version; one looks like 3.0 or 1.0.2u")
        return _library(tree, tuple(int(part or 0) for part in found.groups()), is_debian=False)
    for package in _PACKAGES:
        version = upstream_version(tree, package)
        number = version and re.match(r"(\d+)\.(\d+)\.(\d+)", version.version)
        if number:
            return _library(tree, tuple(map(int, number.groups())), is_debian=True)
    return Library()


def _library(tree: HostTree, release: tuple[int, ...], *, is_debian: bool) -> Library:
    # Upstream starts at 1, and at 2 since 3.2; Debian and its kin build with 2 since 1.1.1.
    level = 2 if release >= (3, 2, 0) or (is_debian and release >= (1, 1, 1)) else 1
    for path in _CONFIGURATIONS:
        try:
            text = tree.read(path).decode("utf-8", "replace")
        except TreeError:
            continue
        found = _LEVEL.search(text)
        if found is not None:
            level = int(found[1])
    return Library(release, level)
