"""Run documents read back: bounded, checked, and of the version that is known."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, Final

import msgspec

from rupex.documents.compact import BadReferenceError, decode_packed
from rupex.documents.run import Run, is_time
from rupex.model import RupexError
from rupex.user_files import read_bounded

MOST_BYTES: Final = 1 << 30
"""A run of a thousand large hosts with everything listed has about 300 MB."""


def read_run(path: Path) -> Run:
    """The run document in ``path``. Raises :class:`~rupex.model.RupexError` for what is none."""
    return decode_run(read_bounded(path, "", MOST_BYTES), str(path))


def decode_run(content: bytes, label: str) -> Run:
    """The run document in ``content``, which ``label`` names in errors. Raises :class:`~rupex.model.RupexError`."""
    try:
        head: dict[str, Any] = msgspec.json.decode(content, type=dict[str, msgspec.Raw])
    except (msgspec.MsgspecError, RecursionError):
        raise RupexError(f"{label}: no run document: it is not JSON") from None
    schema = bytes(head.get("schema", b"")).decode("utf-8", "replace").strip('"')
    if schema not in _READERS:
        what_it_says = f"it says {schema[:60]}" if schema else "it names no schema"
        raise RupexError(
            f"{label}: no run document that this version reads ({what_it_says}; {' or '.join(_READERS)} is expected)"
        )
    try:
        run = _READERS[schema](content)
    except (msgspec.MsgspecError, BadReferenceError, RecursionError) as error:
        raise RupexError(f"{label}: no sound run document: {error}") from None
    for place, time in _times(run):
        if not is_time(time):
            raise RupexError(
                f"{label}: no sound run document: not a time such as 2026-11-24T09:30:00Z - at `$.{place}`"
            )
    return run


_READERS: Final[dict[str, Callable[[bytes], Run]]] = {
    "rupex.run/2": decode_packed,
    "rupex.run/1": msgspec.json.Decoder(Run).decode,
}
"""By version, newest first."""


def _times(run: Run) -> Iterator[tuple[str, str]]:
    """The times that reports work with, each with its place."""
    yield "started", run.started
    for host, document in enumerate(run.hosts):
        for number, certificate in enumerate(document.certificates):
            place = f"hosts[{host}].certificates[{number}]"
            yield f"{place}.not_before", certificate.not_before
            yield f"{place}.not_after", certificate.not_after
