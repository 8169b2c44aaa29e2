"""Paths inside a host tree: relative to its root, with ``/`` and without a leading one."""

from __future__ import annotations

import re
from typing import Final

from rupex.model import bounds

_LONG_NAME: Final = re.compile(rf"[^/]{{{bounds.NAME_CHARACTERS + 1}}}")


def is_possible(path: str) -> bool:
    """Whether a file can be at ``path``: no system has longer paths, nor longer names in them."""
    return len(path) <= bounds.PATH_CHARACTERS and _LONG_NAME.search(path) is None


def normalize_path(path: str) -> str:
    """``path`` in the tree's own form: no leading slash, no ``.``, and ``..`` stopping at the root."""
    if "//" not in path and "/." not in path and path[:1] != ".":
        return path.strip("/")
    kept: list[str] = []
    for part in path.split("/"):
        if part == "..":
            del kept[-1:]
        elif part not in ("", "."):
            kept.append(part)
    return "/".join(kept)
