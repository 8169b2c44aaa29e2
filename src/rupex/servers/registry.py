"""How families are found."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from pkgutil import iter_modules
from typing import Final

from rupex.families import GROUP
from rupex.model import RupexError
from rupex.package_files import third_parties
from rupex.servers.contract import Family

_SHARED: Final = "common"


def load_families() -> dict[str, Family]:
    """All installed families by name: the packages beside this module, and what third parties register as entry points."""
    found: dict[str, Family] = {}
    for module in iter_modules([str(Path(__file__).parent)]):
        if module.ispkg and module.name != _SHARED:
            found[module.name] = import_module(f"rupex.servers.{module.name}").FAMILY
    for entry in third_parties(GROUP):
        found[entry.name] = entry.load()
    return found


def family_called(name: str) -> Family:
    """The family ``name``. Raises :class:`~rupex.model.RupexError`, naming those there are."""
    families = load_families()
    if name not in families:
        raise RupexError(f"unknown server family {name!r}; there are: {', '.join(sorted(families))}")
    return families[name]
