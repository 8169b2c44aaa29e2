"""``rupex probe``: names as a stranger sees them, to the same findings and score."""

from __future__ import annotations

import argparse
import sys
import time
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.runs import finish

_MOST_LIST_BYTES = 32 << 20
"""A list of the most names that one run takes, each of the greatest length, has about 25 MiB."""

_SHOWN_WHOLE = 50
"""Names up to which the text tells what was seen of each, and not only how it was judged."""


def add_verbs(verbs: Any) -> None:
    parser = options.verb(
        verbs, "probe", "probe listeners: what a stranger gets, over TLS and plain HTTP",
        "rupex probe www.ternholm.test --require 75", run,
    )  # fmt: skip
    parser.add_argument(
        "name", metavar="NAME[:PORT]", nargs="*",
        help="a name or address to ask for; without a port 443 and 80, of which one may be closed",
    )  # fmt: skip
    parser.add_argument("--names", metavar="FILE", help="more names, one a line, # for comments; - for standard input")
    options.add_wire_options(parser)
    options.add_judging_options(parser)
    options.add_output_options(parser)


def run(arguments: argparse.Namespace) -> int:
    from rupex.baseline import load_baseline
    from rupex.parallel import run_loop

    targets = _targets(arguments)
    baseline = load_baseline(arguments.baseline)
    waivers = options.waivers(arguments)
    now = options.moment(arguments.now)
    files = options.outputs(arguments.output)
    clock = time.monotonic()
    hosts = run_loop(_probe(targets, baseline, waivers, now, arguments, files))
    return finish(hosts, baseline, waivers, now, time.monotonic() - clock, arguments, files)


def _targets(arguments: argparse.Namespace) -> list[Any]:
    from rupex.model import RupexError, bounds
    from rupex.wire.connection.targets import merge_targets, parse_target

    written = list(arguments.name)
    if arguments.names is not None:
        written += _listed(arguments.names)
    found = merge_targets(parse_target(text) for text in written)
    if not found:
        raise RupexError("name what to probe, such as www.ternholm.test, or give a list with --names FILE")
    if len(found) > bounds.PROBE_NAMES:
        raise RupexError(f"{len(found)} names; more than {bounds.PROBE_NAMES} are not probed in one run")
    return found


def _listed(name: str) -> list[str]:
    from rupex.model import RupexError
    from rupex.user_files import read_text

    if name != "-":
        text = read_text(Path(name), "list of names", _MOST_LIST_BYTES)
    else:
        try:
            text = sys.stdin.read(_MOST_LIST_BYTES)
        except (OSError, UnicodeDecodeError) as error:
            reason = error.strerror if isinstance(error, OSError) else "it is not UTF-8"
            raise RupexError(f"the list of names on standard input cannot be read ({reason})") from None
    return [line for row in text.splitlines() if (line := row.partition("#")[0].strip())]


async def _probe(
    targets: list[Any], baseline: Any, waivers: Any, now: Any, arguments: argparse.Namespace, files: Any
) -> list[Any]:
    from rupex.audit.probe import probe
    from rupex.cli.progress import Bar

    forms = {arguments.format, *(form for form, _ in files), *(["kept"] if arguments.history else [])}
    hosts: list[Any] = [None] * len(targets)
    with Bar("probe", len(targets)) as bar, options.known_of(arguments) as enrich:
        async for at, document in probe(
            targets, baseline, now, probe_limits=options.probe_limits(arguments), connect=options.connect(arguments.connect),
            skip_paths=arguments.skip_paths, keep_all=arguments.verbose, waivers=waivers, enrich=enrich,
            endpoints=bool(forms - {"text"}) or len(targets) <= _SHOWN_WHOLE,
        ):  # fmt: skip
            hosts[at] = document
            bar.advance()
    return hosts
