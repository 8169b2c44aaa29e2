"""``rupex fleet``: every host of an inventory, audited and probed, ranked, with what costs the fleet most."""

from __future__ import annotations

import argparse
import os
import time
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.output import say
from rupex.cli.runs import finish
from rupex.cli.status import Terminated
from rupex.reports.clean import clean


def add_verbs(verbs: Any) -> None:
    parser = options.verb(
        verbs, "fleet", "audit and probe every host of an inventory, and rank them",
        "rupex fleet hosts.toml --output fleet.json", run,
    )  # fmt: skip
    parser.add_argument("inventory", metavar="INVENTORY", type=Path, help="the hosts: TOML, or CSV for large lists")
    parser.add_argument("--afresh", action="store_true", help="do not go on where an interrupted run was")
    parser.add_argument(
        "--jobs", metavar="N", type=_jobs, default=max(2, os.cpu_count() or 2), help="hosts that are judged at a time"
    )
    parser.add_argument(
        "--host-seconds", metavar="SECONDS", type=options.seconds, default=300.0,
        help="leave a host whose files take longer (default: 300)",
    )  # fmt: skip
    options.add_looking_options(parser)
    options.add_judging_options(parser)
    options.add_output_options(parser)


def _jobs(text: str) -> int:
    if not text.isdecimal() or not 0 < int(text) <= 64:
        raise argparse.ArgumentTypeError(f"{text!r} is no number of jobs; one is a number from 1 to 64")
    return int(text)


def run(arguments: argparse.Namespace) -> int:
    from rupex.baseline import load_baseline
    from rupex.fleet import load_inventory, summarize
    from rupex.fleet.run import Work

    inventory = load_inventory(arguments.inventory)
    default_baseline = load_baseline(arguments.baseline)
    folder = arguments.inventory.parent
    own = {entry.baseline for entry in inventory.entries if entry.baseline is not None}
    baselines: dict[str | None, Any] = {None: default_baseline, **{name: _baseline(name, folder) for name in own}}
    waivers = options.waivers(arguments)
    now = options.moment(arguments.now)
    files = options.outputs(arguments.output)
    with options.known_of(arguments) as enrich:
        work = Work(
            baselines, waivers, now, options.probe_limits(arguments), arguments.skip_paths, arguments.jobs,
            arguments.host_seconds, arguments.verbose, enrich,
        )  # fmt: skip
        clock = time.monotonic()
        hosts, kept = _run(inventory, work, afresh=arguments.afresh)
    fleet = summarize(hosts, inventory.label, now)
    status = finish(hosts, default_baseline, waivers, now, time.monotonic() - clock, arguments, files, fleet)
    if kept is not None:
        kept.forget()
    return status


def _run(inventory: Any, work: Any, *, afresh: bool) -> tuple[list[Any], Any]:
    """The documents of all hosts, and where the finished ones are kept until they are written, if anywhere."""
    from rupex.cli.progress import Bar
    from rupex.fleet import run_fleet

    kept = _kept(inventory, work)
    if afresh and kept is not None:
        kept.forget()
    finished = 0
    with Bar("fleet", len(inventory.entries)) as bar:

        def told(_: Any) -> None:
            nonlocal finished
            finished += 1
            bar.advance()

        try:
            hosts = run_fleet(inventory, work, kept, told)
        except (KeyboardInterrupt, Terminated):
            if kept is not None and kept.error is None:
                words = f"{finished} of {len(inventory.entries)} hosts are kept; the same command goes on from there"
                say(f"rupex: {words}")
            raise
    taken_over = sum(host.taken_over is True for host in hosts)
    if taken_over:
        words = f"{taken_over} of {len(hosts)} hosts are taken over from an interrupted run of the same day"
        say(f"rupex: {words}; --afresh judges them again")
    if kept is not None and kept.error is not None:
        say(f"rupex: finished hosts could not be kept, so an interrupted run starts again: {clean(kept.error)}")
    return hosts, kept


def _kept(inventory: Any, work: Any) -> Any:
    """Where finished hosts are kept; None for an account without a home."""
    from platformdirs import user_state_path

    from rupex.fleet.kept import Kept, state_name

    folder = user_state_path("rupex")
    if not folder.is_absolute():
        return None
    options_told = (work.probe_limits, work.skip_paths, work.keep_all)
    name = state_name(inventory, work.baselines.values(), work.waivers, work.now.date().isoformat(), options_told)
    return Kept(folder / name)


def _baseline(name: str, folder: Path) -> Any:
    """A baseline that an inventory names: a built-in one, or a file beside it."""
    from rupex.baseline import builtin_names, load_baseline

    return load_baseline(name if name in builtin_names() else str(folder / name))
