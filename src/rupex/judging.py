"""A host held against a baseline: every control at every place."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import datetime
from typing import Any, Final

from msgspec import Struct

from rupex.baseline import Baseline, Rule
from rupex.controls import Control
from rupex.model import (
    EXEMPT,
    Endpoint,
    Exempt,
    Fail,
    Host,
    Judgement,
    Pass,
    Scope,
    Severity,
    Unknown,
    Verdict,
    worst_verdict,
)
from rupex.scoring import Tally

_PLACE_OF_PROBLEMS: Final = frozenset({"endpoint", "scope", "name"})

Key = tuple[str | None, str | None, str | None, str | None]
"""A place: endpoint id, scope id, server name, file."""


class Judged(Struct, frozen=True):
    """One place and what was found there. ``folded``: the control that failed here already and took this one with it."""

    key: Key
    verdict: Verdict
    severity: Severity
    judgement: Judgement
    ceiling: float | None = None
    folded: str | None = None
    unseen: str | None = None
    source: Any = None


class JudgedControl(Struct):
    """One control over all its places. ``places``: those that fail, are unknown or waived; or all, when kept."""

    rule: Rule
    counts: dict[Verdict, int]
    places: list[Judged]
    tally: Tally

    @property
    def verdict(self) -> Verdict:
        return worst_verdict(verdict for verdict, count in self.counts.items() if count)


def judge(host: Host, baseline: Baseline, now: datetime, *, keep_all: bool = False) -> list[JudgedControl]:
    """Judge every control of ``baseline`` that is not off. ``keep_all``: keep passed and exempt places too."""
    judged: dict[str, JudgedControl] = {}
    for name, rule in baseline.rules.items():
        if rule.off is None:
            refined = judged.get(rule.control.refines or "")
            judged[name] = _judge_control(host, rule, now, refined, keep_all=keep_all)
    return list(judged.values())


def _judge_control(
    host: Host, rule: Rule, now: datetime, refined: JudgedControl | None, *, keep_all: bool
) -> JudgedControl:
    control = rule.control
    ask = _caller(control, rule.parameters, now)
    counts: dict[Verdict, int] = {"pass": 0, "fail": 0, "unknown": 0, "exempt": 0, "waived": 0}
    places: list[Judged] = []
    ceilings: list[float] = []
    failed_before = {} if refined is None else {p.key: p for p in refined.places if p.verdict == "fail"}
    for key, source, arguments in _places(host, control):
        before = failed_before.get(key)
        if before is not None:
            case = rule.case(None)
            judgement: Judgement = before.judgement
            place = Judged(key, "fail", case.severity, judgement, case.ceiling, control.refines, None, source)
        else:
            judgement = EXEMPT if arguments is None else ask(arguments)
            if isinstance(judgement, Pass | Exempt) and not keep_all:
                counts["pass" if isinstance(judgement, Pass) else "exempt"] += 1
                continue
            place = _judged(key, judgement, rule, source)
        counts[place.verdict] += 1
        places.append(place)
        if place.verdict == "fail" and place.ceiling is not None:
            ceilings.append(place.ceiling)
    if control.place in _PLACE_OF_PROBLEMS:
        for problem in host.problems:
            if problem.hides_endpoints:
                where = problem.file or "?"
                why = f"not all of the configuration could be read: {problem.message}"
                unseen = Unknown(why)
                places.append(Judged((None, None, None, where), "unknown", rule.severity, unseen, unseen=where))
                counts["unknown"] += 1
    return JudgedControl(rule, counts, places, _tally(rule, counts, places, ceilings))


def _judged(key: Key, judgement: Judgement, rule: Rule, source: Any) -> Judged:
    match judgement:
        case Fail():
            case = rule.case(judgement.case)
            return Judged(key, "fail", case.severity, judgement, case.ceiling, source=source)
        case Unknown():
            return Judged(key, "unknown", rule.severity, judgement, source=source)
        case Pass():
            return Judged(key, "pass", rule.severity, judgement, source=source)
        case _:
            return Judged(key, "exempt", rule.severity, judgement, source=source)


def _tally(rule: Rule, counts: Mapping[Verdict, int], places: list[Judged], ceilings: list[float]) -> Tally:
    possible = [c for c in (rule.ceiling, *(case.ceiling for case in rule.cases.values())) if c is not None]
    doubt = next((p.judgement for p in places if isinstance(p.judgement, Unknown)), None)
    return Tally(
        control=rule.control.id,
        weight=rule.weight,
        passed=counts["pass"],
        failed=counts["fail"],
        unknown=counts["unknown"],
        waived=counts["waived"],
        ceiling=min(ceilings, default=None),
        unknown_ceiling=min(possible, default=None) if counts["unknown"] else None,
        because=doubt.why if doubt is not None else "",
        refines=rule.control.refines,
        folded=sum(1 for place in places if place.folded is not None),
    )


def _caller(control: Control, parameters: Mapping[str, Any], now: datetime) -> Callable[[tuple[Any, ...]], Judgement]:
    keywords = dict(parameters)
    if control.takes_now:
        keywords["now"] = now
    judge = control.judge
    if not keywords:
        return lambda arguments: judge(*arguments)
    return lambda arguments: judge(*arguments, **keywords)


def _places(host: Host, control: Control) -> Iterator[tuple[Key, Any, tuple[Any, ...] | None]]:
    """Every place of ``control`` with the arguments to judge it by; None where the place is exempt by what it is."""
    also = (host,) if control.takes_host else ()
    match control.place:
        case "host":
            yield (None, None, None, None), host, (host,)
        case "certificate":
            for certificate in host.certificates:
                yield (None, None, None, certificate.path), certificate, (certificate, *also)
        case "file":
            for file in host.files:
                yield (None, None, None, file.path), file, (file, *also)
        case "endpoint":
            for endpoint in host.endpoints:
                yield (
                    (endpoint.id, None, None, None),
                    endpoint,
                    None if _exempt(control, endpoint) else (endpoint, *also),
                )
        case "scope" | "name":
            for endpoint in host.endpoints:
                is_exempt = _exempt(control, endpoint)
                if control.place == "scope":
                    for scope in endpoint.scopes:
                        arguments = None if is_exempt else (endpoint, scope, *also)
                        yield (endpoint.id, scope.id, None, None), scope, arguments
                else:
                    for scope, name in endpoint.scopes_with_names():
                        arguments = None if is_exempt else (endpoint, scope, name, *also)
                        yield (endpoint.id, scope.id, name, None), scope, arguments


def _exempt(control: Control, endpoint: Endpoint) -> bool:
    transport = "plain" if endpoint.transport == "plain" else "tls"
    if control.only is not None and control.only != transport:
        return True
    if endpoint.refuses is not None and not control.refusing:
        return True
    return control.local_exempt and endpoint.is_local


def place_of(source: Any) -> Scope | Endpoint | None:
    """The part of the model that a place is, where it is one."""
    return source if isinstance(source, Scope | Endpoint) else None
