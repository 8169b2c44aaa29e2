"""Builds the demo's host trees: the files beside this module, with keys and certificates made on the spot."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Final

from rupex.demo.mint import Authority, new_key, write_chain, write_key
from rupex.model import RupexError
from rupex.package_files import folder_of

NOW: Final = datetime(2026, 11, 24, 9, 30, tzinfo=UTC)
"""The scenario's own time: certificates are made around it, so the demo tells the same story every day."""


def build_scenario(folder: Path, *, repaired: bool = False, authority: Authority | None = None) -> dict[str, Path]:
    """Write every host of the scenario below ``folder`` (made new) and return name to tree. ``repaired``: as they are after a
    month of repairs. Raises :class:`~rupex.model.RupexError` when it cannot be written."""
    built = {}
    authority = authority or Authority("Ternholm Ferries Services CA", NOW)
    try:
        for name, prepare in _HOSTS.items():
            tree = folder / name
            shutil.copytree(folder_of("rupex.demo").joinpath("hosts", name), tree)
            if repaired:
                _overlay(name, tree)
            prepare(tree, authority, repaired)
            built[name] = tree
    except FileExistsError as error:
        raise RupexError(f"{error.filename}: exists already; name a new folder") from None
    except OSError as error:
        raise RupexError(f"{error.filename}: cannot be written ({error.strerror})") from None
    return built


def _overlay(name: str, tree: Path) -> None:
    """Put what was changed of a host over it."""
    source = folder_of("rupex.demo").joinpath("repaired", name)
    if source.is_dir():
        shutil.copytree(source, tree, dirs_exist_ok=True)


def _booking(tree: Path, authority: Authority, repaired: bool) -> None:
    enabled = tree / "etc/nginx/sites-enabled"
    enabled.mkdir()
    (tree / "etc/nginx/conf.d").mkdir()
    for site in ("booking", "fares"):
        (enabled / site).symlink_to(f"/etc/nginx/sites-available/{site}")
    folder = tree / "etc/ssl/ternholm"
    folder.mkdir(parents=True)
    if repaired:
        for stem, names in (("booking", ["booking", "www.booking", "fares"]), ("agents", ["agents"])):
            key = new_key("RSA" if stem == "booking" else "ECDSA")
            named = [f"{name}.ternholm.test" for name in names]
            write_chain(
                folder / f"{stem}.pem",
                authority.issue(named, key, NOW - timedelta(days=9), NOW + timedelta(days=81)),
                authority.certificate,
            )
            write_key(folder / f"{stem}.key", key, 0o600)
        return
    # Renewed last in summer; the job that should do it again was lost in a move. It never covered the www name.
    key = new_key("RSA")
    start = NOW - timedelta(days=81)
    leaf = authority.issue(["booking.ternholm.test", "fares.ternholm.test"], key, start, start + timedelta(days=90))
    write_chain(folder / "booking.pem", leaf, authority.certificate)
    write_key(folder / "booking.key", key, 0o644)
    # Fetched for the move to the new machine, and left there.
    copy = tree / "home/deploy/downloads/booking.key"
    copy.parent.mkdir(parents=True)
    write_key(copy, key, 0o644)
    # The key was made anew, the certificate was not.
    leaf = authority.issue(["agents.ternholm.test"], new_key(), NOW - timedelta(days=30), NOW + timedelta(days=335))
    write_chain(folder / "agents.pem", leaf, authority.certificate)
    write_key(folder / "agents.key", new_key(), 0o640)


def _timetable(tree: Path, authority: Authority, repaired: bool) -> None:
    # A folder at the root of the disk, "to make it easy".
    folder = tree / ("etc/ssl/timetable" if repaired else "keys")
    folder.mkdir(parents=True)
    key = new_key("RSA")
    names = ["timetable.ternholm.test", *(["www.timetable.ternholm.test"] if repaired else [])]
    leaf = authority.issue(names, key, NOW - timedelta(days=200), NOW + timedelta(days=165))
    write_chain(folder / "timetable.pem", leaf, authority.certificate)
    write_key(folder / "timetable.key", key, 0o600 if repaired else 0o644)


def _freight(tree: Path, authority: Authority, repaired: bool) -> None:
    from cryptography.hazmat.primitives.serialization import BestAvailableEncryption, pkcs12

    key = new_key("RSA")
    leaf = authority.issue(["freight.ternholm.test"], key, NOW - timedelta(days=100), NOW + timedelta(days=265))
    closed = BestAvailableEncryption(b"changeit")
    store = pkcs12.serialize_key_and_certificates(b"freight", key, leaf, [authority.certificate], closed)
    (tree / "opt/tomcat9/conf/freight.p12").write_bytes(store)


_HOSTS: Final[dict[str, Callable[[Path, Authority, bool], None]]] = {
    "booking": _booking,
    "timetable": _timetable,
    "freight": _freight,
}
