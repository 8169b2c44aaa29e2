"""Resources that pages load but that are no pages themselves, told by their file names."""

from __future__ import annotations

import re
from typing import Final

EXTENSIONS: Final = frozenset(
    "avif bmp css eot gif ico jpe?g jpeg jpg js json map mjs mp3 mp4 ogg otf png svg svgz ttf txt wasm wav webm"
    " webmanifest webp woff woff2 woff2?".split()
)
"""What style, script, image, font and media files end in. HTML, XML and PDF are documents that a browser shows."""

_ENDS_IN_ONE_OF = re.compile(r"\\\.(?:\((?:\?:)?([a-z0-9?|]+)\)|([a-z0-9]+))\$?")


def matches_only_assets(pattern: str) -> bool:
    """Whether a pattern for URL paths plainly ends in asset extensions alone, such as ``\\.(css|js)$``."""
    found = _ENDS_IN_ONE_OF.search(pattern)
    if found is None or found.end() != len(pattern) or not pattern.endswith("$"):
        return False
    return all(extension in EXTENSIONS for extension in (found[1] or found[2]).split("|"))
