"""Text from strangers made harmless: no control characters, no marks that turn the reading direction."""

from __future__ import annotations

import re
from typing import Any

# C0 and C1 controls, and the bidirectional controls of Unicode (UAX 9), which can make a line read as another one.
_HARMFUL = re.compile("[\x00-\x1f\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ud800-\udfff]")


def clean(text: str) -> str:
    """``text`` on one line, each harmful character as its code point in angle brackets."""
    return _HARMFUL.sub(lambda match: f"<{ord(match[0]):02X}>", text) if _HARMFUL.search(text) else text


def clean_parts(value: Any) -> Any:
    """A tree of dicts and lists with every text in it made harmless; line ends stay."""
    match value:
        case str():
            return "\n".join(map(clean, value.split("\n")))
        case dict():
            return {clean(key): clean_parts(part) for key, part in value.items()}
        case list() | tuple():
            return [clean_parts(part) for part in value]
        case _:
            return value
