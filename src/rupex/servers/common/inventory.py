"""What is common to the families' inventories of directives: the classes, and what one that is not modelled can change."""

from __future__ import annotations

from typing import Final, Literal

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
