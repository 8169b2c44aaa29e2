"""The crypto library of a host: its release, and the policy that the system sets for all programs."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Final

from rupex.host.facts.packages import DPKG_STATUS, taken_version, upstream_version
from rupex.host.tree.host_tree import HostTree, TreeError
from rupex.model import Problem, RupexError
from rupex.tls.openssl import Library
from rupex.tls.opensslconf import Assignment, RefusedFileError, parse_system_default

_PACKAGES: Final = ("libssl3t64", "libssl3", "libssl1.1", "libssl1.0.2", "libssl1.0.0")
_CONFIGURATIONS: Final = ("etc/ssl/openssl.cnf", "etc/pki/tls/openssl.cnf", "usr/lib/ssl/openssl.cnf")
_PROFILES: Final = ("etc/crypto-policies/back-ends/openssl.config",)
_LEVEL = re.compile(r"@SECLEVEL=([0-5])")


def find_library(tree: HostTree, assumed: Mapping[str, str], problems: list[Problem]) -> Library:
    """OpenSSL's release by what the user says, else by the tree's package database, else unknown; with the tree's
    ``openssl.cnf``, of which what cannot be read is added to ``problems``. Raises :class:`~rupex.model.RupexError` for a version
    that is none."""
    settings = _system_settings(tree, problems)
    assumed_version = assumed.get("openssl")
    if assumed_version is not None:
        return _with_policy(tree, settings, parse_release(assumed_version), is_debian=False)
    for package in _PACKAGES:
        version = upstream_version(tree, package)
        number = version and re.match(r"([0-9]{1,3})\.([0-9]{1,3})\.([0-9]{1,3})(?![0-9])", version.version)
        if number:
            is_debian = version is not None and version.provenance.file == DPKG_STATUS
            return _with_policy(tree, settings, tuple(map(int, number.groups())), is_debian=is_debian)
    snapshot_version = taken_version(tree, "openssl")
    if snapshot_version is not None and re.fullmatch(r"[0-9]{1,3}\.[0-9]{1,3}\.[0-9]{1,3}", snapshot_version.version):
        return _with_policy(
            tree, settings, parse_release(snapshot_version.version), is_debian=tree.is_file("etc/debian_version")
        )
    return _with_policy(tree, settings, None, is_debian=False)


def parse_release(text: str) -> tuple[int, ...]:
    """``3.0`` or ``1.0.2u`` as three numbers. Raises :class:`~rupex.model.RupexError`."""
    found = re.fullmatch(r"([0-9]{1,3})\.([0-9]{1,3})(?:\.([0-9]{1,3}))?[a-z]*", text)
    if found is None:
        raise RupexError(f"{text!r} is no OpenSSL version; one looks like 3.0 or 1.0.2u")
    return tuple(int(part or 0) for part in found.groups())


def _with_policy(
    tree: HostTree, settings: Mapping[str, Assignment], release: tuple[int, ...] | None, *, is_debian: bool
) -> Library:
    # Upstream starts at 1, and at 2 since 3.2; Debian and its kin build with 2 since 1.1.1.
    newest = release is not None and (release >= (3, 2, 0) or (is_debian and release >= (1, 1, 1)))
    level = 2 if newest else 1
    # A system-wide section is applied since 1.1.0 (SSL_CTX_new; changes of 1.1.0, "SSL configuration").
    if release is not None and release < (1, 1, 0):
        settings = {}

    def value(*names: str) -> str | None:
        return next((settings[name.lower()][0] for name in names if name.lower() in settings), None)

    ciphers = value("CipherString")
    stated = _LEVEL.search(ciphers or "")
    profile = next((text.strip() for path in _PROFILES if (text := _text(tree, path))), None)
    return Library(
        release,
        int(stated[1]) if stated else level,
        minimum=value("MinProtocol", "TLS.MinProtocol"),
        maximum=value("MaxProtocol", "TLS.MaxProtocol"),
        ciphers=ciphers,
        ciphersuites=value("Ciphersuites"),
        groups=value("Groups", "Curves"),
        signatures=value("SignatureAlgorithms"),
        options=value("Options"),
        profile=profile,
        provenance=next(iter(settings.values()))[1] if settings else None,
    )


def _system_settings(tree: HostTree, problems: list[Problem]) -> dict[str, Assignment]:
    for path in _CONFIGURATIONS:
        text = _text(tree, path)
        if text:
            try:
                found = parse_system_default(path, text, lambda target: _included(tree, target))
            except RefusedFileError as refused:
                problems.append(Problem(refused.kind, refused.path, refused.line, refused.message, True))
                return {}
            return {name.lower(): assignment for name, assignment in found.items()}
    return {}


def _included(tree: HostTree, target: str) -> list[tuple[str, str]]:
    """A file, or those of a folder that end in ``.cnf`` or ``.conf`` (config(5), ".include")."""
    path = target.strip("/")
    try:
        paths = [*tree.glob(f"{path}/*.cnf"), *tree.glob(f"{path}/*.conf")] if tree.is_folder(path) else [path]
    except TreeError:
        return []
    return [(found, text) for found in sorted(paths) if (text := _text(tree, found))]


def _text(tree: HostTree, path: str) -> str:
    try:
        return tree.read(path).decode("utf-8", "replace")
    except TreeError:
        return ""
