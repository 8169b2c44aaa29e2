"""What a control says about one place."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Final, Literal

from msgspec import Struct

from rupex.model.provenance import Provenance

Severity = Literal["critical", "high", "medium", "low"]
Verdict = Literal["fail", "unknown", "waived", "pass", "exempt"]

SEVERITIES: Final[tuple[Severity, ...]] = ("critical", "high", "medium", "low")  # worst first
VERDICTS: Final[tuple[Verdict, ...]] = ("fail", "unknown", "waived", "pass", "exempt")  # worst first


class Pass(Struct, frozen=True, gc=False):
    """It holds. ``message`` is worth saying where a pass is not obvious."""

    provenance: Provenance | None = None
    message: str = ""


class Fail(Struct, frozen=True, gc=False):
    """It does not hold. ``message`` says what is there and what should be, in one sentence without a full stop.

    ``provenance``: the line that decides it, or the block in which the missing word would be added.
    ``case``: which of the control's cases it is, when the baseline weighs them differently.
    ``evidence``: the words or bytes that show it; never a secret.
    """

    message: str
    provenance: Provenance | None = None
    case: str | None = None
    evidence: str | None = None


class Unknown(Struct, frozen=True, gc=False):
    """It could not be told, for the reason ``why``."""

    why: str
    provenance: Provenance | None = None


class Exempt(Struct, frozen=True, gc=False):
    """The control does not apply to this place."""

    why: str = ""


Judgement = Pass | Fail | Unknown | Exempt

PASS: Final = Pass()
EXEMPT: Final = Exempt()


def worst_verdict(verdicts: Iterable[Verdict]) -> Verdict:
    """The worst of ``verdicts``; ``exempt`` when there is none."""
    return min(verdicts, key=VERDICTS.index, default="exempt")
