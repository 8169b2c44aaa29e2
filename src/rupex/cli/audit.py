"""``rupex audit``: configuration, keys and permissions of host trees to findings and a score."""

from __future__ import annotations

import argparse
import gc
import sys
import time
from datetime import datetime
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.main import DONE, GATE_NOT_MET, INCOMPLETE


def add_verbs(verbs: Any) -> None:
    parser = options.verb(
        verbs, "audit", "audit host trees: configuration, keys and permissions",
        "rupex audit / --require 75", run,
    )  # fmt: skip
    parser.add_argument(
        "path", metavar="PATH", nargs="+", type=Path, help="a host tree, a folder in one such as /etc/nginx, or a file"
    )
    parser.add_argument("--host", metavar="NAME", help="the host's name in the result (default: the tree's folder)")
    parser.add_argument(
        "--wire", metavar="NAME[:PORT]", action="append", default=[],
        help="also look at this listener of the same host, and hold both against each other (repeatable)",
    )  # fmt: skip
    options.add_wire_options(parser)
    options.add_tree_options(parser)
    options.add_judging_options(parser)
    parser.add_argument(
        "--suggest-waivers", metavar="FILE", type=Path, help="write a waiver for each failure, for a person to fill in"
    )
    options.add_output_options(parser)


def run(arguments: argparse.Namespace) -> int:
    from rupex.baseline import load_baseline
    from rupex.cli.progress import progress

    baseline = load_baseline(arguments.baseline)
    waivers = options.waivers(arguments)
    now = options.moment(arguments.now)
    files = options.outputs(arguments.output)
    forms = {arguments.format, *(form for form, _ in files), *(["kept"] if arguments.history else [])}
    # What an audit makes is kept to its end: looking for garbage in it again and again would take a third of the time.
    gc.disable()
    clock = time.monotonic()
    hosts = []
    with progress(arguments.path, "audit") as paths:
        for path in paths:
            hosts.append(_audit(path, arguments, baseline, waivers, now, endpoints=bool(forms - {"text"})))
    hosts = _told_apart(hosts, arguments.path)
    if arguments.suggest_waivers is not None:
        _suggest_waivers(arguments.suggest_waivers, hosts, now)
    return finish(hosts, baseline, waivers, now, time.monotonic() - clock, arguments, files)


def _told_apart(hosts: list[Any], paths: list[Path]) -> list[Any]:
    """Hosts of one run that have the same name, under the paths that they were given by."""
    from msgspec import structs

    names = [host.name for host in hosts]
    return [
        structs.replace(host, name=str(path)) if names.count(host.name) > 1 else host
        for host, path in zip(hosts, paths, strict=True)
    ]


def _suggest_waivers(path: Path, hosts: list[Any], now: datetime) -> None:
    from rupex.model import RupexError
    from rupex.reports.waivers import render_suggestions

    if path.exists():
        raise RupexError(f"{path}: exists already, and somebody may have written reasons in it; name another file")
    text, count = render_suggestions(hosts, now)
    options.write_whole(path, text)
    print(f"rupex: {path}: {count} waivers to fill in; delete what is to be repaired", file=sys.stderr)


def _audit(
    path: Path, arguments: argparse.Namespace, baseline: Any, waivers: Any, now: datetime, *, endpoints: bool
) -> Any:
    from rupex.assess import assess_tree, host_name
    from rupex.host import open_tree
    from rupex.model import RupexError

    located = open_tree(path, root=arguments.root, manifest=arguments.manifest)
    if arguments.connect is not None and not arguments.wire:
        raise RupexError("--connect goes with --wire NAME: what is asked for there")
    if arguments.wire:
        return _audit_both(path, located, arguments, baseline, waivers, now)
    return assess_tree(
        located.tree, located.start, baseline, now, name=arguments.host or host_name(path, located.tree.root),
        family=arguments.family, assumed=options.assumptions(arguments.assume), keep_all=arguments.verbose,
        endpoints=endpoints, waivers=waivers,
    )  # fmt: skip


def _audit_both(
    path: Path, located: Any, arguments: argparse.Namespace, baseline: Any, waivers: Any, now: datetime
) -> Any:
    import asyncio

    from rupex.assess import assess, gather, host_name, traced
    from rupex.joining import join
    from rupex.model import RupexError
    from rupex.probe import observe_all
    from rupex.wire.targets import merge_targets, parse_target

    if len(arguments.path) > 1:
        raise RupexError("--wire goes with one PATH: the listener is that host's")
    targets = merge_targets(parse_target(text) for text in arguments.wire)
    evidence = gather(
        located.tree, located.start, name=arguments.host or host_name(path, located.tree.root),
        family=arguments.family, assumed=options.assumptions(arguments.assume),
    )  # fmt: skip
    seen = asyncio.run(
        observe_all(
            targets,
            manners=options.manners(arguments),
            connect=options.connect(arguments.connect),
            skip_paths=arguments.skip_paths,
        )
    )
    with options.known_of(arguments) as known:
        host = known(join(evidence, located.tree, seen))
    return traced(assess(host, baseline, now, keep_all=arguments.verbose, waivers=waivers), located.tree)


def run_of(
    hosts: list[Any],
    baseline: Any,
    now: datetime,
    seconds: float,
    *,
    waivers: Any = None,
    fleet: Any = None,
    settings: Any = None,
) -> Any:
    """The run document of ``hosts``. ``settings``: the file that gave defaults, and for which options."""
    from msgspec import UNSET

    from rupex import __version__
    from rupex.assess import waivers_used
    from rupex.model.run import BaselineUsed, Run, SettingsUsed, Tool

    return Run(
        tool=Tool("rupex", __version__),
        started=now.strftime("%Y-%m-%dT%H:%M:%SZ"),
        seconds=round(seconds, 3),
        complete=not any(host.problems for host in hosts),
        baseline=BaselineUsed(baseline.name, baseline.version, baseline.digest, baseline.minimum_coverage),
        settings=UNSET if settings is None else SettingsUsed(*settings),
        waivers=UNSET if waivers is None else waivers_used(waivers, hosts, now),
        fleet=UNSET if fleet is None else fleet,
        hosts=tuple(hosts),
    )


def finish(
    hosts: list[Any],
    baseline: Any,
    waivers: Any,
    now: datetime,
    seconds: float,
    arguments: argparse.Namespace,
    files: list[tuple[str, Path]],
    fleet: Any = None,
) -> int:
    """Write the run in every form asked for, and say how it ends."""
    settings = getattr(arguments, "settings_in_force", None)
    if settings is not None:
        print(f"rupex: settings of {settings[0]} are in force: {', '.join(settings[1]) or 'none'}", file=sys.stderr)
    document = run_of(hosts, baseline, now, seconds, waivers=waivers, fleet=fleet, settings=settings)
    if arguments.history is not None:
        history = options.open_history(arguments.history)
        number = history.add(document)
        history.close()
        print(f"rupex: kept as run {number}", file=sys.stderr)
    for form, path in files:
        options.write_whole(path, render_run(document, form, arguments, width=100, colour=False))
    text = render_run(
        document, arguments.format, arguments, width=options.terminal_width(), colour=options.wants_colour()
    )
    print(text, end="")
    return _status(document, arguments, baseline.minimum_coverage)


def render_run(document: Any, form: str, arguments: argparse.Namespace, *, width: int, colour: bool) -> str:
    if form != "text":
        from rupex.reports.forms import render

        return render(document, form)
    if document.fleet and not arguments.quiet:
        from rupex.reports.fleet import render_fleet

        return render_fleet(document, width=width, colour=colour, verbose=arguments.verbose)
    from rupex.reports import text

    return text.render_run(document, width=width, colour=colour, verbose=arguments.verbose, quiet=arguments.quiet)


def _status(document: Any, arguments: argparse.Namespace, minimum_coverage: float) -> int:
    from rupex.model.judgement import SEVERITIES
    from rupex.reports.clean import clean
    from rupex.scoring import meets

    met = True
    for host in document.hosts:
        if arguments.require is not None and not meets(host.score, arguments.require, minimum_coverage):
            met = False
            words = f"rupex: {host.name} {_gate_words(host.score, arguments.require, minimum_coverage)}"
            print(clean(words), file=sys.stderr)
        if arguments.refuse is not None:
            refused = SEVERITIES[: SEVERITIES.index(arguments.refuse) + 1]
            bad = [
                c.control for c in host.checks if any(p.verdict == "fail" and p.severity in refused for p in c.places)
            ]
            if bad:
                met = False
                words = f"rupex: {host.name} has failures of severity {arguments.refuse} or worse: {', '.join(bad)}"
                print(clean(words), file=sys.stderr)
    if not met:
        return GATE_NOT_MET
    return DONE if document.complete else INCOMPLETE


def _gate_words(score: Any, wanted: float, minimum_coverage: float) -> str:
    if score.value is None:
        return f"has no score, {wanted:g} is required"
    if score.coverage < minimum_coverage:
        return f"was seen to {score.coverage:.0%} only; a gate needs {minimum_coverage:.0%}"
    return f"scores {score.value:.1f}, {wanted:g} is required"
