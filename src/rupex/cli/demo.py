"""``rupex demo``: the whole story on made-up data."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.main import DONE


def add_verbs(verbs: Any) -> None:
    parser = options.verb(verbs, "demo", "the whole story on made-up data", "rupex demo --keep demo-data", run)
    parser.add_argument("--keep", metavar="DIR", type=Path, help="keep the demo's files in this new folder")
    options.add_volume_options(parser)


def run(arguments: argparse.Namespace) -> int:
    import tempfile

    from rupex.assess import assess, gather
    from rupex.baseline import load_baseline
    from rupex.cli.audit import finish
    from rupex.demo.scenario import NOW, build_scenario
    from rupex.host import open_tree

    with tempfile.TemporaryDirectory(prefix="rupex-demo-") as scratch:
        folder = arguments.keep or Path(scratch) / "hosts"
        clock = time.monotonic()
        built = build_scenario(folder)
        baseline = load_baseline("public-web")
        hosts = []
        for name, tree in built.items():
            located = open_tree(tree)
            hosts.append(
                assess(gather(located.tree, located.start, name=name).host, baseline, NOW, keep_all=arguments.verbose)
            )
        print(
            "Ternholm Ferries, a made-up island ferry company: an audit of its hosts' configuration, keys and modes.\n"
        )
        arguments.format, arguments.require, arguments.refuse = "text", None, None
        finish(hosts, baseline, NOW, time.monotonic() - clock, arguments, [])
        if arguments.keep is not None:
            print(
                f"The files are in {folder}; try: rupex effective {folder}/booking --url http://www.booking.ternholm.test/"
            )
    return DONE
