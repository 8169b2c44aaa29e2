"""Builds the demo's host trees: the files beside this module, with keys and certificates made on the spot."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from importlib import resources
from pathlib import Path
from typing import Final

from rupex.demo.mint import Authority, new_key, write_chain, write_key
from rupex.model import RupexError

NOW: Final = datetime(2026, 11, 24, 9, 30, tzinfo=UTC)
"""The scenario's own time: certificates are made around it, so the demo tells the same story every day."""


def build_scenario(folder: Path) -> dict[str, Path]:
    """Write every host of the scenario below ``folder`` (made new) and return name to tree. Raises
    :class:`~rupex.model.RupexError` when it cannot be written."""
    built = {}
    try:
        for name, prepare in _HOSTS.items():
            tree = folder / name
            with resources.as_file(resources.files("rupex.demo").joinpath("hosts", name)) as source:
                shutil.copytree(source, tree)
            prepare(tree)
            built[name] = tree
    except FileExistsError as error:
        raise RupexError(f"{error.filename}: exists already; name a new folder") from None
    except OSError as error:
        raise RupexError(f"{error.filename}: cannot be written ({error.strerror})") from None
    return built


def _booking(tree: Path) -> None:
    enabled = tree / "etc/nginx/sites-enabled"
    enabled.mkdir()
    (tree / "etc/nginx/conf.d").mkdir()
    for site in ("booking", "fares"):
        (enabled / site).symlink_to(f"/etc/nginx/sites-available/{site}")
    folder = tree / "etc/ssl/ternholm"
    folder.mkdir(parents=True)
    authority = Authority("Ternholm Ferries Services CA", NOW)
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


_HOSTS: Final[dict[str, Callable[[Path], None]]] = {"booking": _booking}
