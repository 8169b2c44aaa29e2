"""What could not be read or reached, and the errors that a caller of Rupex may meet."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

ProblemKind = Literal[
    "syntax", "missing", "unreadable", "bound", "loop", "encoding", "unreachable", "timeout", "refused",
    "internal", "unmodelled",
]  # fmt: skip
"""``internal``: an error of our own ended the work on a host; ``unmodelled``: Rupex does not know what it does."""


class Problem(Struct, frozen=True):
    """Something that kept Rupex from seeing all there is. ``line`` counts from 1.

    ``hides_endpoints``: what could not be read may define endpoints or change any of them, so every control on
    endpoints and scopes has one more place that nobody has seen.
    """

    kind: ProblemKind
    file: str | None
    line: int | None
    message: str
    hides_endpoints: bool = False


class RupexError(Exception):
    """A caller's mistake that has a way out; ``str()`` is one sentence for a person. Never raised for hostile input
    that is merely audited: that becomes a :class:`Problem`."""
