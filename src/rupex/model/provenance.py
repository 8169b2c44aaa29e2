"""Settings and their provenance: a value, and which line (or default, or answer) decided it."""

from __future__ import annotations

from typing import Generic, Literal, TypeVar

from msgspec import UNSET, Struct, UnsetType, structs

T = TypeVar("T")

How = Literal["explicit", "inherited", "default", "wire"]


class Provenance(Struct, frozen=True, gc=False):
    """Where a value comes from.

    ``file`` is relative to the root of the host tree; ``line`` and ``column`` count from 1, columns in characters.
    ``how``: written where it holds (``explicit``), taken over from an enclosing block (``inherited``), the server's own
    (``default``; ``note`` names the version), or seen in an answer (``wire``).
    ``overruled``: the places that said something else and lost, nearest first.
    ``key``: in a file of keys and values, the path of the key (``http.routers.web.tls``).
    """

    how: How = "explicit"
    file: str | None = None
    line: int | None = None
    column: int | None = None
    note: str | None = None
    overruled: tuple[Provenance, ...] = ()
    key: str | UnsetType = UNSET

    def noted(self, note: str | None) -> Provenance:
        """The same place with another note."""
        return structs.replace(self, note=note)

    def overruling(self, *lost: Provenance) -> Provenance:
        """The same place, which overrules those that ``lost``, and no others."""
        return structs.replace(self, overruled=lost)

    def __str__(self) -> str:
        if self.file is None:
            return self.note or self.how
        return f"{self.file}:{self.line}" if self.line is not None else self.file


class Setting(Struct, Generic[T], frozen=True, gc=False):
    """One effective value with its provenance; or, with ``unknown`` set, the reason why it could not be told, and of a list
    what it has ``at_least``."""

    value: T | None
    provenance: Provenance | None = None
    unknown: str | UnsetType = UNSET
    at_least: T | UnsetType = UNSET

    @property
    def is_known(self) -> bool:
        return self.unknown is UNSET

    @property
    def seen(self) -> T | None:
        """What is known of the value, be it not all: enough to see that something bad is there."""
        return self.value if isinstance(self.at_least, UnsetType) else self.at_least

    @property
    def why_unknown(self) -> str:
        """The reason, or an empty text for a known value."""
        return self.unknown if isinstance(self.unknown, str) else ""


def unknown(why: str, provenance: Provenance | None = None, at_least: T | UnsetType = UNSET) -> Setting[T]:
    """A setting whose value could not be told, for the reason ``why``."""
    return Setting(None, provenance, why, at_least)


def default_of(server: str, note: str = "") -> Provenance:
    """The provenance of a value that nobody wrote: the default of ``server``, such as ``nginx 1.22.1``."""
    return Provenance("default", note=f"default of {server}" + (f"; {note}" if note else ""))
