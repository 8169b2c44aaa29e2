"""What a control is, and how all of them are found."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from functools import cache
from importlib import import_module
from pathlib import Path
from pkgutil import iter_modules
from typing import Any, Final, Literal, TypeVar, get_type_hints

from msgspec import Struct, convert

from rupex.families import blocks, packages, remedies
from rupex.model import Judgement, RupexError, Severity
from rupex.model.change import Change, filled
from rupex.package_files import folder_of, third_parties

GROUP: Final = "rupex.controls"

Place = Literal["host", "endpoint", "scope", "name", "certificate", "file"]
"""What a control judges one by one; ``name``: each scope once for each server name that reaches it."""

Judge = Callable[..., Judgement]
F = TypeVar("F", bound=Judge)

_AT_THE_EDGE: Final = ("transport.", "redirect.", "header.hsts")
_NOT_A_PARAMETER: Final = frozenset({"now"})


class Example(Struct, frozen=True):
    """What holds and what fails.

    ``kind``: directives of a family in a server block over TLS or in clear, proven by a test; or what was seen, in words.
    ``family``: whose directives they are.
    """

    kind: Literal["tls", "plain", "seen"]
    holds: str
    fails: str
    family: str = ""


class Control(Struct, frozen=True):
    """One thing that should hold.

    ``judge``: takes the place (for an endpoint its TLS settings alone where it asks for :class:`~rupex.model.Tls`; for a scope
    its endpoint first; for a name the endpoint, scope and name), then the host or the
    :class:`~rupex.model.KnownCertificates` where it asks for them, then its parameters by keyword, and ``now`` where it asks for
    that.
    ``parameters``: their types, by name.
    ``change``: the change that satisfies it; None where none of those that are known does.
    ``remedy``: what to change, in words that hold for any server; a family may have its own.
    ``only``: the transport to which it applies.
    ``local_exempt``: endpoints reached from the machine itself alone are exempt.
    ``refines``: the control that, where it fails, makes this one fail with it.
    ``refusing``: endpoints that refuse every handshake are judged too.
    ``management_port``: it is about ports that serve no site, and about no others.
    ``both_sides``: it holds what was seen against the configuration; endpoints of the configuration alone are exempt.
    ``any_protocol``: whether an endpoint that answers no HTTP is judged too; None: if it is about TLS.
    ``reads_names``: what it finds may hang on what is inside a host name, so that it is asked about every site. The others use
    names and paths as wholes: sites that are written from one template are judged together.
    """

    id: str
    title: str
    place: Place
    severity: Severity
    why: str
    references: tuple[str, ...]
    remedy: str
    judge: Judge
    parameters: Mapping[str, Any]
    takes_now: bool
    takes_host: bool
    takes_tls: bool
    takes_certificates: bool
    cwe: tuple[str, ...] = ()
    only: Literal["tls", "plain"] | None = None
    local_exempt: bool = False
    refines: str | None = None
    evidence: tuple[Literal["config", "files", "wire"], ...] = ("config", "wire")
    refusing: bool = False
    management_port: bool = False
    both_sides: bool = False
    reads_names: bool = False
    any_protocol: bool | None = None
    change: Change | None = None

    @property
    def is_foreign(self) -> bool:
        """Whether it is a third party's: nothing is known of what it looks at, so that it is always shown everything."""
        return not self.judge.__module__.startswith("rupex.controls.")

    @property
    def is_about_http(self) -> bool:
        """Whether it asks what only an endpoint that answers HTTP has."""
        if self.place != "endpoint" or self.any_protocol is not None:
            return self.any_protocol is False
        return not (self.takes_tls or self.takes_certificates or self.only == "tls")

    @property
    def needs_whole_host(self) -> bool:
        """Whether it can only be asked when all endpoints of the host are known."""
        return self.place == "host" or (self.takes_host and self.place in ("endpoint", "scope", "name"))

    @property
    def is_for_the_edge(self) -> bool:
        """Whether an edge in front of a host is judged for it: what a stranger meets before any page."""
        return self.id.startswith(_AT_THE_EDGE)

    def remedy_for(self, families: tuple[str, ...]) -> str:
        """What to change, in the words of the given families; its own text for those that say nothing of it."""
        return " ".join(dict.fromkeys(remedies(family).get(self.id, self.remedy) for family in families)) or self.remedy

    def block_for(self, family: str | None, placeholders: Mapping[str, str]) -> str:
        """The block to paste that makes its change in the language of ``family``, with the values of its ``placeholders``; empty
        for a control without a change, and where the family has no block for it."""
        block = "" if self.change is None or family is None else blocks(family).get(self.change.kind, "")
        return filled(block.strip("\n"), {**placeholders, **(self.change.arguments if self.change is not None else {})})


def control(
    id: str,  # noqa: A002  the word of the catalogue
    *,
    title: str,
    place: Place,
    severity: Severity,
    why: str,
    references: tuple[str, ...],
    remedy: str,
    cwe: tuple[str, ...] = (),
    only: Literal["tls", "plain"] | None = None,
    local_exempt: bool = False,
    refines: str | None = None,
    evidence: tuple[Literal["config", "files", "wire"], ...] = ("config", "wire"),
    refusing: bool = False,
    management_port: bool = False,
    both_sides: bool = False,
    reads_names: bool = False,
    any_protocol: bool | None = None,
    change: Change | None = None,
) -> Callable[[F], F]:
    """Make a function a control. Its keyword-only arguments are its parameters, set by the baseline."""

    def decorate(judge: F) -> F:
        code, annotations = judge.__code__, judge.__annotations__
        first = code.co_argcount
        parameters = code.co_varnames[first : first + code.co_kwonlyargcount]
        # Annotations are texts here, and making types of them takes time: only those that a baseline fills in are.
        hints = get_type_hints(judge) if any(name not in _NOT_A_PARAMETER for name in parameters) else {}
        judge.control = Control(  # type: ignore[attr-defined]
            id, title, place, severity, why, references, remedy, judge,
            {name: hints[name] for name in parameters if name not in _NOT_A_PARAMETER},
            "now" in parameters, "host" in annotations, "Tls" in annotations.values(),
            "KnownCertificates" in annotations.values(), cwe, only, local_exempt, refines, evidence, refusing,
            management_port, both_sides, reads_names, any_protocol, change,
        )  # fmt: skip
        return judge

    return decorate


@cache
def all_controls() -> dict[str, Control]:
    """Every control by id, ours and those of third parties; one that refines another stands after it."""
    modules = [f"rupex.controls.{m.name}" for m in iter_modules([str(Path(__file__).parent)]) if m.name != "catalogue"]
    found: dict[str, Control] = {}
    for module in [*map(import_module, modules), *(entry.load() for entry in third_parties(GROUP))]:
        for value in vars(module).values():
            declared = getattr(value, "control", None)
            if isinstance(declared, Control):
                found[declared.id] = declared
    return dict(sorted(found.items(), key=lambda item: item[1].refines is not None))


@cache
def examples() -> Mapping[str, Example]:
    """The example of each control, from ``examples.tsv`` here and in the families."""
    own = folder_of("rupex.controls").joinpath("examples.tsv").read_text("utf-8")
    found = {name: Example("seen", holds, fails) for name, _, holds, fails in _rows(own)}
    for family, folder in packages().items():
        table = folder.joinpath("examples.tsv")
        for name, kind, holds, fails in _rows(table.read_text("utf-8")) if table.is_file() else ():
            found[name] = convert({"kind": kind, "holds": holds, "fails": fails, "family": family}, Example)
    return found


def _rows(text: str) -> Iterator[list[str]]:
    return (line.split("\t") for line in text.splitlines() if line and not line.startswith("#"))


def control_called(name: str) -> Control:
    """The control ``name``. Raises :class:`~rupex.model.RupexError`, naming the nearest ones."""
    controls = all_controls()
    if name not in controls:
        from difflib import get_close_matches

        near = get_close_matches(name, controls, 3, 0.4)
        hint = f"; did you mean {', '.join(near)}?" if near else "; see: rupex control list"
        raise RupexError(f"there is no control {name!r}{hint}")
    return controls[name]
