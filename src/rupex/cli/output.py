"""Standard output and standard error: the only place that writes to them, and what happens when nobody reads."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from typing import TextIO

from rupex.model import RupexError


def open_standard_streams() -> None:
    """Make the three standard streams usable. One that the caller closed becomes the null device: else the next file that is
    opened would get its number, and output meant for a terminal would go into that file."""
    for number, mode in ((0, os.O_RDONLY), (1, os.O_WRONLY), (2, os.O_WRONLY)):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, mode)  # the lowest free number, which is this one
    sys.stdin = sys.stdin or open(0, encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stdout = sys.stdout or open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stderr = sys.stderr or open(2, "w", encoding="utf-8", closefd=False)  # noqa: SIM115


def show(text: str | Iterable[bytes], *, is_document: bool = False) -> None:
    """Write a result to standard output: a document as UTF-8, text in the terminal's encoding, with ``?`` for what that
    lacks. Pieces are UTF-8 already.

    A reader that has gone away is no error, and does not change how the run ends. Raises :class:`~rupex.model.RupexError`
    when the output cannot be written for another reason, such as a full disk.
    """
    _write(sys.stdout, text, "utf-8" if is_document else None)


def say(message: str) -> None:
    """Write a message as a line to standard error. A reader that has gone away misses it; the exit status does not depend
    on that."""
    try:
        _write(sys.stderr, message + "\n", None)
    except RupexError:
        _discard(sys.stderr)


def _write(stream: TextIO, text: str | Iterable[bytes], encoding: str | None) -> None:
    buffer = getattr(stream, "buffer", None)
    try:
        if buffer is None:  # a test's or the demo's own stream
            stream.write(text if isinstance(text, str) else b"".join(text).decode())
            return
        stream.flush()
        if isinstance(text, str):
            text = [text.encode(encoding or stream.encoding or "utf-8", "replace")]
        for piece in text:
            buffer.write(piece)
        buffer.flush()
    except BrokenPipeError:
        _discard(stream)
    except OSError as error:
        _discard(stream)
        raise RupexError(f"standard output cannot be written ({error.strerror})") from None


def _discard(stream: TextIO) -> None:
    """Let what is still buffered for ``stream`` go nowhere."""
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, stream.fileno())
    os.close(nowhere)
