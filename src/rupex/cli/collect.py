"""``rupex collect``: a snapshot of this machine, without private keys."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.output import show
from rupex.cli.status import DONE, INCOMPLETE


def add_verbs(verbs: Any) -> None:
    parser = options.verb(
        verbs, "collect", "take a snapshot of this machine for an audit elsewhere, without private keys and secrets",
        "rupex collect --list, then rupex collect --output booking.tar.gz", run,
    )  # fmt: skip
    parser.add_argument(
        "--root", metavar="DIR", type=Path, default=Path("/"), help="the host tree (default: this machine)"
    )
    parser.add_argument(
        "--output", metavar="FILE", type=Path, help="the archive (default: HOSTNAME.tar.gz; never written over)"
    )
    parser.add_argument(
        "--list", action="store_true", help="only show what would be taken, and what would be done to it"
    )
    parser.add_argument(
        "--script", action="store_true", help="print a shell script that takes the snapshot on a machine without Python"
    )
    parser.add_argument("--now", metavar="TIME", help="the time to write down, such as 2026-11-24T09:30:00Z")
    parser.add_argument("--verbose", action="store_true", help="where an error of our own came from")
    parser.add_argument("--quiet", action="store_true", help="one line")


def run(arguments: argparse.Namespace) -> int:
    if arguments.script:
        from rupex.snapshot.script import render_script

        show(render_script())
        return DONE
    from rupex.host import open_tree
    from rupex.model import RupexError
    from rupex.reports.text.snapshot import render_plan, render_taken
    from rupex.snapshot import collect, survey

    if not arguments.root.is_dir():
        raise RupexError(f"{arguments.root}: no such folder")
    tree = open_tree(arguments.root, root=arguments.root).tree  # with the owners and modes of a manifest, if it has one
    width, colour = options.terminal_width(), options.wants_colour()
    if arguments.list:
        planned, looked_at = survey(tree)
        show(render_plan(looked_at, planned.closed, width=width, colour=colour))
        return INCOMPLETE if planned.closed else DONE
    path = arguments.output or Path(f"{_name(arguments.root)}.tar.gz")
    from rupex.cli.progress import Bar

    with Bar("taking", 2) as bar:
        planned, taken = collect(
            tree,
            path,
            options.moment(arguments.now),
            lambda found: bar.expect(len(found.items)),
            lambda _: bar.advance(),
        )
    show(render_taken(taken, planned.closed, str(path), width=width, colour=colour, quiet=arguments.quiet))
    failed = [one for one in taken if one.kind == "configuration" and one.unread is not None and one.unread == one.how]
    return INCOMPLETE if failed or planned.closed else DONE


def _name(root: Path) -> str:
    import socket

    return socket.gethostname() if root == Path("/") else root.resolve().name
