"""``rupex control`` and ``rupex baseline``: what is judged, and by which yardstick."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.output import show
from rupex.cli.status import DONE


def add_verbs(verbs: Any) -> None:
    controls = verbs.add_parser(
        "control",
        help="list and explain the controls",
        description="List and explain the controls.",
        allow_abbrev=False,
    )
    nouns = controls.add_subparsers(metavar="list|show", required=True)
    options.verb(nouns, "list", "list all controls", "rupex control list", _list_controls)
    show = options.verb(nouns, "show", "explain one control", "rupex control show tls.protocol.floor", _show_control)
    show.add_argument("control", metavar="CONTROL")

    baselines = verbs.add_parser(
        "baseline",
        help="list, show and check baselines",
        description="List, show and check baselines.",
        allow_abbrev=False,
    )
    nouns = baselines.add_subparsers(metavar="list|show|check", required=True)
    options.verb(nouns, "list", "list the built-in baselines", "rupex baseline list", _list_baselines)
    show = options.verb(
        nouns, "show", "show a baseline, with what it extends", "rupex baseline show public-web", _show_baseline
    )
    show.add_argument("baseline", metavar="NAME|FILE")
    check = options.verb(
        nouns, "check", "check a baseline document", "rupex baseline check company.toml", _check_baseline
    )
    check.add_argument("baseline", metavar="NAME|FILE")
    check.add_argument("--against", metavar="RUN", type=Path, help="a run document: what this baseline would do to it")


def _list_controls(arguments: argparse.Namespace) -> int:
    from rupex.controls import all_controls

    controls = sorted(all_controls().values(), key=lambda control: control.id)
    wide = max(len(control.id) for control in controls)
    for control in controls:
        show(f"{control.id:<{wide}}  {control.severity:<8}  {control.title}\n")
    return DONE


def _show_control(arguments: argparse.Namespace) -> int:
    from rupex.controls import control_called, examples
    from rupex.families import packages, remedies
    from rupex.reports.text.text_layout import Page

    control = control_called(arguments.control)
    page = Page(options.terminal_width())
    page.line((control.id, "strong"), f"  {control.title}")
    page.entry("judged", f"for each {control.place}, from {', '.join(control.evidence)}", indent=2)
    if control.only:
        page.entry("", f"only where the listener speaks {'TLS' if control.only == 'tls' else 'plain HTTP'}", indent=2)
    if control.refines:
        page.entry("refines", f"{control.refines}: fails with it", indent=2)
    page.entry("severity", control.severity, indent=2)
    page.entry("why", control.why, indent=2)
    page.entry("source", "; ".join((*control.references, *control.cwe)), indent=2)
    page.entry("change", control.remedy, indent=2)
    if control.change is not None:
        page.entry("effort", control.change.effort, indent=2)
    for family in packages():
        if control.id in remedies(family):
            page.entry(family, remedies(family)[control.id], indent=2, style="strong")
            for line in control.block_for(family, {}).splitlines():
                page.entry("", line, indent=2, style="quiet")
    example = examples().get(control.id)
    if example is not None:
        where = {
            "tls": f"{example.family}, in a TLS server block: ",
            "plain": f"{example.family}, in a plain server block: ",
        }
        page.entry("holds", where.get(example.kind, "") + example.holds, indent=2)
        page.entry("fails", where.get(example.kind, "") + example.fails, indent=2)
    for name in control.parameters:
        page.entry("set", f"parameters.{name}, by the baseline", indent=2)
    show(page.render(colour=options.wants_colour()))
    return DONE


def _list_baselines(arguments: argparse.Namespace) -> int:
    from rupex.baseline import builtin_names, load_baseline

    for name in builtin_names():
        baseline = load_baseline(name)
        show(f"{name:<12}  {baseline.version:<8}  {baseline.title}, {len(baseline.rules)} controls\n")
    return DONE


def _show_baseline(arguments: argparse.Namespace) -> int:
    from rupex.baseline import load_baseline
    from rupex.reports.text.text_layout import Page

    baseline = load_baseline(arguments.baseline)
    page = Page(options.terminal_width())
    page.line((baseline.name, "strong"), f"  {baseline.version}, {baseline.title}; {baseline.digest[:19]}")
    page.line(f"  a gate needs {baseline.minimum_coverage:.0%} of it seen")
    page.blank()
    for name, rule in sorted(baseline.rules.items()):
        ceiling = "" if rule.ceiling is None else f", ceiling {rule.ceiling:g}"
        words = f"off: {rule.off}" if rule.off else f"{rule.severity}, weight {rule.weight:g}{ceiling}"
        page.line((f"{name:<26}", "strong"), words)
        for key, value in rule.plain_parameters().items():
            shown = ", ".join(map(str, value)) if isinstance(value, list) else value
            if isinstance(value, dict):
                shown = ", ".join(f"{name}: {one}" for name, one in value.items())
            page.entry("", f"{key} = {shown if shown != '' else '(none)'}", indent=2, column=4)
        for key, case in rule.cases.items():
            held = "no ceiling" if case.ceiling is None else f"ceiling {case.ceiling:g}"
            page.entry("", f"when it fails as {key!r}: {case.severity}, {held}", indent=2, column=4)
        page.entry("", rule.source, indent=2, column=4, style="quiet")
    show(page.render(colour=options.wants_colour()))
    return DONE


def _check_baseline(arguments: argparse.Namespace) -> int:
    from rupex.baseline import load_baseline

    baseline = load_baseline(arguments.baseline)
    if arguments.against is not None:
        return _check_against(baseline, arguments.against)
    off = sum(1 for rule in baseline.rules.values() if rule.off is not None)
    show(
        f"{arguments.baseline}: sound; {len(baseline.rules)} controls" + (f", {off} of them off" if off else "") + "\n"
    )
    return DONE


def _check_against(baseline: Any, path: Path) -> int:
    from rupex.audit.rescore import changes, rescore
    from rupex.reports.clean import clean
    from rupex.reports.read import read_run
    from rupex.reports.text.rescored import render_rescored

    run = read_run(path)
    hosts, found = rescore(run, baseline), changes(run, baseline)
    show(clean(f"{run.baseline.name} {run.baseline.version} against {baseline.name} {baseline.version}") + "\n\n")
    show(render_rescored(hosts, found, width=options.terminal_width(), colour=options.wants_colour()))
    return DONE
