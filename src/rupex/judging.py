"""A host held against a baseline: every control at every place."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import datetime
from typing import Any, Final, Literal

from msgspec import Struct, structs

from rupex.baseline import Baseline, Rule, Waiver, Waivers, place_names
from rupex.controls import Control
from rupex.model import (
    EXEMPT,
    Endpoint,
    Exempt,
    Fail,
    Host,
    Judgement,
    Likeness,
    Pass,
    Severity,
    Tls,
    Unknown,
    Verdict,
)

_BLIND: Final = Unknown("only the configuration can tell")
_PLACE_OF_PROBLEMS: Final = frozenset({"endpoint", "scope", "name"})

Key = tuple[str | None, str | None, str | None, str | None]
"""A place: endpoint id, scope id, server name, file."""


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


Row = tuple[Key, Any, tuple[Any, ...]]
"""A place: its key, the part of the model that it is, and the arguments to judge it by."""


class Group(Struct, frozen=True):
    """Places of which the same controls are exempt: by transport, by being local, and by refusing every handshake."""

    places: list[Row]
    transport: Literal["tls", "plain"] | None = None
    is_local: bool = False
    refuses: bool = False
    is_wire_only: bool = False
    is_config_only: bool = False
    is_control: bool = False

    def is_blind_to(self, control: Control) -> bool:
        """Whether what is known of these places can say nothing about ``control``."""
        return self.is_wire_only and "wire" not in control.evidence

    def is_exempt(self, control: Control) -> bool:
        if control.only is not None and control.only != self.transport:
            return True
        if self.is_control is not control.control_ports and self.transport is not None:
            return True
        if control.both_sides and self.is_config_only:
            return True
        return (self.refuses and not control.refusing) or (self.is_local and control.local_exempt)


Likes = dict[str | None, list[tuple[Endpoint, Likeness]]]
"""Endpoints, by the id of the one that they are like, with how they come of it."""

_NO_LIKES: Final[Likes] = {}


class Places:
    """All places of a host by kind, made once for all controls. ``shared_tls``: endpoints by id to a number that is the
    same where all their TLS settings but the certificates are. ``has_both``: the configuration speaks for what the wire cannot
    show. ``use_likeness``: leave out endpoints that are like
    another one; a control that looks at the host as well is asked about each of them all the same."""

    def __init__(self, host: Host, *, use_likeness: bool, samples: int | None = None) -> None:
        self.host, self.samples = host, samples
        self.has_both = {source.kind for source in host.sources} == {"config", "wire"}
        self.shared_tls: dict[str | None, int] = {}
        self._likes: Likes = {}
        self._models: list[Endpoint] = []
        self._groups: dict[tuple[str, bool], list[Group]] = {}
        settings: dict[tuple[int, ...], int] = {}
        for endpoint in host.endpoints:
            alike = host.alike.get(endpoint.id) if use_likeness else None
            if alike is not None:
                self._likes.setdefault(alike.model.id, []).append((endpoint, alike.likeness))
            else:
                self._models.append(endpoint)
            if endpoint.tls is not None and alike is None:
                fields = tuple(id(getattr(endpoint.tls, field)) for field in _TLS_SETTINGS)
                self.shared_tls[endpoint.id] = settings.setdefault(fields, len(settings))

    def _whole(self, endpoint: Endpoint) -> Endpoint:
        """``endpoint`` with its scopes, which an outline does not have."""
        alike = self.host.alike.get(endpoint.id)
        if alike is None or endpoint.scopes or not alike.model.scopes:
            return endpoint
        whole: Endpoint = structs.replace(alike.likeness.moved(alike.model), id=endpoint.id)
        return whole

    def likes_of(self, control: Control) -> Likes:
        """The endpoints whose judgement by ``control`` follows from that of another."""
        is_part = control.place in ("endpoint", "scope", "name")
        return self._likes if is_part and not _tells_apart(control) else _NO_LIKES

    def of(self, control: Control) -> list[Group]:
        """The places that ``control`` judges or is exempt at."""
        match control.place:
            case "host":
                key: Key = (None, None, None, None)
                kinds = {source.kind for source in self.host.sources}
                row = (key, self.host, () if control.takes_host else (self.host,))
                return [Group([row], is_wire_only=kinds == {"wire"})]
            case "certificate":
                return [Group([((None, None, None, c.path), c, (c,)) for c in self.host.certificates])]
            case "file":
                return [Group([((None, None, None, f.path), f, (f,)) for f in self.host.files])]
            case "endpoint" | "scope" | "name":
                which = (control.place, _tells_apart(control))
                found = self._groups.get(which)
                if found is None:
                    endpoints: Iterable[Endpoint] = self._models
                    if _tells_apart(control):
                        alone = control.place == "endpoint"
                        endpoints = self.host.endpoints if alone else map(self._whole, self.host.endpoints)
                    found = self._groups[which] = _grouped(control.place, endpoints)
                return found


def _tells_apart(control: Control) -> bool:
    """Whether ``control`` may judge endpoints that are alike in different ways. What only holds both sides against each other
    never judges such ones, which are the configuration's."""
    return control.takes_host and not control.both_sides


def _grouped(kind: Literal["endpoint", "scope", "name"], endpoints: Iterable[Endpoint]) -> list[Group]:
    """The places of one kind in ``endpoints``."""
    groups: dict[tuple[Any, ...], Group] = {}
    for endpoint in endpoints:
        transport: Literal["tls", "plain"] = "plain" if endpoint.transport == "plain" else "tls"
        where = (
            transport,
            endpoint.is_local,
            endpoint.refuses is not None,
            endpoint.sources == ("wire",),
            endpoint.sources == ("config",),
            endpoint.control is not None,
        )
        group = groups.get(where)
        if group is None:
            group = groups[where] = Group([], *where)
        rows, identity = group.places, endpoint.id
        if kind == "endpoint":
            rows.append(((identity, None, None, None), endpoint, (endpoint,)))
        elif kind == "scope":
            rows += [((identity, scope.id, None, None), scope, (endpoint, scope)) for scope in endpoint.scopes]
        else:
            for scope, name in endpoint.scopes_with_names():
                rows.append(((identity, scope.id, name, None), scope, (endpoint, scope, name)))
    return list(groups.values())


_TLS_SETTINGS: Final = tuple(field for field in Tls.__struct_fields__ if field != "certificates")
