"""A host held against a baseline: every control at every place."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import datetime
from typing import Any, Final

from msgspec import Struct, structs

from rupex.audit.places import Key, Likes, Places
from rupex.baseline import Baseline, Rule, Waiver, Waivers, place_names
from rupex.controls import Control
from rupex.model import (
    EXEMPT,
    Exempt,
    Fail,
    Host,
    Judgement,
    Likeness,
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
    samples: int | None = None,
    waivers: Waivers | None = None,
) -> list[JudgedControl]:
    """Judge every control of ``baseline`` that is not off. ``keep_all``: keep passed and exempt places too.

    ``waivers``: failures that are accepted; with them, endpoints that are alike are judged one by one.

    ``samples``: of places that are like another one keep so many, and count the others; None: keep all.
    ``whole_host``: True judges only the controls that look at the host as a whole, False only the others.
    """
    judged: dict[str, JudgedControl] = {}
    places = Places(host, use_likeness=not keep_all and waivers is None, samples=samples)
    for name, rule in baseline.rules.items():
        if rule.off is None and whole_host in (None, rule.control.place == "host"):
            refined = judged.get(rule.control.refines or "")
            judged[name] = _judge_control(places, rule, now, refined, keep_all=keep_all, waivers=waivers)
    return list(judged.values())


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
    ask = _caller(control, rule.parameters, now)
    counts: dict[Verdict, int] = {"pass": 0, "fail": 0, "unknown": 0, "exempt": 0, "waived": 0}
    kept: list[Judged] = []
    failed_before = {} if refined is None else {p.key: p for p in refined.places if p.verdict in ("fail", "waived")}
    also = (places.host,) if control.takes_host else ()
    once: dict[int, Judgement] = {}
    likes = places.likes_of(control)
    quiet: dict[str | None, list[int]] = {model: [0, 0] for model in likes}  # places that pass and are exempt
    passed = exempt = 0
    for group in places.of(control):
        if group.is_exempt(control) or (places.host.behind and control.is_for_the_edge):
            for key, source, _ in group.places:
                if key in failed_before or keep_all:
                    kept.append(
                        _folded(failed_before[key], rule, source)
                        if key in failed_before
                        else Judged(key, "exempt", rule.severity, EXEMPT, source=source)
                    )
                else:
                    exempt += 1
                    if key[0] in quiet:
                        quiet[key[0]][1] += 1
            continue
        blind = group.is_blind_to(control)
        for key, source, arguments in group.places:
            if failed_before and key in failed_before:
                kept.append(_folded(failed_before[key], rule, source))
                continue
            if blind:
                if not places.has_both:
                    kept.append(_judged(key, _BLIND, rule, source))
                elif keep_all:
                    kept.append(_judged(key, EXEMPT, rule, source))
                else:
                    exempt += 1
                continue
            if control.takes_tls:  # endpoints that share their settings share the judgement
                shared = places.shared_tls[key[0]]
                judgement = once.get(shared)
                if judgement is None:
                    judgement = once[shared] = ask((source.tls,))
            else:
                judgement = ask(arguments + also)
            if not keep_all:
                kind = judgement.__class__
                if kind is Pass or kind is Exempt:
                    passed, exempt = passed + (kind is Pass), exempt + (kind is Exempt)
                    if key[0] in quiet:
                        quiet[key[0]][kind is Exempt] += 1
                    continue
            kept.append(_judged(key, judgement, rule, source))
    for model, (good, spared) in quiet.items():
        passed, exempt = passed + good * len(likes[model]), exempt + spared * len(likes[model])
    if likes:
        kept = _with_likes(kept, likes, places.samples)
    counts["pass"], counts["exempt"] = passed, exempt
    if control.place in _PLACE_OF_PROBLEMS:
        kept += _unseen(places.host, rule)
    if waivers is not None:
        kept = [_waived(place, control.id, places.host.name, waivers, now) for place in kept]
    for place in kept:
        counts[place.verdict] += 1 + place.alike
    return JudgedControl(rule, counts, kept)


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


def _with_likes(kept: list[Judged], likes: Likes, samples: int | None) -> list[Judged]:
    """``kept``, and what was found at endpoints that others are like, at those others, in their own names and lines; with
    ``samples``, at so many of them, for which the place of the first stands."""
    by_model: dict[str | None, list[Judged]] = {}
    for place in kept:
        if place.key[0] in likes:
            by_model.setdefault(place.key[0], []).append(place)
    found = list(kept)
    if samples is not None:
        found = [
            structs.replace(place, alike=more) if (more := len(likes.get(place.key[0], ())) - samples) > 0 else place
            for place in kept
        ]
    for model, places in by_model.items():
        for endpoint, likeness in likes[model][:samples]:
            for place in places:
                _, scope, name, _ = place.key
                key = (
                    endpoint.id,
                    None if scope is None else likeness.text(scope),
                    None if name is None else likeness.text(name),
                    None,
                )
                judgement = _moved_judgement(place.judgement, likeness)
                found.append(
                    Judged(key, place.verdict, place.severity, judgement, place.ceiling, place.folded, None, endpoint)
                )
    return found


def _moved_judgement(judgement: Judgement, likeness: Likeness) -> Judgement:
    place = getattr(judgement, "provenance", None)
    moved = None if place is None else likeness.place(place)
    match judgement:
        case Fail():
            evidence = None if judgement.evidence is None else likeness.text(judgement.evidence)
            return Fail(likeness.text(judgement.message), moved, judgement.case, evidence)
        case Unknown():
            return Unknown(likeness.text(judgement.why), moved)
        case _:
            return judgement


def _folded(before: Judged, rule: Rule, source: Any) -> Judged:
    """A place that fails, or is waived, because the control that this one refines is there."""
    case = rule.case(None)
    refines = rule.control.refines
    judgement, waiver = before.judgement, before.waiver
    return Judged(before.key, before.verdict, case.severity, judgement, case.ceiling, refines, None, source, 0, waiver)


def _unseen(host: Host, rule: Rule) -> Iterator[Judged]:
    """One unknown place for each problem that may hide endpoints."""
    for problem in host.problems:
        if problem.hides_endpoints:
            where = problem.file or "?"
            unseen = Unknown(f"not all could be seen: {problem.message}")
            yield Judged((None, None, None, where), "unknown", rule.severity, unseen, unseen=where)


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


def _caller(control: Control, parameters: Mapping[str, Any], now: datetime) -> Callable[[tuple[Any, ...]], Judgement]:
    keywords = dict(parameters)
    if control.takes_now:
        keywords["now"] = now
    judge = control.judge
    if not keywords:
        return lambda arguments: judge(*arguments)
    return lambda arguments: judge(*arguments, **keywords)
