"""How a command ends: its exit status, and the signal that may end it before."""

from __future__ import annotations

from typing import Final

DONE: Final = 0
"""Done, and every gate is met."""
GATE_NOT_MET: Final = 1
USAGE: Final = 2
"""Wrong usage, or a file that the user named cannot be used."""
INCOMPLETE: Final = 3
"""Done, but something could not be read or reached."""
OUR_ERROR: Final = 4


class Terminated(BaseException):
    """The process was asked to end by the signal ``number``. Not an ``Exception``, so that nothing on the way takes it for an
    error."""

    def __init__(self, number: int) -> None:
        super().__init__(number)
        self.number = number
