"""Work in a forked child, whose result comes back as bytes: half of a host on a second core, or what a library may not end; and
work in an event loop.

Threads would share one interpreter; a child shares all that was read so far without copying it.
"""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable, Coroutine, Iterator
from contextlib import contextmanager, suppress
from typing import Any, Final, TypeVar

T = TypeVar("T")

_PR_SET_PDEATHSIG: Final = 1
"""prctl(2): the signal that a process gets when its parent ends."""


def has_two_cores() -> bool:
    """Whether a second core may be used, and a child be forked."""
    return hasattr(os, "fork") and len(os.sched_getaffinity(0)) > 1


def end_with_parent(parent: int) -> None:
    """In a child of the process ``parent``: be killed when that one ends, however it ends. Where the system has no way to ask
    for that, a child ends when it finds its pipe closed."""
    if sys.platform == "linux":
        import ctypes

        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent:  # it ended before this was asked for
        os._exit(1)


HELD: Final = frozenset((signal.SIGINT, signal.SIGTERM, signal.SIGHUP))
"""What ends a run when somebody wants it to."""


@contextmanager
def signals_held() -> Iterator[Callable[[], None]]:
    """Nothing in the block is interrupted: what ends a run does so when the block ends, or where it calls the function that it
    is given. Children that are made in it begin with these signals held back."""
    before = signal.pthread_sigmask(signal.SIG_BLOCK, HELD)

    def let_in() -> None:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)

    try:
        yield let_in
    finally:
        let_in()


def run_loop(work: Coroutine[Any, Any, T]) -> T:
    """:func:`asyncio.run`, with signals held back while the loop is made and unmade: one that is half made cannot be closed, and
    says so on standard error."""
    import asyncio

    with signals_held(), asyncio.Runner() as runner:
        runner.get_loop()
        signal.pthread_sigmask(signal.SIG_UNBLOCK, HELD)
        try:
            return runner.run(work)
        finally:
            signal.pthread_sigmask(signal.SIG_BLOCK, HELD)


def both(here: Callable[[], T], there: Callable[[], bytes]) -> tuple[T, bytes]:
    """The results of ``here`` and ``there``, the second worked out in a child at the same time.

    A child that fails is no failure: ``there`` is then called here, and raises what it raises.
    """
    with _child(there) as child:
        result = here()
        received = child.result()
    return result, there() if received is None else received


def apart(work: Callable[[], bytes], seconds: int) -> bytes | None:
    """The result of ``work`` in a child that may take so many ``seconds`` of processor time; None where it took more, or
    failed. An interrupt ends it at any moment, also while a library does not listen. Where no child can be forked, the work is
    done here."""
    if not hasattr(os, "fork"):
        return work()
    with _child(work, seconds) as child:
        return child.result()


class _Child:
    """A child at work. ``reader``: the end of its pipe."""

    def __init__(self, process: int, reader: int) -> None:
        self.process, self.reader = process, reader

    def result(self) -> bytes | None:
        """What it wrote, when it is done; None where it failed."""
        with open(self.reader, "rb", closefd=False) as pipe:
            received = pipe.read()
        _, status = os.waitpid(self.process, 0)
        self.process = 0
        return received if status == 0 else None

    def end(self) -> None:
        os.close(self.reader)
        if self.process:
            with suppress(OSError):
                os.kill(self.process, signal.SIGKILL)
            os.waitpid(self.process, 0)


@contextmanager
def _child(work: Callable[[], bytes], seconds: int | None = None) -> Iterator[_Child]:
    """A child that does ``work``, and is gone when the block ends."""
    reader, writer = os.pipe()
    parent = os.getpid()
    with signals_held():  # in the child they stay held back: the parent ends it
        process = os.fork()
        if process == 0:
            status = 1
            try:
                end_with_parent(parent)
                os.close(reader)
                if seconds is not None:
                    _limit(seconds)
                with os.fdopen(writer, "wb") as pipe:
                    pipe.write(work())
                status = 0
            finally:  # whatever happened, the child ends here, without the parent's clean-up
                os._exit(status)
    os.close(writer)
    child = _Child(process, reader)
    try:
        yield child
    finally:
        child.end()


def _limit(seconds: int) -> None:
    """Let the system end this process after so many seconds of processor time."""
    import resource

    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds))
