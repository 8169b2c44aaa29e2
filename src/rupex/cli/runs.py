"""What every verb that makes a run does at its end: the document, its forms, the history, and how it ends."""

from __future__ import annotations

import argparse
from collections.abc import Iterable
from datetime import datetime
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.output import say, show
from rupex.cli.status import DONE, GATE_NOT_MET, INCOMPLETE, OUR_ERROR
from rupex.documents.encoding import encodable
from rupex.reports.clean import clean
from rupex.user_files import write_whole


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
    from rupex.audit.document import waivers_used
    from rupex.documents.run import BaselineUsed, Run, SettingsUsed, Tool

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
        _say_settings(*settings)
    document = run_of(hosts, baseline, now, seconds, waivers=waivers, fleet=fleet, settings=settings)
    if arguments.history is not None:
        history = options.open_history(arguments.history)
        number = history.add(document)
        history.close()
        say(f"rupex: kept as run {number}")
    if not {arguments.format, *(form for form, _ in files)} <= {"text", "json"}:
        document = encodable(document)
    for form, path in files:
        write_whole(path, render_run(document, form, arguments, width=100, colour=False))
    text = render_run(
        document, arguments.format, arguments, width=options.terminal_width(), colour=options.wants_colour()
    )
    show(text, is_document=arguments.format != "text")
    return _status(document, arguments, baseline.minimum_coverage)


def _say_settings(file: str, taken: tuple[str, ...], not_taken: tuple[str, ...]) -> None:
    say(clean(f"rupex: settings of {file} are in force: {', '.join(taken) or 'none'}"))
    if not_taken:
        say(clean(f"rupex: not taken, since {file} was not named with --settings: {', '.join(not_taken)}"))


def render_run(
    document: Any, form: str, arguments: argparse.Namespace, *, width: int, colour: bool
) -> str | Iterable[bytes]:
    if form != "text":
        from rupex.reports.formats.formats import render

        return render(document, form)
    if document.fleet and not arguments.quiet:
        from rupex.reports.text.fleet import render_fleet

        return render_fleet(document, width=width, colour=colour, verbose=arguments.verbose)
    from msgspec import structs

    from rupex.documents.sites import SITES_LISTED, written_out
    from rupex.reports.text import text

    document = structs.replace(document, hosts=tuple(written_out(host, SITES_LISTED) for host in document.hosts))
    return text.render_run(document, width=width, colour=colour, verbose=arguments.verbose, quiet=arguments.quiet)


def _status(document: Any, arguments: argparse.Namespace, minimum_coverage: float) -> int:
    from rupex.audit.score import meets
    from rupex.model.judgement import SEVERITIES

    met = True
    for host in document.hosts:
        if arguments.require is not None and not meets(host.score, arguments.require, minimum_coverage):
            met = False
            words = f"rupex: {host.name} {_gate_words(host.score, arguments.require, minimum_coverage)}"
            say(clean(words))
        if arguments.refuse is not None:
            refused = SEVERITIES[: SEVERITIES.index(arguments.refuse) + 1]
            bad = [
                c.control for c in host.checks if any(p.verdict == "fail" and p.severity in refused for p in c.places)
            ]
            if bad:
                met = False
                words = f"rupex: {host.name} has failures of severity {arguments.refuse} or worse: {', '.join(bad)}"
                say(clean(words))
    if not met:
        return GATE_NOT_MET
    if any(problem.kind == "internal" for host in document.hosts for problem in host.problems):
        say("rupex: an error of our own ended the work on a host; run it again with --verbose to see where")
        return OUR_ERROR
    return DONE if document.complete else INCOMPLETE


def _gate_words(score: Any, required: float, minimum_coverage: float) -> str:
    if score.value is None:
        return f"has no score, {required:g} is required"
    if score.coverage < minimum_coverage:
        return f"was seen to {score.coverage:.0%} only; a gate needs {minimum_coverage:.0%}"
    return f"scores {score.value:.1f}, {required:g} is required"
