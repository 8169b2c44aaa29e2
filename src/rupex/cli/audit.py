"""``rupex audit``: configuration, keys and permissions of host trees to findings and a score."""

from __future__ import annotations

import argparse
import gc
import time
import traceback
from datetime import datetime
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.output import say
from rupex.cli.runs import finish
from rupex.user_files import write_whole


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
    # What an audit makes is kept to its end: looking for garbage in it again and again would take a third of the time.
    gc.disable()
    from rupex.baseline import load_baseline
    from rupex.cli.progress import progress

    baseline = load_baseline(arguments.baseline)
    waivers = options.waivers(arguments)
    now = options.moment(arguments.now)
    files = options.outputs(arguments.output)
    forms = {arguments.format, *(form for form, _ in files), *(["kept"] if arguments.history else [])}
    clock = time.monotonic()
    hosts = []
    with progress(arguments.path, "audit") as paths:
        for path in paths:
            hosts.append(_audited(path, arguments, baseline, waivers, now, written=_written(forms)))
    hosts = _told_apart(hosts, arguments.path)
    if arguments.suggest_waivers is not None:
        _suggest_waivers(arguments.suggest_waivers, hosts, now)
    return finish(hosts, baseline, waivers, now, time.monotonic() - clock, arguments, files)


def _written(forms: set[str]) -> str:
    """What the forms asked for need of a host's endpoints."""
    return "brief" if forms == {"text"} else "packed" if forms <= {"text", "json"} else "full"


def _audited(
    path: Path, arguments: argparse.Namespace, baseline: Any, waivers: Any, now: datetime, *, written: Any
) -> Any:
    """The host's document. An error of our own is a problem of this host, and the others are still judged."""
    from rupex.audit.assess import assess, host_name
    from rupex.model import Host, Problem, RupexError

    try:
        return _audit(path, arguments, baseline, waivers, now, written=written)
    except RupexError:
        raise
    except Exception as error:  # noqa: BLE001  an error of our own on one host
        words = f"an error of our own ended the work on this host ({type(error).__name__}: {error}); please report it"
        if arguments.verbose:
            say(traceback.format_exc())
        problem = Problem("internal", str(path), None, words, True)
        host = Host(name=arguments.host or host_name(path, path), sources=(), problems=(problem,))
        return assess(host, baseline, now)


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
    from rupex.reports.text.waivers import render_suggestions

    if path.exists():
        raise RupexError(f"{path}: exists already, and somebody may have written reasons in it; name another file")
    text, count = render_suggestions(hosts, now)
    write_whole(path, text)
    say(f"rupex: {path}: {count} waivers to fill in; delete what is to be repaired")


def _audit(
    path: Path, arguments: argparse.Namespace, baseline: Any, waivers: Any, now: datetime, *, written: Any
) -> Any:
    from rupex.audit.assess import assess_tree, host_name
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
        written=written, waivers=waivers,
    )  # fmt: skip


def _audit_both(
    path: Path, located: Any, arguments: argparse.Namespace, baseline: Any, waivers: Any, now: datetime
) -> Any:

    from rupex.audit.assess import assess, gather, host_name, with_file_digests
    from rupex.audit.join import join
    from rupex.audit.probe import observe_all
    from rupex.model import RupexError
    from rupex.parallel import run_loop
    from rupex.wire.connection.targets import merge_targets, parse_target

    if len(arguments.path) > 1:
        raise RupexError("--wire goes with one PATH: the listener is that host's")
    targets = merge_targets(parse_target(text) for text in arguments.wire)
    evidence = gather(
        located.tree, located.start, name=arguments.host or host_name(path, located.tree.root),
        family=arguments.family, assumed=options.assumptions(arguments.assume),
    )  # fmt: skip
    observations = run_loop(
        observe_all(
            targets,
            probe_limits=options.probe_limits(arguments),
            connect=options.connect(arguments.connect),
            skip_paths=arguments.skip_paths,
        )
    )
    with options.known_of(arguments) as enrich:
        host = enrich(join(evidence, located.tree, observations))
    return with_file_digests(assess(host, baseline, now, keep_all=arguments.verbose, waivers=waivers), located.tree)
