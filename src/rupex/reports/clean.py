"""Text from strangers made harmless: no control characters, no marks that turn the reading direction."""

from __future__ import annotations

import re

# C0 and C1 controls, and the bidirectional controls of Unicode (UAX 9), which can make a line read as another one.
_HARMFUL = re.compile("[\x00-\x1f\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ud800-\udfff]")


def clean(text: str) -> str:
    """``text`` on one line, each harmful character as its code point in angle brackets."""
    return _HARMFUL.sub(lambda match: f"<{ord(match[0]):02X}>", text) if _HARMFUL.search(text) else text
