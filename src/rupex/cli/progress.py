"""A progress bar on standard error, for a person at a terminal, when something takes longer than a second."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import TypeVar

T = TypeVar("T")

_PATIENCE_SECONDS = 1.0


@contextmanager
def progress(items: Sequence[T], what: str) -> Iterator[Iterable[T]]:
    """Iterate over ``items`` with a bar that appears after a second; without a terminal, silently."""
    if not sys.stderr.isatty() or len(items) < 2:
        yield items
        return
    yield _with_bar(items, what)


def _with_bar(items: Sequence[T], what: str) -> Iterator[T]:
    begun = time.monotonic()
    bar = None
    try:
        for done, item in enumerate(items):
            if bar is None and time.monotonic() - begun > _PATIENCE_SECONDS:
                from rich.console import Console
                from rich.progress import Progress

                bar = Progress(console=Console(stderr=True), transient=True)
                bar.start()
                task = bar.add_task(what, total=len(items))
            if bar is not None:
                bar.update(task, completed=done)
            yield item
    finally:
        if bar is not None:
            bar.stop()
