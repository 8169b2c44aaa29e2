"""``rupex report``: run documents in other forms, and figures."""

from __future__ import annotations

import argparse
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.output import say, show
from rupex.cli.status import DONE
from rupex.user_files import write_whole


def add_verbs(verbs: Any) -> None:
    parser = options.verb(
        verbs, "report", "write run documents in other forms: pages, tables, figures",
        "rupex report fleet.json --output fleet.html --plots figures", run,
    )  # fmt: skip
    parser.add_argument("run_document", metavar="RUN", nargs="+", help="a run document, or run:last of the history")
    parser.add_argument("--before", metavar="RUN", help="an earlier run to lay beside it (html)")
    parser.add_argument("--plots", metavar="DIR", type=Path, help="also draw figures into this folder (PNG and SVG)")
    options.add_history_option(parser, "where run:… is found", usual="default")
    options.add_format_options(parser, options.RUN_FORMATS)


def run(arguments: argparse.Namespace) -> int:
    from rupex.cli.runs import render_run

    files = options.outputs(arguments.output)
    document = _merged([options.read_run(name, arguments.history) for name in arguments.run_document])
    before = None if arguments.before is None else options.read_run(arguments.before, arguments.history)

    def rendered(form: str, *, width: int, colour: bool) -> str | Iterable[bytes]:
        if form == "html":
            from rupex.reports.html.html import render_html

            return render_html(document, before)
        text: str | Iterable[bytes] = render_run(document, form, arguments, width=width, colour=colour)
        return text

    for form, path in files:
        write_whole(path, rendered(form, width=100, colour=False))
    if arguments.plots is not None:
        from rupex.reports.plots import plot_run

        for path in plot_run(document, before, arguments.plots):
            show(f"{path}\n")
    if arguments.plots is None and not files:
        text = rendered(arguments.format, width=options.terminal_width(), colour=options.wants_colour())
        show(text, is_document=arguments.format != "text")
    return DONE


def _merged(runs: list[Any]) -> Any:
    """Several runs as one: all their hosts, of two with one name the later."""
    from msgspec import UNSET, structs

    from rupex.reports.clean import clean

    if len(runs) == 1:
        return runs[0]
    last = max(runs, key=lambda one: one.started)
    names = [host.name for one in runs for host in one.hosts]
    twice = dict.fromkeys(name for name in names if names.count(name) > 1)
    if twice:
        words = f"rupex: in several of these runs, of which the latest counts: {', '.join(twice)}"
        say(clean(words))
    hosts = {host.name: host for one in sorted(runs, key=lambda one: one.started) for host in one.hosts}
    return structs.replace(
        last, hosts=tuple(hosts.values()), complete=all(one.complete for one in runs), fleet=UNSET, waivers=UNSET,
        seconds=sum(one.seconds for one in runs),
    )  # fmt: skip
