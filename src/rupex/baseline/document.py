"""Reading and checking baseline documents (TOML).

A baseline may ``extend`` another, built in or a file beside it, and then says only what differs. Every mistake is told
with its key path and what is allowed there.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from hashlib import sha256
from pathlib import Path
from typing import Annotated, Any, Final, get_args

import msgspec
from msgspec import Meta, Struct

from rupex.baseline.toml import parse_toml
from rupex.controls import Control, all_controls
from rupex.model import RupexError, Severity
from rupex.model.judgement import SEVERITIES
from rupex.package_files import folder_of
from rupex.user_files import read_bounded

WEIGHT_BY_SEVERITY: Final[Mapping[Severity, float]] = {"critical": 10.0, "high": 6.0, "medium": 3.0, "low": 1.0}
MAXIMUM_BYTES: Final = 1 << 20
"""A baseline of all controls with long reasons takes about 30 KiB."""

_MAXIMUM_EXTENDS: Final = 8
_Share = Annotated[float, Meta(ge=0, le=1)]
_Points = Annotated[float, Meta(ge=0, le=100)]
_Weight = Annotated[float, Meta(ge=0, le=1000)]


class _CaseDocument(Struct, frozen=True, forbid_unknown_fields=True):
    severity: Severity | None = None
    ceiling: _Points | None = None


class _RuleDocument(Struct, frozen=True, forbid_unknown_fields=True):
    weight: _Weight | None = None
    severity: Severity | None = None
    ceiling: _Points | None = None
    source: str | None = None
    off: str | bool | None = None
    parameters: dict[str, Any] = {}
    cases: dict[str, dict[str, Any]] = {}


class Case(Struct, frozen=True):
    """How one way of failing weighs: its severity and its ceiling (None: no ceiling)."""

    severity: Severity
    ceiling: float | None


class Rule(Struct, frozen=True):
    """What a baseline says of one control. ``parameters`` have the types that the control declares; ``off``: the reason
    why it is not judged, None when it is."""

    control: Control
    weight: float
    severity: Severity
    ceiling: float | None
    source: str
    parameters: Mapping[str, Any]
    cases: Mapping[str, Case]
    off: str | None = None

    def case(self, name: str | None) -> Case:
        """The severity and ceiling of a place that fails as ``name`` says."""
        return self.cases.get(name or "", Case(self.severity, self.ceiling))

    @property
    def lowest_ceiling(self) -> float | None:
        """The lowest ceiling that any way of failing sets."""
        held = [c for c in (self.ceiling, *(case.ceiling for case in self.cases.values())) if c is not None]
        return min(held, default=None)

    def plain_parameters(self) -> dict[str, Any]:
        """The parameters as a document has them: lists and tables, sets in alphabetical order."""
        plain: dict[str, Any] = msgspec.to_builtins(
            {
                name: sorted(value) if isinstance(value, set | frozenset) else value
                for name, value in self.parameters.items()
            }
        )
        return {name: list(value) if isinstance(value, tuple) else value for name, value in plain.items()}


class Baseline(Struct, frozen=True):
    """A checked baseline. ``digest`` covers the documents it was made of."""

    name: str
    version: str
    title: str
    minimum_coverage: float
    rules: Mapping[str, Rule]
    digest: str


def builtin_names() -> tuple[str, ...]:
    """The names of the built-in baselines."""
    folder = folder_of("rupex.baseline").joinpath("builtin")
    return tuple(sorted(entry.name.removesuffix(".toml") for entry in folder.iterdir() if entry.name.endswith(".toml")))


def load_baseline(name: str) -> Baseline:
    """The built-in baseline ``name``, or the one in the file ``name``. Raises :class:`~rupex.model.RupexError`."""
    documents = _read_all(name)
    merged: dict[str, Any] = {}
    for _, document in reversed(documents):
        merged = _merge(merged, document)
    digest = sha256(msgspec.json.encode([document for _, document in documents], order="deterministic")).hexdigest()
    return _check(documents[0][0], merged, digest)


def _read_all(name: str) -> list[tuple[str, dict[str, Any]]]:
    """The document ``name`` and those it extends, as (label, content), itself first."""
    found: list[tuple[str, dict[str, Any]]] = []
    beside = Path()
    while True:
        label, document, beside = _read(name, beside)
        if any(label == earlier for earlier, _ in found):
            raise RupexError(f"{found[0][0]}: extend: the baselines extend each other in a circle, through {label}")
        found.append((label, document))
        above = document.get("extend")
        if above is None:
            return found
        if not isinstance(above, str):
            raise RupexError(f"{label}: extend: the name of a baseline or a file is expected")
        if len(found) > _MAXIMUM_EXTENDS:
            raise RupexError(f"{found[0][0]}: extend: more than {_MAXIMUM_EXTENDS} baselines extend each other")
        name = above


def _read(name: str, beside: Path) -> tuple[str, dict[str, Any], Path]:
    label = name
    if name in builtin_names():
        content = folder_of("rupex.baseline").joinpath("builtin", f"{name}.toml").read_bytes()
    else:
        path = beside / name
        label = str(path)
        try:
            content = read_bounded(path, "baseline", MAXIMUM_BYTES)
        except RupexError as error:
            raise RupexError(f"{error}; built in are {', '.join(builtin_names())}") from None
        beside = path.parent
    return label, parse_toml(label, content), beside


def _merge(base: dict[str, Any], over: dict[str, Any]) -> dict[str, Any]:
    merged = dict(base)
    for key, value in over.items():
        old = merged.get(key)
        merged[key] = _merge(old, value) if isinstance(old, dict) and isinstance(value, dict) else value
    return merged


_TOP_KEYS: Final = ("name", "version", "title", "extend", "minimum_coverage", "controls")


def _check(label: str, document: dict[str, Any], digest: str) -> Baseline:
    for key in document:
        if key not in _TOP_KEYS:
            raise RupexError(f"{label}: {key}: unknown key; allowed are {', '.join(_TOP_KEYS)}")
    controls = document.get("controls", {})
    if not isinstance(controls, dict):
        raise RupexError(f"{label}: controls: a table of controls is expected")
    known = all_controls()
    rules = {}
    for name, content in controls.items():
        path = f'controls."{name}"'
        if name not in known:
            raise RupexError(f"{label}: {path}: there is no such control; see: rupex control list")
        rules[name] = _rule(label, path, known[name], content)
    coverage = converted(label, "minimum_coverage", document.get("minimum_coverage", 0.5), _Share)
    return Baseline(
        name=converted(label, "name", document.get("name"), str),
        version=converted(label, "version", document.get("version", "0"), str),
        title=converted(label, "title", document.get("title", ""), str),
        minimum_coverage=_finite(label, "minimum_coverage", coverage),
        rules={name: rules[name] for name in known if name in rules},
        digest=f"sha256:{digest}",
    )  # fmt: skip


def _rule(label: str, path: str, control: Control, content: Any) -> Rule:
    document = converted(label, path, content, _RuleDocument)
    severity = document.severity or control.severity
    weight = _finite(
        label, f"{path}.weight", WEIGHT_BY_SEVERITY[severity] if document.weight is None else document.weight
    )
    if document.off is True:
        raise RupexError(f"{label}: {path}.off: a reason is expected, as text; or false, to judge it all the same")
    parameters = {}
    for name in document.parameters:
        if name not in control.parameters:
            allowed = ", ".join(control.parameters) or "none"
            raise RupexError(f"{label}: {path}.parameters.{name}: no parameter of this control; allowed: {allowed}")
    for name, kind in control.parameters.items():
        if name not in document.parameters:
            raise RupexError(f"{label}: {path}.parameters.{name}: missing; the control needs it")
        parameters[name] = converted(label, f"{path}.parameters.{name}", document.parameters[name], kind)
    cases = {}
    for name, case in document.cases.items():
        given = converted(label, f"{path}.cases.{name}", case, _CaseDocument)
        cases[name] = Case(given.severity or severity, given.ceiling if "ceiling" in case else document.ceiling)
    return Rule(
        control=control,
        weight=weight,
        severity=severity,
        ceiling=None if document.ceiling is None else _finite(label, f"{path}.ceiling", document.ceiling),
        source=document.source or "; ".join(control.references),
        parameters=parameters,
        cases=cases,
        off=document.off or None,
    )


def _finite(label: str, path: str, number: float) -> float:
    if not math.isfinite(number):
        raise RupexError(f"{label}: {path}: a finite number is expected")
    return float(number)


def converted(label: str, path: str, value: Any, kind: Any) -> Any:
    """``value`` as ``kind``, or an error that names the key path and what is allowed there."""
    try:
        return msgspec.convert(value, kind)
    except msgspec.ValidationError as error:
        message, _, where = str(error).partition(" - at `$")
        message = message.replace(" | null`", "`")
        full = path + where.rstrip("`")
        hint = ""
        if "enum" in message:
            choices = SEVERITIES if full.endswith("severity") else _choices(kind)
            hint = f"; allowed are {', '.join(map(str, choices))}" if choices else ""
        elif "unknown field" in message:
            hint = f"; allowed are {', '.join(kind.__struct_fields__)}"
        raise RupexError(f"{label}: {full}: {message}{hint}") from None


def _choices(kind: Any) -> tuple[Any, ...]:
    return tuple(choice for choice in get_args(kind) if isinstance(choice, str))
