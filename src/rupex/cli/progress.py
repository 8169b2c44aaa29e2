"""A progress bar on standard error, for a person at a terminal, when something takes longer than a second."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar

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
    with Bar(what, len(items)) as bar:
        for item in items:
            yield item
            bar.advance()


class Bar:
    """A bar for work that comes in ``total`` parts. Shown on a terminal only, and after a second."""

    def __init__(self, what: str, total: int) -> None:
        self._what, self._total, self._done = what, total, 0
        self._begun = time.monotonic()
        self._bar: Any = None
        self._is_shown = sys.stderr.isatty() and total > 1

    def __enter__(self) -> Bar:
        return self

    def __exit__(self, *_: object) -> None:
        if self._bar is not None:
            self._bar.stop()

    def expect(self, total: int) -> None:
        """The work turned out to have ``total`` parts."""
        self._total = total
        self._is_shown = sys.stderr.isatty() and total > 1

    def advance(self) -> None:
        """One part more is done."""
        self._done += 1
        if self._bar is None and self._is_shown and time.monotonic() - self._begun > _PATIENCE_SECONDS:
            from rich.console import Console
            from rich.progress import Progress

            self._bar = Progress(console=Console(stderr=True), transient=True)
            self._bar.start()
            self._task = self._bar.add_task(self._what, total=self._total)
        if self._bar is not None:
            self._bar.update(self._task, completed=self._done)
