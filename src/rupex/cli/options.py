"""Options that several verbs share, and what they stand for."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Final

from rupex.model import RupexError

FORMATS: Final = ("text", "json")
RUN_FORMATS: Final = (*FORMATS, "html", "markdown", "csv", "sarif", "junit", "cyclonedx", "openmetrics")
"""The forms of a run document; ``rupex.reports.formats.formats`` has what writes them."""


def verb(
    verbs: Any, name: str, summary: str, example: str, run: Callable[[argparse.Namespace], int]
) -> argparse.ArgumentParser:
    """A verb of its own, with its example and function."""
    parser: argparse.ArgumentParser = verbs.add_parser(
        name, help=summary, description=summary[0].upper() + summary[1:] + ".", epilog=f"example: {example}",
        allow_abbrev=False,
    )  # fmt: skip
    parser.set_defaults(run=run)
    return parser


def add_tree_options(parser: argparse.ArgumentParser) -> None:
    """What a verb that reads a host tree takes."""
    parser.add_argument("--root", metavar="DIR", type=Path, help="the host tree's root; nothing outside it is read")
    parser.add_argument(
        "--as", dest="family", metavar="FAMILY", help="the server family, where it is not found by itself"
    )
    parser.add_argument(
        "--assume", metavar="NAME=VERSION", action="append", default=[],
        help="a version that the tree does not show: nginx=1.18, openssl=3.0 (repeatable)",
    )  # fmt: skip
    parser.add_argument("--manifest", metavar="FILE", type=Path, help="owners and modes in mtree form")


def add_judging_options(parser: argparse.ArgumentParser) -> None:
    """What a verb that judges takes."""
    parser.add_argument(
        "--baseline", metavar="NAME|FILE", default="public-web", help="the baseline (default: public-web)"
    )
    parser.add_argument(
        "--waivers", metavar="FILE", type=Path, help="failures that are accepted, with reason and last day"
    )
    parser.add_argument(
        "--settings", metavar="FILE", help="defaults for these options (default: rupex.toml, if it is here)"
    )
    parser.add_argument("--now", metavar="TIME", help="judge dates as of this time, such as 2026-11-24T09:30:00Z")
    parser.add_argument(
        "--require", metavar="SCORE", type=_score, help="exit 1 when a host's score is lower, or too little was seen"
    )
    parser.add_argument(
        "--refuse", metavar="SEVERITY", choices=("critical", "high", "medium", "low"),
        help="exit 1 when a place fails with this severity or a worse one",
    )  # fmt: skip


def add_wire_options(parser: argparse.ArgumentParser) -> None:
    """What a verb that looks at named listeners takes."""
    parser.add_argument("--connect", metavar="ADDR[:PORT]", help="go there instead of to the names' own addresses")
    add_looking_options(parser)


def add_looking_options(parser: argparse.ArgumentParser) -> None:
    """How listeners are looked at."""
    parser.add_argument(
        "--gentle", action="store_true", help="one connection at a time with a pause, for fragile devices"
    )
    parser.add_argument("--skip-paths", action="store_true", help="do not ask for the paths that files often lie at")
    parser.add_argument(
        "--patience", metavar="SECONDS", type=seconds, help="wait as long for one connection or answer (default: 8)"
    )


def probe_limits(arguments: argparse.Namespace) -> Any:
    """How patient and how gentle a look at listeners is."""
    from msgspec import structs

    from rupex.wire.connection.connection import SLOW_LIMITS, ProbeLimits

    found = SLOW_LIMITS if arguments.gentle else ProbeLimits()
    return found if arguments.patience is None else structs.replace(found, step_seconds=arguments.patience)


def connect(text: str | None) -> Any:
    if text is None:
        return None
    from rupex.wire.connection.targets import parse_target
    from rupex.wire.observe.observe import Connect

    target = parse_target(text)
    return Connect(target.name, target.ports[0] if target.chosen else None)


def add_output_options(parser: argparse.ArgumentParser) -> None:
    """What a verb that makes a run takes."""
    add_history_option(parser, "keep the run in a history")
    add_format_options(parser, RUN_FORMATS)


def add_format_options(parser: argparse.ArgumentParser, formats: tuple[str, ...] = FORMATS) -> None:
    """What a verb that reports takes."""
    parser.add_argument(
        "--format", metavar="FORMAT", choices=formats, default="text",
        help=f"what to write to standard output: {', '.join(formats)}",
    )  # fmt: skip
    parser.add_argument(
        "--output", metavar="FILE", action="append", default=[],
        help="also write a file, its format by suffix or as FORMAT:FILE (repeatable)",
    )  # fmt: skip
    add_volume_options(parser)


def add_volume_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--verbose", action="store_true", help="evidence, provenance, and everything that was judged")
    parser.add_argument("--quiet", action="store_true", help="one line a host")


@contextmanager
def known_of(arguments: argparse.Namespace) -> Iterator[Any]:
    """What adds to a host what earlier runs tell of it, where the run is kept in a history."""
    if arguments.history is None:
        yield lambda host: host
        return
    from rupex.history import with_ticket_ages

    history = open_history(arguments.history)
    try:
        yield lambda host: with_ticket_ages(host, history)
    finally:
        history.close()


def seconds(text: str) -> float:
    try:
        number = float(text)
    except ValueError:
        number = 0.0
    if not 0.05 <= number <= 600:
        raise argparse.ArgumentTypeError(f"{text!r} is no time to wait; one is a number of seconds from 0.05 to 600")
    return number


def add_history_option(parser: argparse.ArgumentParser, what: str, *, usual: str | None = None) -> None:
    parser.add_argument(
        "--history", metavar="FILE|URL", default=usual,
        help=f"{what}: a file (SQLite), postgresql://…, or the word default for the one in your data folder",
    )  # fmt: skip


def open_history(where: str) -> Any:
    """The history that ``--history`` names. Raises :class:`~rupex.model.RupexError`."""
    from rupex.history import History

    if where == "default":
        from platformdirs import user_data_path

        where = str(user_data_path("rupex") / "history.sqlite")
    return History(where)


def _score(text: str) -> float:
    try:
        number = float(text)
    except ValueError:
        number = -1.0
    if not 0 <= number <= 100:
        raise argparse.ArgumentTypeError(f"{text!r} is no score; one is a number from 0 to 100")
    return number


def assumptions(pairs: list[str]) -> dict[str, str]:
    """``NAME=VERSION`` pairs as a table. Raises :class:`~rupex.model.RupexError`."""
    found = {}
    for pair in pairs:
        name, mark, version = pair.partition("=")
        if not mark or not name or not version:
            raise RupexError(f"--assume {pair}: NAME=VERSION is expected, such as nginx=1.18")
        found[name] = version
    return found


def moment(text: str | None) -> datetime:
    """The time that ``--now`` gives, or the clock's."""
    if text is None:
        return datetime.now(UTC)
    from rupex.audit.assess import parse_time

    return parse_time(text)


def waivers(arguments: argparse.Namespace) -> Any:
    """The waivers that ``--waivers`` names, None without. Raises :class:`~rupex.model.RupexError`."""
    if arguments.waivers is None:
        return None
    from rupex.baseline import load_waivers

    return load_waivers(arguments.waivers)


def read_run(name: str, history: str = "default") -> Any:
    """The run document in the file ``name``; or ``run:12``, ``run:last``, ``run:last-1`` of the history. Raises
    :class:`~rupex.model.RupexError`."""
    if name.startswith("run:"):
        return open_history(history).named(name.removeprefix("run:"))
    from rupex.reports.read import read_run as read

    return read(Path(name))


def outputs(given_outputs: list[str], formats: tuple[str, ...] = RUN_FORMATS) -> list[tuple[str, Path]]:
    """``--output`` values as (format, file). Raises :class:`~rupex.model.RupexError`."""
    found = []
    for given in given_outputs:
        name, mark, rest = given.partition(":")
        if mark and name in formats:
            found.append((name, Path(rest)))
            continue
        from rupex.reports.formats.formats import form_of

        form = form_of(Path(given))
        if form not in formats:
            raise RupexError(f"--output {given}: {form} is no form of this document; there are {', '.join(formats)}")
        found.append((form, Path(given)))
    return found


def terminal_width() -> int:
    """Columns of the terminal, or 100 when there is none."""
    given = os.environ.get("COLUMNS", "")
    if given.isdecimal() and int(given):
        return min(160, int(given))
    try:
        return min(160, os.get_terminal_size(1).columns or 100)
    except OSError:
        return 100


def wants_colour() -> bool:
    """Whether standard output is a terminal that may be coloured (NO_COLOR is honoured)."""
    return sys.stdout.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
