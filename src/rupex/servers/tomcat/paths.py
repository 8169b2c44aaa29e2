"""Request paths as Tomcat sees them (CoyoteAdapter.normalize): decoded, path parameters off, slashes merged, dots resolved."""

from __future__ import annotations

import posixpath
import re
from urllib.parse import unquote


def normalise(path: str) -> str:
    """``path`` as hosts and applications are chosen by it."""
    text = re.sub(r";[^/]*", "", unquote(path))
    text = re.sub("/{2,}", "/", text)
    resolved = posixpath.normpath(text)
    if text.endswith(("/", "/.", "/..")) and not resolved.endswith("/"):
        resolved += "/"
    return "/" + resolved.lstrip("/")
