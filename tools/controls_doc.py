"""Writes docs/controls.md from the controls, their examples and the built-in baselines. ``python tools/controls_doc.py``."""

from __future__ import annotations

from pathlib import Path

from rupex.baseline import Baseline, Rule, builtin_names, load_baseline
from rupex.controls import Control, all_controls, examples
from rupex.families import packages, remedies
from rupex.reports.html.themes import NAMES, theme_of

PAGE = Path(__file__).parent.parent / "docs/controls.md"
HEAD = """# The controls

Made from the code by `python tools/controls_doc.py`; a test checks that it is current. `rupex control show NAME` tells the
same at a terminal. Severity, weight and ceiling are those of `public-web`; where another built-in baseline says otherwise,
that stands below. How baselines are written: [baselines.md](baselines.md); how scores come of them:
[scoring.md](scoring.md).

"""


def render() -> str:
    """The whole page."""
    baselines = {name: load_baseline(name) for name in builtin_names()}
    by_theme: dict[str, list[Control]] = {theme: [] for theme in NAMES}
    for control in sorted(all_controls().values(), key=lambda control: control.id):
        by_theme[theme_of(control.id)].append(control)
    parts = [HEAD]
    for theme, controls in by_theme.items():
        parts.append(f"## {theme}\n\n")
        parts += [_section(control, baselines) for control in controls]
    return "".join(parts).rstrip() + "\n"


def _section(control: Control, baselines: dict[str, Baseline]) -> str:
    usual = baselines["public-web"].rules[control.id]
    example = examples()[control.id]
    code = "`" if example.kind != "seen" else ""
    where = (
        ""
        if example.kind == "seen"
        else f" ({example.family}, in a {'TLS' if example.kind == 'tls' else 'plain'} server block)"
    )
    only = "" if control.only is None else f", on {'TLS' if control.only == 'tls' else 'plain'} listeners"
    rows = [
        f"### {control.id}",
        f"**{control.title}.** {control.why}",
        f"- Judged for each {control.place}{only}, from {', '.join(control.evidence)}"
        + (f"; refines `{control.refines}`" if control.refines else ""),
        f"- {_weight(usual)}" + "".join(f"; `{name}`: {words}" for name, words in _others(control.id, baselines)),
        f"- Source: {'; '.join(dict.fromkeys((usual.source, *control.references, *control.cwe)))}",
        *(f"- `parameters.{name}` = {_value(value)}" for name, value in usual.plain_parameters().items()),
        f"- Holds{where}: {code}{example.holds}{code}",
        f"- Fails{where}: {code}{example.fails}{code}",
        *(
            f"- Change ({family}): {remedies(family)[control.id]}"
            for family in packages()
            if control.id in remedies(family)
        ),
        f"- Change: {control.remedy}",
    ]
    head, why, *rest = rows
    return f"{head}\n\n{why}\n\n" + "\n".join(rest) + "\n\n"


def _weight(rule: Rule) -> str:
    if rule.off is not None:
        return f"off: {rule.off}"
    ceiling = "" if rule.ceiling is None else f", ceiling {rule.ceiling:g}"
    cases = "".join(
        f", as `{name}` {case.severity}" + ("" if case.ceiling is None else f" with ceiling {case.ceiling:g}")
        for name, case in rule.cases.items()
    )
    return f"{rule.severity}, weight {rule.weight:g}{ceiling}{cases}"


def _others(name: str, baselines: dict[str, Baseline]) -> list[tuple[str, str]]:
    usual = _weight(baselines["public-web"].rules[name])
    return [
        (other, words)
        for other, baseline in baselines.items()
        if other != "public-web" and (words := _weight(baseline.rules[name])) != usual
    ]


def _value(value: object) -> str:
    if isinstance(value, list):
        return ", ".join(map(str, value)) or "(none)"
    return ", ".join(f"{k}: {v}" for k, v in value.items()) if isinstance(value, dict) else str(value)


if __name__ == "__main__":
    PAGE.write_text(render(), "utf-8")
