"""A run under another baseline: what weights, severities and ceilings do to scores that were worked out already.

The judgements stay as they were: a threshold that changed, or a control that was off, needs another look at the host, and is
told as such.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Final

from msgspec import Struct

from rupex.audit.findings import findings_before, tally_of
from rupex.audit.score import Score, Tally, score
from rupex.baseline import Baseline, Rule
from rupex.documents.run import CheckDocument, HostDocument, Run

_SHOWN_OF_LIST: Final = 8
_LONG_WORD: Final = 40


class Change(Struct, frozen=True):
    """What another baseline says of one control. ``needs_a_look``: only another audit can tell what comes of it."""

    control: str
    words: str
    needs_a_look: bool = False


class Rescored(Struct, frozen=True):
    """One host: its score under the other baseline, with judgements as they were."""

    name: str
    old: float | None
    new: Score


def rescore(run: Run, baseline: Baseline) -> tuple[Rescored, ...]:
    """The score that each host of ``run`` would have under ``baseline``."""
    return tuple(Rescored(host.name, host.score.value, score(list(_tallies(host, baseline)))) for host in run.hosts)


def changes(run: Run, baseline: Baseline) -> tuple[Change, ...]:
    """What ``baseline`` says otherwise than the one that ``run`` was judged by, as far as the run shows."""
    seen: dict[str, CheckDocument] = {}
    for host in run.hosts:
        for check in host.checks:
            seen.setdefault(check.control, check)
    found: list[Change] = []
    for name, rule in baseline.rules.items():
        check_before = seen.get(name)
        if check_before is None:
            if rule.off is None:
                found.append(Change(name, "was not judged", needs_a_look=True))
        elif rule.off is not None:
            found.append(Change(name, f"is off: {rule.off}"))
        else:
            found += _changes(check_before, rule)
    return tuple(found)


def _changes(check: CheckDocument, rule: Rule) -> Iterable[Change]:
    name = check.control
    if check.weight != rule.weight:
        yield Change(name, f"weight {check.weight:g} becomes {rule.weight:g}")
    elif check.ceiling is not None and check.ceiling != (held := _ceiling(check, rule)):
        yield Change(name, f"ceiling {check.ceiling:g} becomes {'none' if held is None else f'{held:g}'}")
    for parameter, value in rule.plain_parameters().items():
        before = check.parameters.get(parameter)
        if before != value:
            yield Change(name, f"{parameter}: {_shown(before)} becomes {_shown(value)}", needs_a_look=True)


def _shown(value: Any) -> str:
    """A threshold on one line: of a long list the first few, of a long word its beginning."""
    if not isinstance(value, list | tuple):
        return str(value)
    words = [word if len(word) <= _LONG_WORD else f"{word[:_LONG_WORD]}…" for word in map(str, value[:_SHOWN_OF_LIST])]
    more = f" and {len(value) - _SHOWN_OF_LIST} more" if len(value) > _SHOWN_OF_LIST else ""
    return ", ".join(words) + more if words else "nothing"


def _ceiling(check: CheckDocument, rule: Rule, verdict: str = "fail") -> float | None:
    """The lowest ceiling of the places with ``verdict``, as ``rule`` has it."""
    held = [
        rule.case(place.case if isinstance(place.case, str) else None).ceiling
        for place in check.places
        if place.verdict == verdict
    ]
    return min((ceiling for ceiling in held if ceiling is not None), default=None)


def _tallies(host: HostDocument, baseline: Baseline) -> Iterable[Tally]:
    for check in host.checks:
        rule = baseline.rules.get(check.control)
        if rule is not None and rule.off is None:
            found = findings_before(check)
            found.ceiling, found.waived_ceiling = _ceiling(check, rule), _ceiling(check, rule, "waived")
            yield tally_of(rule, found)
