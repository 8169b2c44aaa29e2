"""What to do first: the steps that gain most."""

from __future__ import annotations

from rupex.audit.score import Tally, repaired, value_of
from rupex.documents.run import Step


def first_steps(tallies: list[Tally], count: int = 3) -> list[Step]:
    """The ``count`` steps that gain most, each on top of those before it.

    A step is one control; behind ceilings it is the smallest set that gains: the holder, with all that would still
    hold the score at or below its present value.
    """
    steps: list[Step] = []
    current = list(tallies)
    while len(steps) < count:
        value = value_of(current)
        failing = [t for t in current if t.failed and t.weight > 0]
        if not failing:
            break
        holding = {t.control for t in failing if t.ceiling is not None and t.ceiling <= value}
        sets = [holding] if holding else [{t.control} for t in failing]
        best = max(sets, key=lambda controls: value_of(repaired(current, controls)))
        after = repaired(current, best)
        reached = value_of(after)
        if reached - value <= 1e-9:
            break
        steps.append(Step(tuple(sorted(best)), reached - value, reached))
        current = after
    return steps
