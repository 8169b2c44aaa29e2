"""``rupex compare``: two runs side by side, and why nothing changed where it did not."""

from __future__ import annotations

import argparse
import gc
from collections.abc import Iterable
from typing import Any

from rupex.cli import options
from rupex.cli.output import say, show
from rupex.cli.status import DONE, GATE_NOT_MET
from rupex.user_files import write_whole


def add_verbs(verbs: Any) -> None:
    parser = options.verb(
        verbs, "compare", "compare two runs: what got better, worse, new, gone; and why nothing changed",
        "rupex compare before.json after.json", run,
    )  # fmt: skip
    parser.add_argument("old", metavar="OLD", help="a run document of before, or run:12, run:last-1 of the history")
    parser.add_argument("new", metavar="NEW", help="a run document of after, or run:last")
    parser.add_argument(
        "--refuse", metavar="SEVERITY", choices=("critical", "high", "medium", "low"),
        help="exit 1 when a place fails with this severity or a worse one that did not fail before",
    )  # fmt: skip
    options.add_history_option(parser, "where run:… is found", usual="default")
    options.add_format_options(parser)


def run(arguments: argparse.Namespace) -> int:
    from rupex.compare.compare import compare
    from rupex.reports.formats.json_format import render_json

    gc.disable()  # what is read is kept to the end
    files = options.outputs(arguments.output, options.FORMATS)
    old, new = (options.read_run(name, arguments.history) for name in (arguments.old, arguments.new))
    document = compare(old, new, arguments.old, arguments.new)

    def rendered(form: str, *, width: int, colour: bool) -> str | Iterable[bytes]:
        if form == "json":
            return render_json(document)
        from rupex.reports.text.compare import render_comparison

        return render_comparison(document, width=width, colour=colour, verbose=arguments.verbose, quiet=arguments.quiet)

    for form, path in files:
        write_whole(path, rendered(form, width=100, colour=False))
    text = rendered(arguments.format, width=options.terminal_width(), colour=options.wants_colour())
    show(text, is_document=arguments.format != "text")
    return _status(document, arguments.refuse)


def _status(document: Any, refused: str | None) -> int:
    from rupex.model.judgement import SEVERITIES
    from rupex.reports.clean import clean

    if refused is None:
        return DONE
    bad = SEVERITIES[: SEVERITIES.index(refused) + 1]
    met = True
    for host in document.hosts:
        worse = dict.fromkeys(c.control for c in host.changes if c.new == "fail" and c.severity in bad)
        if worse:
            met = False
            say(clean(f"rupex: {host.name} fails where it did not before: {', '.join(worse)}"))
    return DONE if met else GATE_NOT_MET
