"""A host held against a baseline: every control at every place."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import datetime
from typing import Any, Final, Literal

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
    Tls,
    Unknown,
    Verdict,
)

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


def judge(
    host: Host, baseline: Baseline, now: datetime, *, keep_all: bool = False, whole_host: bool | None = None
) -> list[JudgedControl]:
    """Judge every control of ``baseline`` that is not off. ``keep_all``: keep passed and exempt places too.

    ``whole_host``: True judges only the controls that look at the host as a whole, False only the others.
    """
    judged: dict[str, JudgedControl] = {}
    places = Places(host)
    for name, rule in baseline.rules.items():
        if rule.off is None and whole_host in (None, rule.control.place == "host"):
            refined = judged.get(rule.control.refines or "")
            judged[name] = _judge_control(places, rule, now, refined, keep_all=keep_all)
    return list(judged.values())


def _judge_control(
    places: Places, rule: Rule, now: datetime, refined: JudgedControl | None, *, keep_all: bool
) -> JudgedControl:
    control = rule.control
    ask = _caller(control, rule.parameters, now)
    counts: dict[Verdict, int] = {"pass": 0, "fail": 0, "unknown": 0, "exempt": 0, "waived": 0}
    kept: list[Judged] = []
    failed_before = {} if refined is None else {p.key: p for p in refined.places if p.verdict == "fail"}
    also = (places.host,) if control.takes_host else ()
    once: dict[int, Judgement] = {}
    passed = exempt = 0
    for group in places.of(control):
        if group.is_exempt(control):
            for key, source, _ in group.places:
                if key in failed_before or keep_all:
                    kept.append(
                        _folded(failed_before[key], rule, source)
                        if key in failed_before
                        else Judged(key, "exempt", rule.severity, EXEMPT, source=source)
                    )
                else:
                    exempt += 1
            continue
        for key, source, arguments in group.places:
            if failed_before and key in failed_before:
                kept.append(_folded(failed_before[key], rule, source))
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
                if kind is Pass:
                    passed += 1
                    continue
                if kind is Exempt:
                    exempt += 1
                    continue
            kept.append(_judged(key, judgement, rule, source))
    counts["pass"], counts["exempt"] = passed, exempt
    if control.place in _PLACE_OF_PROBLEMS:
        kept += _unseen(places.host, rule)
    for place in kept:
        counts[place.verdict] += 1
    return JudgedControl(rule, counts, kept)


def _folded(before: Judged, rule: Rule, source: Any) -> Judged:
    """A place that fails because the control that this one refines fails there."""
    case = rule.case(None)
    refines = rule.control.refines
    return Judged(before.key, "fail", case.severity, before.judgement, case.ceiling, refines, None, source)


def _unseen(host: Host, rule: Rule) -> Iterator[Judged]:
    """One unknown place for each problem that may hide endpoints."""
    for problem in host.problems:
        if problem.hides_endpoints:
            where = problem.file or "?"
            unseen = Unknown(f"not all of the configuration could be read: {problem.message}")
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

    def is_exempt(self, control: Control) -> bool:
        if control.only is not None and control.only != self.transport:
            return True
        return (self.refuses and not control.refusing) or (self.is_local and control.local_exempt)


class Places:
    """All places of a host by kind, made once for all controls. ``shared_tls``: endpoints by id to a number that is the
    same where all their TLS settings but the certificates are."""

    def __init__(self, host: Host) -> None:
        self.host = host
        self.shared_tls: dict[str | None, int] = {}
        self._endpoints: dict[tuple[Any, ...], Group] = {}
        self._scopes: dict[tuple[Any, ...], Group] = {}
        self._names: dict[tuple[Any, ...], Group] = {}
        settings: dict[tuple[int, ...], int] = {}
        for endpoint in host.endpoints:
            transport: Literal["tls", "plain"] = "plain" if endpoint.transport == "plain" else "tls"
            where = (transport, endpoint.is_local, endpoint.refuses is not None)
            endpoints, scopes, names = (
                kind.setdefault(where, Group([], *where)).places
                for kind in (self._endpoints, self._scopes, self._names)
            )
            identity = endpoint.id
            endpoints.append(((identity, None, None, None), endpoint, (endpoint,)))
            for scope in endpoint.scopes:
                scopes.append(((identity, scope.id, None, None), scope, (endpoint, scope)))
            for scope, name in endpoint.scopes_with_names():
                names.append(((identity, scope.id, name, None), scope, (endpoint, scope, name)))
            if endpoint.tls is not None:
                fields = tuple(id(getattr(endpoint.tls, field)) for field in _TLS_SETTINGS)
                self.shared_tls[identity] = settings.setdefault(fields, len(settings))

    def of(self, control: Control) -> Iterable[Group]:
        """The places that ``control`` judges or is exempt at."""
        match control.place:
            case "host":
                key: Key = (None, None, None, None)
                return [Group([(key, self.host, () if control.takes_host else (self.host,))])]
            case "certificate":
                return [Group([((None, None, None, c.path), c, (c,)) for c in self.host.certificates])]
            case "file":
                return [Group([((None, None, None, f.path), f, (f,)) for f in self.host.files])]
            case "endpoint":
                return self._endpoints.values()
            case "scope":
                return self._scopes.values()
            case "name":
                return self._names.values()


_TLS_SETTINGS: Final = tuple(field for field in Tls.__struct_fields__ if field != "certificates")


def place_of(source: Any) -> Scope | Endpoint | None:
    """The part of the model that a place is, where it is one."""
    return source if isinstance(source, Scope | Endpoint) else None
