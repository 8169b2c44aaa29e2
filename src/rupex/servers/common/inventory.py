"""What is common to the families' inventories of directives: the classes, and what one that is not modelled can change."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Final, Literal, NamedTuple

from rupex.model import Provenance

Class = Literal["modelled", "inert", "unmodelled"]
"""``modelled``; ``inert``, when nothing that is judged hangs on it; ``unmodelled``, when something does."""

EFFECTS: Final = frozenset(("status", "redirect", "access", "methods", "headers", "variables", "tls", "files"))
"""What an unmodelled directive can change."""

JUDGED_HEADERS: Final = (
    "Strict-Transport-Security",
    "Content-Security-Policy",
    "X-Frame-Options",
    "X-Content-Type-Options",
    "Referrer-Policy",
    "Permissions-Policy",
    "Cross-Origin-Opener-Policy",
    "Cross-Origin-Embedder-Policy",
    "Cross-Origin-Resource-Policy",
    "Access-Control-Allow-Origin",
    "Access-Control-Allow-Credentials",
    "Cache-Control",
    "Set-Cookie",
    "X-Powered-By",
)
"""The headers that controls look at: what may be in an answer where a program decides its headers."""

_CLASSES: Final[dict[str, Class]] = {"modelled": "modelled", "inert": "inert", "unmodelled": "unmodelled"}


def class_of(word: str) -> Class:
    """The class that a table's row names."""
    return _CLASSES[word]


def effects_and_note(kind: str, text: str) -> tuple[frozenset[str], str]:
    """The last column of a row: what an unmodelled directive can change, and what a row is about."""
    effects, _, about = text.partition(": ") if kind == "unmodelled" else ("", "", text)
    return frozenset(effects.split()), about


def headers_in(note: str) -> tuple[str, ...]:
    """The headers that a row's note names; all that are judged where it names none."""
    return tuple(word for word in note.split() if word[0].isupper()) or JUDGED_HEADERS


class Known(NamedTuple):
    """What is known of a directive, attribute or class.

    ``kind``: what Rupex makes of it.
    ``effects``: what an unmodelled one can change; ``note``: what it is about.
    ``modules``: those that accept it, where the server has modules.
    """

    kind: Class
    effects: frozenset[str]
    note: str
    modules: tuple[str, ...] = ()


class Unmodelled(NamedTuple):
    """What is in force and not modelled.

    ``name``: of the directive, attribute or class; ``effects``: what it can change, and ``note`` by what.
    ``provenance``: where it stands.
    """

    name: str
    effects: frozenset[str]
    note: str
    provenance: Provenance

    def __str__(self) -> str:
        """Why what it can change is unknown."""
        return f"{self.name} ({self.provenance}) is not modelled, and may change the answer"

    @property
    def headers(self) -> tuple[str, ...]:
        """The headers that it may change."""
        return headers_in(self.note) if "headers" in self.effects else ()


def affecting(found: Iterable[Unmodelled], effects: frozenset[str]) -> Iterator[Unmodelled]:
    """Those of ``found`` that can change one of ``effects``."""
    return (one for one in found if one.effects & effects)
