"""Products and their versions, as servers name themselves (RFC 9110, 10.1.5 and 10.2.4)."""

from __future__ import annotations

import re

_VERSION = re.compile(r"/\s*v?\d|\b\d+\.\d+")


def tells_version(text: str) -> bool:
    """Whether ``text`` (a Server header, the foot of an error page) has a version number in it."""
    return _VERSION.search(text) is not None
