"""Documents that people write, parsed with an error that names the file."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable
from typing import Any

from rupex.model import RupexError, bounds


def parse_toml(label: str, content: bytes) -> dict[str, Any]:
    """The TOML in ``content``, which ``label`` names in a :class:`~rupex.model.RupexError`."""
    try:
        document = tomllib.loads(content.decode("utf-8-sig"))
    except (ValueError, RecursionError) as error:  # a ValueError: not UTF-8, not TOML, or a number of 5,000 digits
        raise RupexError(f"{label}: not TOML: {str(error)[:200]}") from None
    level: list[Any] = [document]
    for _ in range(bounds.DOCUMENT_DEPTH):
        level = [item for value in level for item in _items(value)]
    if level:
        raise RupexError(f"{label}: not read: tables in tables, more than {bounds.DOCUMENT_DEPTH} deep")
    return document


def _items(value: Any) -> Iterable[Any]:
    """What is in a table or a list."""
    if isinstance(value, dict):
        return value.values()
    return value if isinstance(value, list) else ()


def tables_of(label: str, document: dict[str, Any], key: str) -> list[Any]:
    """The tables of a document that has nothing but a list of them, each as ``[[key]]``. Raises
    :class:`~rupex.model.RupexError`."""
    for other in document:
        if other != key:
            raise RupexError(f"{label}: {other}: unknown key; allowed is {key}, as [[{key}]]")
    rows = document.get(key, [])
    if not isinstance(rows, list):
        raise RupexError(f"{label}: {key}: a list of tables is expected, each as [[{key}]]")
    return rows
