"""``rupex demo``: the whole story on made-up data."""

from __future__ import annotations

import argparse
import json
import time
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.main import DONE


def add_verbs(verbs: Any) -> None:
    parser = options.verb(verbs, "demo", "the whole story on made-up data", "rupex demo --keep demo-data", run)
    parser.add_argument("--keep", metavar="DIR", type=Path, help="keep the demo's files in this new folder")
    parser.add_argument(
        "--listen",
        action="store_true",
        help="only run the simulated listeners, for probes of your own, until interrupted",
    )
    options.add_volume_options(parser)


def run(arguments: argparse.Namespace) -> int:
    import tempfile

    from rupex.demo.listeners import simulated_listeners

    with tempfile.TemporaryDirectory(prefix="rupex-demo-") as scratch, simulated_listeners(Path(scratch)) as simulated:
        if arguments.listen:
            return _listen(simulated)
        _tell(arguments, Path(scratch), simulated)
    return DONE


def _listen(simulated: Any) -> int:
    for host in simulated:
        for port, there in host.ports.items():
            print(f"{host.what}: rupex probe {host.name}:{port} --connect 127.0.0.1:{there}", flush=True)
    try:
        while True:
            time.sleep(3600)
    except KeyboardInterrupt:
        return DONE


def _tell(arguments: argparse.Namespace, scratch: Path, simulated: Any) -> None:
    from rupex.assess import assess, gather
    from rupex.baseline import load_baseline
    from rupex.cli.audit import finish
    from rupex.demo.scenario import NOW, build_scenario
    from rupex.host import open_tree
    from rupex.pki.certificates import parse_certificates

    folder = arguments.keep or scratch / "hosts"
    built = build_scenario(folder)
    before, camera, after = simulated
    issued = parse_certificates((built["booking"] / "etc/ssl/ternholm/booking.pem").read_bytes())
    anchors = [after.anchor, issued[-1].sha256]
    own = scratch / "ternholm.toml"
    own.write_text(
        'name = "ternholm"\nversion = "1"\nextend = "public-web"\n\n[controls."cert.trust"]\n'
        f'source = "the company has an authority of its own"\nparameters.anchors = {json.dumps(anchors)}\n'
    )
    baseline = load_baseline(str(own))
    print("Ternholm Ferries, a made-up island ferry company.\n")
    print("1. What a stranger gets (simulated listeners on this machine)\n")
    _show([_probed(before, baseline), _probed(camera, baseline)], baseline)
    print("2. What the configuration, the keys and the modes say\n")
    clock = time.monotonic()
    hosts = []
    for name, tree in built.items():
        located = open_tree(tree)
        hosts.append(
            assess(gather(located.tree, located.start, name=name).host, baseline, NOW, keep_all=arguments.verbose)
        )
    arguments.format, arguments.require, arguments.refuse, arguments.history = "text", None, None, None
    finish(hosts[:1], baseline, None, NOW, time.monotonic() - clock, arguments, [])
    print("\nAnd two more, in short:\n")
    _show(hosts[1:], baseline)
    print("\n3. The same stranger, after the repair\n")
    _show([_probed(after, baseline)], baseline)
    if arguments.keep is not None:
        print(
            f"The files are in {folder}; try: rupex effective {folder}/booking --url http://www.booking.ternholm.test/"
        )


def _probed(host: Any, baseline: Any) -> Any:
    import asyncio

    from rupex.demo.scenario import NOW
    from rupex.probe import probe
    from rupex.wire.line import Manners
    from rupex.wire.observe import Connect
    from rupex.wire.targets import Target

    async def go() -> Any:
        target = Target(host.name, tuple(host.ports))
        connect = Connect("127.0.0.1", ports=host.ports)
        async for _, document in probe([target], baseline, NOW, manners=Manners(), connect=connect):
            return document
        return None

    return asyncio.run(go())


def _show(hosts: list[Any], baseline: Any) -> None:
    from rupex.reports.text import render_brief

    width, colour = options.terminal_width(), options.wants_colour()
    print(render_brief(hosts, baseline.minimum_coverage, width=width, colour=colour), end="\n")
