"""Documents that people write: read whole or not at all, within a bound, and parsed with an error that names the file."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

from rupex.model import RupexError


def read_bounded(path: Path, what: str, most: int) -> bytes:
    """The bytes of ``path``, no more than ``most``. ``what`` it is stands before its name in an error, a
    :class:`~rupex.model.RupexError`."""
    label = f"{what} {path}".strip()
    try:
        if path.stat().st_size > most:
            raise RupexError(f"{label}: more than {most} bytes are not read")
        return path.read_bytes()
    except OSError as error:
        raise RupexError(f"{label}: {error.strerror}") from None


def parse_toml(label: str, content: bytes) -> dict[str, Any]:
    """The TOML in ``content``, which ``label`` names in a :class:`~rupex.model.RupexError`."""
    try:
        return tomllib.loads(content.decode("utf-8-sig"))
    except (UnicodeDecodeError, tomllib.TOMLDecodeError, RecursionError) as error:
        raise RupexError(f"{label}: not TOML: {error}") from None


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
