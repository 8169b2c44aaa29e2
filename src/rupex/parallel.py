"""Two halves of a piece of work on two cores: one here, one in a forked child whose result comes back as bytes.

Threads would share one interpreter; a child shares all that was read so far without copying it.
"""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable
from contextlib import suppress
from typing import Final, TypeVar

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


def both(here: Callable[[], T], there: Callable[[], bytes]) -> tuple[T, bytes]:
    """The results of ``here`` and ``there``, the second worked out in a child at the same time.

    A child that fails is no failure: ``there`` is then called here, and raises what it raises.
    """
    reader, writer = os.pipe()
    parent = os.getpid()
    child = os.fork()
    if child == 0:
        status = 1
        try:
            end_with_parent(parent)
            os.close(reader)
            with os.fdopen(writer, "wb") as pipe:
                pipe.write(there())
            status = 0
        finally:  # whatever happened, the child ends here, without the parent's clean-up
            os._exit(status)
    os.close(writer)
    with os.fdopen(reader, "rb") as pipe:
        try:
            result = here()
            received = pipe.read()
        except BaseException:
            with suppress(OSError):
                os.kill(child, signal.SIGKILL)
            raise
        finally:
            pipe.close()
            _, status = os.waitpid(child, 0)
    return result, received if status == 0 else there()
