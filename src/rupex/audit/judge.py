"""A host held against a baseline: every control at every place."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime
from typing import Any, Final

from msgspec import Struct, structs

from rupex.audit.places import Key, PlaceGroup, Places
from rupex.baseline import Baseline, Rule, Waiver, Waivers, place_names
from rupex.model import (
    EXEMPT,
    Endpoint,
    Exempt,
    Fail,
    Host,
    Judgement,
    Pass,
    Severity,
    Unknown,
    Verdict,
)

_BLIND: Final = Unknown("only the configuration can tell")
_PLACE_OF_PROBLEMS: Final = frozenset({"endpoint", "scope", "name"})


class Judged(Struct, frozen=True):
    """One place and what was found there. ``folded``: the control that failed here already and took this one with it;
    ``alike``: how many further places it stands for; ``waiver``: of a place that is waived, or whose waiver has run out."""

    key: Key
    verdict: Verdict
    severity: Severity
    judgement: Judgement
    ceiling: float | None = None
    folded: str | None = None
    unseen: str | None = None
    source: Any = None
    alike: int = 0
    waiver: Waiver | None = None


class JudgedControl(Struct):
    """One control over all its places. ``places``: those that fail, are unknown or waived; or all, when kept."""

    rule: Rule
    counts: dict[Verdict, int]
    places: list[Judged]


def judge(
    host: Host,
    baseline: Baseline,
    now: datetime,
    *,
    keep_all: bool = False,
    whole_host: bool | None = None,
    waivers: Waivers | None = None,
) -> Iterator[JudgedControl]:
    """Judge every control of ``baseline`` that is not off, one after the other. ``keep_all``: keep passed and exempt places too.

    ``waivers``: failures that are accepted; with them the host may have no groups, for each place has a name of its own.
    ``whole_host``: True judges only the controls that have to know all endpoints of the host, False only the others.
    """
    rules = {name: rule for name, rule in baseline.rules.items() if rule.off is None}
    places = Places(host, [rule.control for rule in rules.values()])
    refined = dict[
        str, JudgedControl
    ]()  # the places of a large host fill the memory: only those that are asked for again
    refined_names = {rule.control.refines for rule in rules.values()}
    for name, rule in rules.items():
        if whole_host in (None, rule.control.needs_whole_host):
            before = refined.get(rule.control.refines or "")
            judged = _judge_control(places, rule, now, before, keep_all=keep_all, waivers=waivers)
            if name in refined_names:
                refined[name] = judged
            yield judged


def _judge_control(
    places: Places,
    rule: Rule,
    now: datetime,
    refined: JudgedControl | None,
    *,
    keep_all: bool,
    waivers: Waivers | None,
) -> JudgedControl:
    control = rule.control
    failed_before = {} if refined is None else {p.key: p for p in refined.places if p.verdict in ("fail", "waived")}
    kept: list[Judged] = []
    passed = exempt = 0
    question = _Question(places, rule, now)
    for group in places.of(control):
        count, more = group.count, group.count - 1
        judge_place = question.of(group)
        if judge_place is _exempt and not keep_all and not failed_before:
            exempt += count * len(group.places)
            continue
        for key, source, arguments in group.places:
            if failed_before and key in failed_before:
                kept.append(_folded(failed_before[key], rule, source))
                continue
            judgement = judge_place(key, source, arguments)
            if not keep_all:
                kind = judgement.__class__
                if kind is Pass:
                    passed += count
                    continue
                if kind is Exempt:
                    exempt += count
                    continue
            if group.in_words:
                judgement = places.words[str(key[0])].put_in(judgement)
            kept.append(_judged(key, judgement, rule, source, more))
    if control.place in _PLACE_OF_PROBLEMS:
        kept += _unseen(places.host, rule)
    if waivers is not None:
        kept = [_waived(place, control.id, places.host.name, waivers, now) for place in kept]
    counts: dict[Verdict, int] = {"pass": passed, "fail": 0, "unknown": 0, "exempt": exempt, "waived": 0}
    for place in kept:
        counts[place.verdict] += 1 + place.alike
    return JudgedControl(rule, counts, kept)


class _Question:
    """What one rule asks at each place: its control with its parameters, and what else it takes."""

    def __init__(self, places: Places, rule: Rule, now: datetime) -> None:
        control = rule.control
        self.places, self.control = places, control
        self.keywords: dict[str, Any] = dict(rule.parameters)
        if control.takes_now:
            self.keywords["now"] = now
        self.also: tuple[object, ...] = (places.for_host_controls,) if control.takes_host else ()
        if control.takes_certificates:
            self.also = (places.host.known_certificates,)
        self._of_tls: dict[int, Judgement] = {}
        judge, also, keywords = (
            control.judge,
            self.also,
            self.keywords,
        )  # called for each place: half a million of a large host

        def judge_place(key: Key, source: Any, arguments: tuple[Any, ...]) -> Judgement:
            return judge(*arguments, *also, **keywords) if also or keywords else judge(*arguments)

        self._judge_place = judge_place

    def of(self, group: PlaceGroup) -> _JudgePlace:
        """How the places of a group are judged: by the evidence there is, or by the control."""
        control = self.control
        if group.is_exempt(control) or (self.places.host.behind and control.is_for_the_edge):
            return _exempt
        is_blind = group.is_blind_to(control)
        if is_blind and self.places.has_both:
            return _exempt
        if group.is_unopened(control):
            return _unopened
        if is_blind:
            return _blind
        return self._tls if control.takes_tls else self._judge_place

    def _tls(self, key: Key, source: Any, arguments: tuple[Any, ...]) -> Judgement:
        """Endpoints that share their TLS settings share the judgement."""
        shared = self.places.shared_tls.get(key[0])
        earlier = None if shared is None else self._of_tls.get(shared)
        if earlier is not None:
            return earlier
        judgement = self.control.judge(source.tls, **self.keywords)
        if shared is not None:
            self._of_tls[shared] = judgement
        return judgement


_JudgePlace = Callable[[Key, Any, tuple[Any, ...]], Judgement]


def _exempt(key: Key, source: Any, arguments: tuple[Any, ...]) -> Judgement:
    return EXEMPT


def _blind(key: Key, source: Any, arguments: tuple[Any, ...]) -> Judgement:
    return _BLIND


def _unopened(key: Key, endpoint: Endpoint, arguments: tuple[Any, ...]) -> Judgement:
    """What can be said of TLS that goes through an endpoint unopened: what the server says that opens it."""
    if endpoint.opened_here is True:
        return EXEMPT
    backends = endpoint.backends if isinstance(endpoint.backends, tuple) else ()
    where = ", ".join(f"{b.address}:{b.port}" if b.port else b.address for b in backends[:3]) or "another server"
    return Unknown(f"what is sent goes on to {where} unopened, and that is not in this tree", endpoint.provenance)


def _waived(place: Judged, control: str, host: str, waivers: Waivers, now: datetime) -> Judged:
    """A failing place as its waiver leaves it."""
    if place.verdict != "fail" or place.waiver is not None:
        return place
    decided = getattr(place.judgement, "provenance", None)
    file, line = (None, None) if decided is None else (decided.file, decided.line)
    endpoint, scope, name, own = place.key
    names = (*place_names(endpoint, scope, name, own), *place_names(None, None, None, file, line))
    found = waivers.find(control, host, names, now.date())
    if found is None:
        return place
    return structs.replace(place, verdict="fail" if found.is_over(now.date()) else "waived", waiver=found)


def _folded(before: Judged, rule: Rule, source: Any) -> Judged:
    """A place that fails, or is waived, because the control that this one refines is there."""
    case = rule.case(None)
    refines = rule.control.refines
    judgement, waiver = before.judgement, before.waiver
    return Judged(
        before.key, before.verdict, case.severity, judgement, case.ceiling, refines, None, source, before.alike, waiver
    )


def _unseen(host: Host, rule: Rule) -> Iterator[Judged]:
    """One unknown place for each problem that may hide endpoints."""
    for problem in host.problems:
        if problem.hides_endpoints:
            where = problem.file or "?"
            unseen = Unknown(f"not all could be seen: {problem.message}")
            yield Judged((None, None, None, where), "unknown", rule.severity, unseen, unseen=where)


def _judged(key: Key, judgement: Judgement, rule: Rule, source: Any, alike: int) -> Judged:
    match judgement:
        case Fail():
            case = rule.case(judgement.case)
            return Judged(key, "fail", case.severity, judgement, case.ceiling, source=source, alike=alike)
        case Unknown():
            return Judged(key, "unknown", rule.severity, judgement, source=source, alike=alike)
        case Pass():
            return Judged(key, "pass", rule.severity, judgement, source=source, alike=alike)
        case _:
            return Judged(key, "exempt", rule.severity, judgement, source=source, alike=alike)
