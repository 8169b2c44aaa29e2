"""Two runs laid side by side: what got better and worse, where the points went, and why nothing changed where it did not."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Final

from rupex.documents.comparison import (
    Changed,
    ChangeDocument,
    CompareDocument,
    HostComparison,
    LostPair,
    ScorePair,
    UnchangedDocument,
)
from rupex.documents.run import CheckDocument, FileTrace, HostDocument, PlaceDocument, Run
from rupex.model import Endpoint, Verdict
from rupex.model.judgement import SEVERITIES, VERDICTS

_WIRE = re.compile(r"wire:(?:\[[^\]]*\]|[^:]*):")
_SMALL: Final = 0.005

Key = tuple[str | None, str | None, str | None, str | None]
Reason = tuple[str, str]
"""Why a place fails still, and what shows it."""


def compare(old: Run, new: Run, old_name: str, new_name: str) -> CompareDocument:
    """What changed from ``old`` to ``new``, host by host. Hosts go by their names; two runs of one host each are compared
    whatever those are called."""
    befores = {host.name: host for host in old.hosts}
    afters = {host.name: host for host in new.hosts}
    notes = []
    if len(befores) == len(afters) == 1 and set(befores) != set(afters):
        (before,), (after,) = befores.values(), afters.values()
        notes.append(f"the hosts are called {before.name} and {after.name}; they are taken for one")
        befores = {after.name: before}
    if old.baseline.digest != new.baseline.digest:
        notes.append(
            f"the baselines differ: {old.baseline.name} {old.baseline.version} and"
            f" {new.baseline.name} {new.baseline.version}"
        )
    if old.started > new.started:
        notes.append("the first run is the younger one")
    notes += [
        f"the {which} run is incomplete: what it did not see is no change"
        for which, run in (("first", old), ("second", new))
        if not run.complete
    ]
    names = dict.fromkeys((*befores, *afters))
    hosts = tuple(_host(name, befores.get(name), afters.get(name)) for name in names)
    return CompareDocument(old=old_name, new=new_name, hosts=hosts, notes=tuple(notes))


def _host(name: str, old: HostDocument | None, new: HostDocument | None) -> HostComparison:
    changes = [] if old is None or new is None else sorted(_changes(old, new), key=_badness)
    return HostComparison(
        name=name,
        score=ScorePair(None if old is None else old.score.value, None if new is None else new.score.value),
        ceilings=ScorePair(_ceiling(old), _ceiling(new)),
        parts=tuple(_parts(old, new)),
        changes=tuple(changes),
        unchanged_because=() if old is None or new is None else tuple(_unchanged(old, new)),
    )


def _ceiling(host: HostDocument | None) -> float | None:
    return None if host is None or host.score.ceiling is None else host.score.ceiling.value


def _badness(change: ChangeDocument) -> tuple[int, str]:
    return SEVERITIES.index(change.severity), change.control


def _parts(old: HostDocument | None, new: HostDocument | None) -> Iterator[LostPair]:
    before, after = ({c.control: c.lost for c in (() if host is None else host.checks)} for host in (old, new))
    for control in dict.fromkeys((*before, *after)):
        pair = LostPair(control, before.get(control, 0.0), after.get(control, 0.0))
        if abs(pair.old - pair.new) > _SMALL:
            yield pair


def _identity(endpoint: str | None) -> str | None:
    """An endpoint's id as it stays from run to run: the address that a name resolves to may change."""
    return None if endpoint is None else _WIRE.sub("wire:", endpoint)


def _key(place: PlaceDocument) -> Key:
    file = place.file if place.endpoint is None else None
    if file is not None:
        file = _WIRE.sub("wire:", file)
    return _identity(place.endpoint), place.scope, place.name, file


def _by_key(check: CheckDocument | None) -> dict[Key, PlaceDocument]:
    """The places of a check; of several with one key the worst."""
    found: dict[Key, PlaceDocument] = {}
    for place in () if check is None else check.places:
        earlier = found.get(_key(place))
        if earlier is None or VERDICTS.index(place.verdict) < VERDICTS.index(earlier.verdict):
            found[_key(place)] = place
    return found


def _changes(old: HostDocument, new: HostDocument) -> Iterator[ChangeDocument]:
    befores, afters = _checks(old), _checks(new)
    there_before, there_after = _present(old), _present(new)
    for control in dict.fromkeys((*befores, *afters)):
        before, after = befores.get(control), afters.get(control)
        was, now = _by_key(before), _by_key(after)
        for key in dict.fromkeys((*now, *was)):
            first, second = was.get(key), now.get(key)
            one = first.verdict if first else _absent(key, before, there_before)
            two = second.verdict if second else _absent(key, after, there_after)
            place = second or first
            change = _change(one, two)
            if place is not None and change is not None:
                yield ChangeDocument(control, change, place.severity, place, one, two)


def _checks(host: HostDocument) -> dict[str, CheckDocument]:
    return {check.control: check for check in host.checks}


def _present(host: HostDocument) -> frozenset[str | None]:
    """The endpoints of a host, by what their ids keep."""
    return frozenset(_identity(endpoint.id) for endpoint in host.endpoints)


def _absent(key: Key, check: CheckDocument | None, endpoints: frozenset[str | None]) -> Verdict | None:
    """The verdict of a place that a run does not list: it held, unless the run has no such endpoint or did not judge it."""
    if check is None or (key[0] is not None and key[0] not in endpoints):
        return None
    return "pass"


def _change(old: Verdict | None, new: Verdict | None) -> Changed | None:
    if old == new:
        return None
    if old is None:
        return "new"
    if new is None:
        return "gone"
    if {old, new} <= {"pass", "exempt"}:
        return None
    return "better" if VERDICTS.index(new) > VERDICTS.index(old) else "worse"


# Why nothing changed


def _unchanged(old: HostDocument, new: HostDocument) -> Iterator[UnchangedDocument]:
    befores = _checks(old)
    why = _Why(old, new)
    for check in sorted(new.checks, key=lambda check: SEVERITIES.index(check.severity)):
        was = _by_key(befores.get(check.control))
        reasons: dict[Reason, int] = {}
        for key, place in _by_key(check).items():
            before = was.get(key)
            if place.verdict == "fail" and before is not None and before.verdict == "fail" and not place.folded:
                reason = why.of(before, place)
                reasons[reason] = reasons.get(reason, 0) + 1
        for (words, evidence), count in reasons.items():
            yield UnchangedDocument(check.control, check.severity, words, evidence, count)


class _Why:
    """Finds the reason why a place fails in both runs."""

    def __init__(self, old: HostDocument, new: HostDocument) -> None:
        self.old = {trace.file: trace for trace in old.traces}
        self.new = {trace.file: trace for trace in new.traces}
        self.endpoints_before = {_identity(e.id): e for e in old.endpoints}
        self.endpoints = {_identity(e.id): e for e in new.endpoints}
        self.drift = self._drift(new.checks)

    @staticmethod
    def _drift(checks: Sequence[CheckDocument]) -> Mapping[str | None, str]:
        return {
            _identity(place.endpoint): place.message
            for check in checks
            if check.control.startswith("drift.")
            for place in check.places
            if place.verdict == "fail"
        }

    def of(self, before: PlaceDocument, place: PlaceDocument) -> Reason:
        observed = self.endpoints.get(_identity(place.endpoint))
        if observed is not None and observed.wire is not None:
            return self._on_the_wire(self.endpoints_before.get(_identity(place.endpoint)), observed)
        file = place.file or (place.provenance.file if place.provenance is not None else None)
        if file is None:
            return "it is decided by a default, and no line sets it", _note(place)
        return self._on_disk(before, place, file)

    def _on_disk(self, before: PlaceDocument, place: PlaceDocument, file: str) -> Reason:
        was, now = self.old.get(file), self.new.get(file)
        if place.line is None and place.endpoint is None:  # a mode, an owner, a certificate
            return "the file is as it was", place.message
        if was is None or now is None or was.sha256 is None or now.sha256 is None:
            return "the same line decides it", f"{file}:{place.line}"
        if was.sha256 == now.sha256:
            return "the file is the same in both runs", f"{file}, {_written(now)}sha256 {now.sha256[:12]}…"
        where = f"line {before.line} then, line {place.line} now" if before.line != place.line else f"line {place.line}"
        return "the file changed, but not what decides this", f"{file}, {_written(now)}{where}"

    def _on_the_wire(self, before: Endpoint | None, observed: Endpoint) -> Reason:
        assert observed.wire is not None
        if observed.wire.cached:
            return "a cache answered", f"{', '.join(observed.wire.cached)}, at {_where(observed)}"
        drift = self.drift.get(_identity(observed.id))
        if drift is not None:
            return "the listener does not do what the files say", drift
        if before is not None and before.wire is not None:
            if before.address != observed.address:
                return "another address answered", f"{before.address} then, {observed.address} now"
            was, now = _traits(before), _traits(observed)
            if was != now:
                return "another server answered, or the same one otherwise", f"{was} then, {now} now"
        return "the listener answers as before: was it reloaded?", f"{_where(observed)}, {_traits(observed)}"


def _note(place: PlaceDocument) -> str:
    note = place.provenance.note if place.provenance is not None else None
    return note.split("; ")[0] if note else place.message


def _written(trace: FileTrace) -> str:
    return f"written {trace.modified}, " if trace.modified else ""


def _where(endpoint: Endpoint) -> str:
    return f"{endpoint.address}:{endpoint.port}"


def _traits(endpoint: Endpoint) -> str:
    """What tells one server from another: its Server header and its certificate."""
    server = next((h.value for scope in endpoint.scopes for h in scope.headers if h.name.lower() == "server"), None)
    chains = endpoint.wire.chains if endpoint.wire is not None else ()
    leaf = chains[0][0].sha256[:12] if chains and chains[0] else None
    parts = [f"Server: {server}" if server else "no Server header", *([f"certificate {leaf}…"] if leaf else [])]
    return ", ".join(parts)
