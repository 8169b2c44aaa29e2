"""The work that one host may make: counted in steps and never in seconds, so that a verdict does not depend on the machine.

A configuration of some lines can ask for more work than a machine can do: variables that name the one before twice, rules that
start again, files that include each other. Work is counted where it is made, by :func:`spend`. Where nothing is left, what hangs
on it is unknown, and the host gets a problem that says where Rupex stopped.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from contextvars import ContextVar, Token
from typing import Final

from rupex.model import bounds

PER_REQUEST: Final = 20
"""Steps for one request that is followed through a server, beside what is counted on its way."""

PER_SCOPE: Final = 500
"""Steps for one scope, which is followed, judged and kept until the end."""

PER_ENDPOINT: Final = 500
"""Steps for one endpoint, beside its scopes."""

PER_NAME: Final = 100
"""Steps for one name of an endpoint, and of a scope that sends names elsewhere: each is judged by itself."""

PER_MEMBER: Final = 50
"""Steps for one server at one of its listeners, before anything is worked out of it."""

PER_INCLUSION: Final = 50
"""Steps for a file that is included, beside what is in it."""

CHARACTERS_A_STEP: Final = 16
"""Characters that are copied or looked at in one step."""


class UndeterminedError(Exception):
    """What a server would do cannot be told from its configuration; ``why`` says what it hangs on."""

    def __init__(self, why: str) -> None:
        super().__init__(why)
        self.why = why


class ExhaustedError(UndeterminedError):
    """Nothing is left of the budget in force."""


class Budget:
    """The steps that are left for one host, in force within a ``with`` block, which may be entered again.

    ``left``: steps, below 0 for none; ``at``: what is being worked on; ``stopped_at``: what that was when nothing was left.
    """

    def __init__(self, steps: int | None = None) -> None:
        self.steps = self.left = bounds.HOST_STEPS if steps is None else steps
        self.at = ""
        self.stopped_at: str | None = None
        self._before: list[Token[Budget | None]] = []

    def __enter__(self) -> Budget:
        self._before.append(_IN_FORCE.set(self))
        return self

    def __exit__(self, *_: object) -> None:
        _IN_FORCE.reset(self._before.pop())

    @property
    def spent(self) -> int:
        """Steps, those that went beyond what was left included."""
        return self.steps - self.left

    @property
    def is_exhausted(self) -> bool:
        return self.stopped_at is not None

    def allow_for(self, characters: int) -> None:
        """Allow more work for a host that has more configuration: for so many characters of it, read for the first time."""
        more = min(characters * bounds.STEPS_A_CHARACTER, bounds.MOST_HOST_STEPS - self.steps)
        if more > 0:
            self.steps += more
            self.left += more

    def spend(self, steps: int) -> None:
        """Raises :class:`ExhaustedError`."""
        self.left -= steps
        if self.left < 0:
            if self.stopped_at is None:
                self.stopped_at = self.at
            raise ExhaustedError(f"evaluating it takes more than {self.steps:,} steps, the limit for one host")


_IN_FORCE: ContextVar[Budget | None] = ContextVar("budget", default=None)


def budget_in_force() -> Budget | None:
    """That of the host whose configuration is worked on."""
    return _IN_FORCE.get()


def spend(steps: int) -> None:
    """Count ``steps`` of work, each about a microsecond, where a budget is in force. Raises :class:`ExhaustedError`."""
    budget = _IN_FORCE.get()
    if budget is not None:
        budget.spend(steps)


def joined(pieces: Iterable[str]) -> str:
    """Texts as one, each made when its turn comes. Raises :class:`UndeterminedError` for what is longer than a server would
    send."""
    made: list[str] = []
    length = 0
    for piece in pieces:
        made.append(piece)
        length += len(piece)
        if length > bounds.EXPANDED_CHARACTERS:
            break
        spend(1 + len(piece) // CHARACTERS_A_STEP)
    if length > bounds.EXPANDED_CHARACTERS:
        raise UndeterminedError(f"it comes to more than {bounds.EXPANDED_CHARACTERS:,} characters")
    return "".join(made)


def filled(pattern: re.Pattern[str], value_of: Callable[[re.Match[str]], str], text: str) -> str:
    """``text`` with each match of ``pattern`` replaced. Raises as :func:`joined` does."""

    def pieces() -> Iterable[str]:
        position = 0
        for found in pattern.finditer(text):
            yield text[position : found.start()]
            yield value_of(found)
            position = found.end()
        yield text[position:]

    return joined(pieces())


def allow_for(characters: int) -> None:
    """As :meth:`Budget.allow_for`, for the budget in force."""
    budget = _IN_FORCE.get()
    if budget is not None:
        budget.allow_for(characters)


def work_at(place: str) -> None:
    """Say what is worked on from here: where there is no budget left, the host's problem names it."""
    budget = _IN_FORCE.get()
    if budget is not None:
        budget.at = place
