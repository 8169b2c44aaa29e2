"""``rupex trend`` and ``rupex history``: what stored runs say over time, and the store itself."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.output import show
from rupex.cli.status import DONE


def add_verbs(verbs: Any) -> None:
    parser = options.verb(
        verbs, "trend", "show how scores went: of the fleet, a host, or a control",
        "rupex trend --host booking --plot booking.svg", run,
    )  # fmt: skip
    parser.add_argument("--host", metavar="NAME", help="of this host (default: the mean of all, by weight)")
    parser.add_argument("--control", metavar="CONTROL", help="of this control: how many hosts fail it")
    parser.add_argument("--since", metavar="TIME", help="runs from then on, such as 2026-10-01")
    parser.add_argument("--plot", metavar="FILE", type=Path, help="also draw it: .png or .svg")
    parser.add_argument("--format", choices=options.FORMATS, default="text", help="what to write to standard output")
    options.add_history_option(parser, "the history", usual="default")

    history = verbs.add_parser(
        "history", help="list and prune stored runs", description="List and prune stored runs.", allow_abbrev=False
    )
    nouns = history.add_subparsers(metavar="list|prune", required=True)
    listed = options.verb(nouns, "list", "list the stored runs", "rupex history list", _list)
    options.add_history_option(listed, "the history", usual="default")
    prune = options.verb(nouns, "prune", "delete old runs", "rupex history prune --keep 50", _prune)
    which = prune.add_mutually_exclusive_group(required=True)
    which.add_argument("--keep", metavar="N", type=_count, help="keep the N youngest")
    which.add_argument("--before", metavar="TIME", help="delete those that started before, such as 2026-01-01")
    options.add_history_option(prune, "the history", usual="default")


def _count(text: str) -> int:
    if not text.isdecimal():
        raise argparse.ArgumentTypeError(f"{text!r} is no number of runs")
    return int(text)


def _stamp(text: str | None) -> str | None:
    return None if text is None else options.moment(text).strftime("%Y-%m-%dT%H:%M:%SZ")


def run(arguments: argparse.Namespace) -> int:
    from rupex.documents.comparison import TrendDocument
    from rupex.history import trend
    from rupex.model import RupexError
    from rupex.reports.formats.json_format import render_json
    from rupex.reports.text.trend import render_trend

    if arguments.control is not None:
        from rupex.controls import control_called

        control_called(arguments.control)
    history = options.open_history(arguments.history)
    found = trend(history, host=arguments.host, control=arguments.control, since=_stamp(arguments.since))
    history.close()
    if not found.points:
        whose = f"of {arguments.host} " if arguments.host else ""
        raise RupexError(f"history {history.where}: no run {whose}in it; keep some with --history")
    if arguments.plot is not None:
        from rupex.reports.plots import plot_trend

        plot_trend(found, arguments.plot)
    if arguments.format == "json":
        document = TrendDocument(host=found.host, control=found.control, points=found.points)
        show(render_json(document), is_document=True)
    else:
        width, colour = options.terminal_width(), options.wants_colour()
        show(render_trend(found, width=width, colour=colour))
    return DONE


def _list(arguments: argparse.Namespace) -> int:
    from rupex.reports.clean import clean

    history = options.open_history(arguments.history)
    runs = history.runs()
    history.close()
    for one in runs:
        mean = "no score" if one.mean is None else f"{one.mean:5.1f}"
        what = one.fleet or f"{one.hosts} host{'s'[: one.hosts > 1]}"
        show(clean(f"run:{one.id:<6} {one.started}  {mean:>8}  {one.baseline:<22} {what}") + "\n")
    if not runs:
        show(f"{history.where}: no runs in it yet; keep some with --history\n")
    return DONE


def _prune(arguments: argparse.Namespace) -> int:
    history = options.open_history(arguments.history)
    count = history.prune(keep=arguments.keep, before=_stamp(arguments.before))
    history.close()
    show(f"{count} run{'s'[: count != 1]} deleted\n")
    return DONE
