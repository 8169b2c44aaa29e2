"""One host: gather the evidence of a tree, judge it, score it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path

from msgspec import Struct

from rupex.baseline import Baseline
from rupex.host import CredentialStore, HostTree, TreeError, find_library
from rupex.judging import Judged, JudgedControl, judge
from rupex.model import (
    CertificateFile,
    CertificateUse,
    Fail,
    FileFacts,
    Host,
    KeyFile,
    Pass,
    Problem,
    Provenance,
    RupexError,
    Source,
    bounds,
)
from rupex.model.run import (
    CeilingInDoubt,
    CeilingInForce,
    CheckDocument,
    Counts,
    HostDocument,
    PlaceDocument,
    ProblemDocument,
    ScoreDocument,
    Step,
)
from rupex.scoring import Tally, lost_points, repaired, score, value_of
from rupex.servers.family import Configured, Surroundings, family_called, load_families


class Evidence(Struct, frozen=True):
    """A host as its tree shows it, and the configurations it was made of."""

    host: Host
    configurations: tuple[Configured, ...]


def gather(
    tree: HostTree, start: str, *, name: str, family: str | None = None, assumed: Mapping[str, str] | None = None
) -> Evidence:
    """Read every configuration in ``tree`` below ``start``, and the files it names. What cannot be read becomes a
    problem of the host. Raises :class:`~rupex.model.RupexError` for an unknown ``family`` or a bad assumption."""
    assumed = assumed or {}
    around = Surroundings(tree, CredentialStore(tree), find_library(tree, assumed), assumed)
    problems: list[Problem] = []
    configurations = tuple(
        family_called(found).resolve(main_path, around) for found, main_path in _find(tree, start, family, problems)
    )
    uses: dict[CertificateUse, list[str]] = {}
    for configuration in configurations:
        problems += configuration.problems
        for use, endpoints in configuration.certificate_uses().items():
            uses.setdefault(use, []).extend(endpoints)
    certificates, keys = _credentials(around.credentials, uses)
    problems += _missing_credentials(certificates, keys, tree)
    host = Host(
        name=name,
        sources=tuple(
            Source("config", configuration.family, configuration.version.value, configuration.main_path)
            for configuration in configurations
        ),
        endpoints=tuple(endpoint for configuration in configurations for endpoint in configuration.endpoints),
        services=tuple(service for configuration in configurations for service in configuration.services),
        files=tuple(_files(tree, configurations, keys)),
        certificates=certificates,
        keys=keys,
        samples=tuple(sample for configuration in configurations for sample in configuration.samples),
        problems=tuple(problems[: bounds.PROBLEMS]),
    )
    return Evidence(host, configurations)


def _find(tree: HostTree, start: str, family: str | None, problems: list[Problem]) -> list[tuple[str, str]]:
    """The configurations to read, as (family, main file)."""
    wanted = {family: family_called(family)} if family is not None else load_families()
    if start and tree.is_file(start) and family is None:
        text = _beginning(tree, start)
        if text is None:
            problems.append(Problem("unreadable", start, None, "the file cannot be read", True))
            return []
        found = [(name, start) for name, candidate in wanted.items() if candidate.looks_like(text)]
        if not found:
            known = ", ".join(sorted(wanted))
            problems.append(
                Problem("syntax", start, 1, f"not a configuration that Rupex can read (it knows {known})", True)
            )
        return found[:1]
    found = [(name, path) for name, candidate in wanted.items() for path in candidate.find(tree, start)]
    if not found:
        where = start or "the tree"
        message = f"no server's configuration found in {where}; name its main file, or give --as FAMILY"
        problems.append(Problem("missing", start or None, None, message, True))
    return found


def _beginning(tree: HostTree, path: str) -> str | None:
    try:
        return tree.read(path)[: 1 << 16].decode("utf-8", "replace")
    except TreeError:
        return None


def _credentials(
    store: CredentialStore, uses: Mapping[CertificateUse, Sequence[str]]
) -> tuple[tuple[CertificateFile, ...], tuple[KeyFile, ...]]:
    """The certificate and key files that endpoints use, each once."""
    key_places: dict[str, list[Provenance]] = {}
    pairs: dict[tuple[str, str | None], tuple[list[Provenance], list[str]]] = {}
    for use, endpoints in uses.items():
        if use.key is not None:
            key_places.setdefault(use.key, []).append(use.key_provenance or use.provenance)
        if use.certificate is not None:
            places, users = pairs.setdefault((use.certificate, use.key), ([], []))
            places.append(use.provenance)
            users.extend(endpoints)
    keys = {path: _key_file(store, path, named_by) for path, named_by in key_places.items()}
    certificates = []
    for (path, key_path), (places, users) in pairs.items():
        found = store.certificates(path)
        chain = () if isinstance(found, str) else found
        certificates.append(
            CertificateFile(
                path=path,
                named_by=tuple(dict.fromkeys(places)),
                endpoints=tuple(users),
                leaf=chain[0] if chain else None,
                chain=chain[1:],
                key=None if key_path is None else keys[key_path],
                unknown=found if isinstance(found, str) else None,
            )
        )
    return tuple(certificates), tuple(keys.values())


def _key_file(store: CredentialStore, path: str, named_by: list[Provenance]) -> KeyFile:
    found = store.key(path)
    places = tuple(dict.fromkeys(named_by))
    if isinstance(found, str):
        return KeyFile(path=path, named_by=places, unknown=found)
    return KeyFile(path=path, named_by=places, key=found)


def _missing_credentials(
    certificates: Iterable[CertificateFile], keys: Iterable[KeyFile], tree: HostTree
) -> list[Problem]:
    """Certificates that cannot be read are problems; a key that the auditor may not open is only unknown."""
    found = []
    for file in certificates:
        if file.unknown is not None:
            place = file.named_by[0]
            kind = "unreadable" if tree.is_file(file.path) else "missing"
            found.append(Problem(kind, place.file, place.line, f"{file.path}: {file.unknown}"))  # type: ignore[arg-type]
    for key in keys:
        if key.unknown is not None and not tree.is_file(key.path):
            place = key.named_by[0]
            found.append(Problem("missing", place.file, place.line, f"{key.path}: {key.unknown}"))
    return found


def _files(tree: HostTree, configurations: Iterable[Configured], keys: Iterable[KeyFile]) -> Iterable[FileFacts]:
    services = tuple(configuration.family for configuration in configurations)
    for configuration in configurations:
        for path, named_by in configuration.files.items():
            if tree.is_file(path):
                yield tree.file_facts(path, "configuration", named_by, (configuration.family,))
    for key in keys:
        yield tree.file_facts(key.path, "key", key.named_by, services)


def assess(host: Host, baseline: Baseline, now: datetime, *, keep_all: bool = False) -> HostDocument:
    """Judge and score ``host``. ``keep_all``: list passed and exempt places too."""
    judged = judge(host, baseline, now, keep_all=keep_all)
    tallies = [control.tally for control in judged]
    result = score(tallies)
    value = result.value or 0.0
    families = tuple(dict.fromkeys(source.family for source in host.sources if source.family))
    ceiling, doubt = result.ceiling, result.low_ceiling
    return HostDocument(
        name=host.name,
        sources=host.sources,
        score=ScoreDocument(
            result.value, result.low, result.high, result.uncapped, result.unwaived, result.coverage, result.band,
            None if ceiling is None else CeilingInForce(ceiling.value, ceiling.control, ceiling.lost),
            None if doubt is None else CeilingInDoubt(doubt.value, doubt.control, doubt.because),
        ),
        endpoints=host.endpoints,
        checks=tuple(_check(control, tallies, value, families) for control in judged),
        steps=tuple(first_steps(tallies)),
        problems=tuple(ProblemDocument(p.kind, p.file, p.line, p.message) for p in host.problems),
    )  # fmt: skip


def _check(judged: JudgedControl, tallies: list[Tally], value: float, families: tuple[str, ...]) -> CheckDocument:
    control, tally, counts = judged.rule.control, judged.tally, judged.counts
    known = tally.places - tally.unknown
    severities = [place.severity for place in judged.places if place.verdict == "fail"]
    worst = min(severities, key=("critical", "high", "medium", "low").index, default=judged.rule.severity)
    return CheckDocument(
        control=control.id,
        verdict=judged.verdict,
        severity=worst,
        weight=judged.rule.weight,
        attained=(tally.passed + tally.waived) / known if known else None,
        lost=lost_points(tally, tallies),
        gain=value_of(repaired(tallies, {control.id})) - value if tally.failed else 0.0,
        title=control.title,
        why=control.why,
        remedy=control.remedy_for(families),
        references=control.references,
        cwe=control.cwe,
        counts=Counts(counts["pass"], counts["fail"], counts["unknown"], counts["exempt"], counts["waived"]),
        places=tuple(_place(place) for place in judged.places),
        holds=tally.ceiling,
    )


def _place(judged: Judged) -> PlaceDocument:
    endpoint, scope, name, path = judged.key
    judgement, source = judged.judgement, judged.source
    provenance: Provenance | None = getattr(judgement, "provenance", None)
    message = judgement.message if isinstance(judgement, Fail | Pass) else judgement.why
    file, line, column = path, None, None
    if path is None and provenance is not None:
        file, line, column = provenance.file, provenance.line, provenance.column
    elif path is not None and provenance is None and not judged.unseen:
        named_by = getattr(source, "named_by", ())
        provenance = named_by[0] if named_by else None
    extra = {}
    if judged.folded is not None:
        extra["folded"] = judged.folded
    if judged.unseen is not None:
        extra["unseen"] = judged.unseen
    return PlaceDocument(
        verdict=judged.verdict, severity=judged.severity, endpoint=endpoint, scope=scope, name=name,
        file=file, line=line, column=column, message=message,
        evidence=judgement.evidence if isinstance(judgement, Fail) else None,
        provenance=provenance, ceiling=judged.ceiling, **extra,
    )  # fmt: skip


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


def host_name(path: Path, tree_root: Path) -> str:
    """A name for a host whose user gave none: ``localhost`` for ``/``, the folder of its tree, or the single file."""
    if tree_root == Path("/"):
        return "localhost"
    is_lone_file = path.is_file() and not (tree_root / "etc").is_dir()
    return path.stem if is_lone_file else tree_root.name or path.name


def parse_time(text: str) -> datetime:
    """A point in time (RFC 3339, or a date) as aware UTC. Raises :class:`~rupex.model.RupexError`."""
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise RupexError(f"{text!r} is no time; one looks like 2026-11-24 or 2026-11-24T09:30:00Z") from None
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).astimezone(UTC)
