"""Patterns from configurations, which may be made to explode: read and matched within the budget of the host.

Servers use PCRE; the ``regex`` package reads nearly all of it. What it does not read, or what takes too long, is
:class:`Undetermined`, never a guess.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Final

from rupex.masking.quoting import quoted
from rupex.model import bounds
from rupex.model.budget import (
    CHARACTERS_A_STEP,
    Budget,
    ExhaustedError,
    UndeterminedError,
    budget_in_force,
    spend,
)

if TYPE_CHECKING:
    import regex


# Flags that begin in the middle hold from there on in PCRE, and for the whole pattern in the package.
_LATE_FLAGS = re.compile(r"(?<!^)\(\?[a-zA-Z]*-?[a-zA-Z]+\)")
_ITEM = re.compile(r"\\.|\[\^?\]?(?:\\.|[^\]\\])*\]|\{(\d+)(?:,\d*)?\}|.", re.DOTALL)
_SPECIAL: Final = frozenset("\\^$.[]|()?*+{}")
_ITEMS_KEPT: Final = 500_000
"""Items of the patterns that are kept ready, some 280 bytes each."""
_ITEMS_A_STEP: Final = 2
"""Items of a pattern that are compiled in one step."""
_STEPS_TOO_SLOW: Final = 1_000_000
"""What is counted for a match that took too long."""


class _Ready:
    """Compiled patterns of the budget in force; None for one that cannot be read."""

    def __init__(self, budget: Budget | None) -> None:
        self.budget = budget
        self.patterns: dict[tuple[str, bool], regex.Pattern[str] | None] = {}
        self.items = 0
        self.too_slow: set[tuple[str, bool]] = set()

    def get(self, pattern: str, ignore_case: bool) -> regex.Pattern[str] | None:
        key = pattern, ignore_case
        if key not in self.patterns:
            items = size_of(pattern)
            spend(1 + items // _ITEMS_A_STEP)
            if self.items + items > _ITEMS_KEPT:
                self.patterns, self.items = {}, 0
            self.items += items
            self.patterns[key] = _compiled(pattern, ignore_case) if items <= bounds.PATTERN_ITEMS else None
        return self.patterns[key]


_ready = _Ready(None)


def _ready_patterns() -> _Ready:
    """Those of the budget in force; another one begins without any, so that what is counted does not hang on what came before."""
    global _ready
    budget = budget_in_force()
    if budget is not _ready.budget:
        _ready = _Ready(budget)
    return _ready


def _compiled(pattern: str, ignore_case: bool) -> regex.Pattern[str] | None:
    import regex

    try:
        return regex.compile(pattern, regex.IGNORECASE if ignore_case else 0, cache_pattern=False)
    except (regex.error, RecursionError, OverflowError, MemoryError):
        return None


def size_of(pattern: str) -> int:
    """About how many items ``pattern`` has when it is compiled, where what is repeated a number of times is written out as often.
    Never less than its length."""
    groups = [0]
    last = 0
    for found in _ITEM.finditer(pattern):
        item = found[0]
        if found[1] is not None:
            times = max(1, min(int(found[1][:6]), bounds.PATTERN_ITEMS))
            groups[-1] += last * (times - 1)
            last *= times
        elif item == "(":
            groups.append(0)
            last = 0
            continue
        elif item == ")" and len(groups) > 1:
            last = groups.pop()
            groups[-1] += last
        else:
            last = 1
            groups[-1] += 1
        groups[-1] = min(groups[-1], 1 + bounds.PATTERN_ITEMS)
    return max(len(pattern), sum(groups))


def literal_start(pattern: str) -> str:
    """The characters with which every text begins that ``pattern`` is found in; none where that cannot be told."""
    if not pattern.startswith("^"):
        return ""
    found: list[str] = []
    depth = 0
    is_literal = True
    for match in _ITEM.finditer(pattern, 1):
        item = match[0]
        depth += {"(": 1, ")": -1}.get(item, 0)
        if item == "|" and depth <= 0:
            return ""
        if not is_literal:
            continue
        if len(item) == 1 and item not in _SPECIAL:
            found.append(item)
        elif len(item) == 2 and item[0] == "\\" and not item[1].isalnum():
            found.append(item[1])
        else:
            is_literal = False
            if item in "*+?" or item[0] == "{":
                found = found[:-1]
    return "".join(found)


def search(pattern: str, subject: str, *, ignore_case: bool = False) -> regex.Match[str] | None:
    """The first match of a PCRE ``pattern`` in ``subject``. Raises :class:`UndeterminedError`."""
    spend(1 + len(subject) // CHARACTERS_A_STEP)
    readable = len(pattern) <= bounds.PATTERN_CHARACTERS and _LATE_FLAGS.search(pattern) is None
    ready = _ready_patterns()
    compiled = ready.get(pattern, ignore_case) if readable else None
    if compiled is None:
        raise UndeterminedError(f"the pattern {quoted(pattern)} is not one that Rupex can read")
    if (pattern, ignore_case) not in ready.too_slow:
        try:
            found: regex.Match[str] | None = compiled.search(subject, timeout=bounds.PATTERN_SECONDS)
        except TimeoutError:
            ready.too_slow.add((pattern, ignore_case))
            spend(_STEPS_TOO_SLOW)
        else:
            return found
    raise UndeterminedError(f"the pattern {quoted(pattern)} takes too long to match")


__all__ = ["ExhaustedError", "UndeterminedError", "search", "size_of"]
