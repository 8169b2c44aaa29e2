"""Tables that lie beside the code, and which other packages add to Rupex: both without the library modules that do more, which
take longer to import than a small host takes to be judged."""

from __future__ import annotations

import os
import sys
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint


def folder_of(package: str) -> Path:
    """The folder of a package of ours, such as ``rupex.tls``."""
    return Path(__file__).parent.joinpath(*package.split(".")[1:])


def table_of(package: str, name: str) -> str:
    """The text of the file ``name`` of a package of ours."""
    return folder_of(package).joinpath(name).read_text("utf-8")


@cache
def third_parties(group: str) -> tuple[EntryPoint, ...]:
    """What other packages register in a group of entry points, which all begin with ``rupex.``."""
    if not any(map(_may_register, sys.path)):
        return ()
    from importlib.metadata import entry_points

    return tuple(entry_points().select(group=group))


@cache
def _may_register(folder: str) -> bool:
    """Whether a package installed in ``folder`` may add something to Rupex. Reading every package's metadata with the library
    takes 30 ms, and hardly any host has such a package."""
    try:
        names = os.listdir(folder or ".")
    except NotADirectoryError:
        return True  # an archive: the library can read it
    except OSError:
        return False
    return any(_registers(os.path.join(folder, name)) for name in names if name.endswith((".dist-info", ".egg-info")))


def _registers(metadata: str) -> bool:
    try:
        with open(os.path.join(metadata, "entry_points.txt"), encoding="utf-8", errors="replace") as file:
            return "[rupex." in file.read().replace(" ", "")
    except OSError:  # it registers nothing
        return False
