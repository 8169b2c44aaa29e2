"""Patterns from configurations, which may be made to explode: matched with a time bound.

Servers use PCRE; the ``regex`` package reads nearly all of it. What it does not read, or what takes too long, is
:class:`Undetermined`, never a guess.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import TYPE_CHECKING

from rupex.masking.quoting import quoted
from rupex.model import bounds

if TYPE_CHECKING:
    import regex


# Flags that begin in the middle hold from there on in PCRE, and for the whole pattern in the package.
_LATE_FLAGS = re.compile(r"(?<!^)\(\?[a-zA-Z]*-?[a-zA-Z]+\)")


class UndeterminedError(Exception):
    """What a server would do cannot be told from its configuration; ``why`` says what it hangs on."""

    def __init__(self, why: str) -> None:
        super().__init__(why)
        self.why = why


@lru_cache(maxsize=4096)
def _compile(pattern: str, ignore_case: bool) -> regex.Pattern[str] | None:
    import regex

    try:
        return regex.compile(pattern, regex.IGNORECASE if ignore_case else 0)
    except (regex.error, RecursionError, OverflowError, MemoryError):
        return None


def search(pattern: str, subject: str, *, ignore_case: bool = False) -> regex.Match[str] | None:
    """The first match of a PCRE ``pattern`` in ``subject``. Raises :class:`UndeterminedError`."""
    readable = len(pattern) <= bounds.PATTERN_CHARACTERS and _LATE_FLAGS.search(pattern) is None
    compiled = _compile(pattern, ignore_case) if readable else None
    if compiled is None:
        raise UndeterminedError(f"the pattern {quoted(pattern)} is not one that Rupex can read")
    try:
        found: regex.Match[str] | None = compiled.search(subject, timeout=bounds.PATTERN_SECONDS)
    except TimeoutError:
        raise UndeterminedError(f"the pattern {quoted(pattern)} takes too long to match") from None
    return found
