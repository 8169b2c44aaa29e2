"""Numbers in what servers and people write."""

from __future__ import annotations

import re
from typing import Final

_WHOLE: Final = re.compile("[0-9]{1,18}")


def whole_number(text: str, *, most: int | None = None) -> int | None:
    """The number that ``text`` is, written in ASCII digits only; None for anything else, and for one above ``most`` or of more
    than 18 digits, which no server takes."""
    if _WHOLE.fullmatch(text) is None:
        return None
    number = int(text)
    return None if most is not None and number > most else number


def signed_number(text: str) -> int | None:
    """As :func:`whole_number`, of which a minus sign may stand in front."""
    number = whole_number(text.removeprefix("-"))
    return -number if number is not None and text.startswith("-") else number
