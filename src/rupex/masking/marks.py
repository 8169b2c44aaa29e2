"""Marks: what stands in a snapshot in the place of a value that did not leave the machine.

A mark is a word of its own kind with a number, ``rupex-secret-3``. The number counts the marks of one snapshot; it comes from
neither the value nor its length. Two marks with one number stand for one value, which only happens where a verdict compares
values. An audit of a snapshot meets marks where an audit of the machine meets values.
"""

from __future__ import annotations

import re
from typing import Final

SECRET: Final = "rupex-secret"  # noqa: S105
"""In the place of a value that is a secret by its name or place, such as a password."""
FACTORY_SECRET: Final = "rupex-factory-secret"  # noqa: S105
"""In the place of a secret that everybody tries first, such as a key store's factory password."""
MASKED: Final = "rupex-masked"
"""In the place of any other value that no verdict needs."""

MARK: Final = re.compile(rf"(?:{SECRET}|{FACTORY_SECRET}|{MASKED})-[0-9]{{1,9}}")
SECRET_MARK: Final = re.compile(rf"(?<![\w-])(?:{SECRET}|{FACTORY_SECRET})-[0-9]{{1,9}}(?![\w-])")


def is_factory_secret(value: str) -> bool:
    """Whether ``value`` is the mark of a secret that everybody tries first."""
    return re.fullmatch(rf"{FACTORY_SECRET}-[0-9]{{1,9}}", value) is not None


__all__ = ["FACTORY_SECRET", "MARK", "MASKED", "SECRET", "SECRET_MARK", "is_factory_secret"]
