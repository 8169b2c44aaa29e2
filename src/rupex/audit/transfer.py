"""Findings as they go from one process to another: every text and every provenance once. A place has some 600 bytes, and a host
of 10,000 sites half a million places."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TypeVar

from msgspec import UNSET, Struct, structs

from rupex.audit.findings import Findings
from rupex.documents.run import PlaceDocument
from rupex.model import Provenance

T = TypeVar("T")

Row = tuple[int, int, int, int, int | None, int | None, int, int]
"""What a place has of its own: the numbers of its endpoint, scope, name and file among the texts, its line and column, the number
of its provenance, and how many further places are alike. None is -1; a file of -2: file, line and column of the provenance."""

_NONE = -1
_OF_PROVENANCE = -2


class PlaceGroup(Struct, array_like=True):
    """Places with the same finding. ``common``: one of them, without what ``rows`` say."""

    common: PlaceDocument
    rows: list[Row]


class PackedFindings(Struct, array_like=True):
    """What :func:`pack_findings` makes. ``groups``: by control, as ``findings`` are, which have no places."""

    texts: list[str]
    provenances: list[Provenance]
    findings: dict[str, Findings]
    groups: dict[str, list[PlaceGroup]]


class _Numbers(dict[T, int]):
    """Gives each value a number, from 0."""

    def __missing__(self, value: T) -> int:
        number = self[value] = len(self)
        return number


def pack_findings(findings: dict[str, Findings]) -> PackedFindings:
    """``findings``, by control."""
    texts: _Numbers[str | None] = _Numbers()
    provenances: _Numbers[Provenance | None] = _Numbers()
    without_places = {name: structs.replace(found, places=[]) for name, found in findings.items()}
    groups = {name: list(_groups(found.places, texts, provenances)) for name, found in findings.items()}
    return PackedFindings(
        [text for text in texts if text is not None],
        [provenance for provenance in provenances if provenance is not None],
        without_places,
        groups,
    )


def _groups(
    places: Iterable[PlaceDocument], texts: _Numbers[str | None], provenances: _Numbers[Provenance | None]
) -> Iterator[PlaceGroup]:
    groups: dict[tuple[object, ...], PlaceGroup] = {}
    for place in places:
        group = groups.get(place.finding)
        if group is None:
            common = structs.replace(
                place, endpoint=None, scope=None, name=None, file=None, line=None, column=None, provenance=None, alike=UNSET
            )  # fmt: skip
            group = groups[place.finding] = PlaceGroup(common, [])
        decided, file, line, column = place.provenance, place.file, place.line, place.column
        is_same = decided is not None and (file, line, column) == (decided.file, decided.line, decided.column)
        group.rows.append((
            _NONE if place.endpoint is None else texts[place.endpoint],
            _NONE if place.scope is None else texts[place.scope],
            _NONE if place.name is None else texts[place.name],
            _OF_PROVENANCE if is_same else _NONE if file is None else texts[file],
            None if is_same else line,
            None if is_same else column,
            _NONE if decided is None else provenances[decided],
            place.alike if isinstance(place.alike, int) else _NONE,
        ))  # fmt: skip
    yield from groups.values()


def unpack_findings(packed: PackedFindings) -> dict[str, Findings]:
    """The findings that were packed, by control; places with the same finding come together."""
    texts: list[str | None] = [*packed.texts, None, None]  # for _OF_PROVENANCE and _NONE, counted from the end
    provenances = [*packed.provenances, None]
    for name, groups in packed.groups.items():
        places = packed.findings[name].places
        for group in groups:
            places += _places(group, texts, provenances)
    return packed.findings


def _places(
    group: PlaceGroup, texts: list[str | None], provenances: list[Provenance | None]
) -> Iterator[PlaceDocument]:
    common = group.common
    verdict, severity, message, evidence = common.verdict, common.severity, common.message, common.evidence
    ceiling, case, waiver, folded, unseen = common.ceiling, common.case, common.waiver, common.folded, common.unseen
    for endpoint, scope, name, file, line, column, number, alike in group.rows:
        decided = provenances[number]
        of_decided = decided if file == _OF_PROVENANCE else None
        yield PlaceDocument(
            verdict=verdict, severity=severity, endpoint=texts[endpoint], scope=texts[scope], name=texts[name],
            file=texts[file] if of_decided is None else of_decided.file,
            line=line if of_decided is None else of_decided.line,
            column=column if of_decided is None else of_decided.column,
            message=message, evidence=evidence, provenance=decided, ceiling=ceiling, case=case, waiver=waiver,
            folded=folded, unseen=unseen, alike=UNSET if alike == _NONE else alike,
        )  # fmt: skip
