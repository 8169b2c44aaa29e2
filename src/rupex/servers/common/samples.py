"""What is asked where a configuration is judged by an example: the same for every family."""

from __future__ import annotations

from typing import Final

EVERY: Final = "0.0.0.0"  # noqa: S104  how an endpoint at every address is written
ANY_NAME: Final = "any-name.invalid"
"""The name asked for where a host takes any (RFC 2606, 2)."""
SAMPLE_TAIL: Final = "pier-7"
SAMPLE_QUERY: Final = "tide=high"
