"""``rupex demo``: the whole story on made-up data, told by the commands themselves."""

from __future__ import annotations

import argparse
import contextlib
import io
import json
import os
import shlex
import textwrap
import time
from pathlib import Path
from typing import Any, Final

from rupex.cli import options
from rupex.cli.status import DONE
from rupex.user_files import write_whole

_THEN: Final = "2026-10-24T09:30:00Z"
_WAIVERS: Final = """# Accepted on purpose, each with somebody who answers for it.
[[waivers]]
control = "surface.listener"
host = "freight"
reason = "The harbour's old terminals still speak AJP; they are replaced in October"
owner = "harbour office"
until = 2026-10-31

[[waivers]]
control = "header.permissions"
host = "timetable"
reason = "The stop finder needs the position"
owner = "web team"
until = 2027-03-31
"""


def add_verbs(verbs: Any) -> None:
    parser = options.verb(verbs, "demo", "the whole story on made-up data", "rupex demo --keep demo-data", run)
    parser.add_argument("--keep", metavar="DIR", type=Path, help="the folder for the demo's files, made new")
    parser.add_argument(
        "--listen",
        action="store_true",
        help="only run the simulated listeners, for probes of your own, until interrupted",
    )
    options.add_volume_options(parser)


def run(arguments: argparse.Namespace) -> int:
    import tempfile

    from rupex.demo.listeners import simulated_listeners
    from rupex.model import RupexError

    with (
        tempfile.TemporaryDirectory(prefix="rupex-listen-") as scratch,
        simulated_listeners(Path(scratch)) as simulated,
    ):
        if arguments.listen:
            return _listen(simulated)
        folder = arguments.keep
        if folder is None:
            folder = Path(tempfile.mkdtemp(prefix="rupex-demo-"))
        else:
            try:
                folder.mkdir(parents=True)
            except FileExistsError:
                raise RupexError(f"{folder}: exists already; name a new folder") from None
            except OSError as error:
                raise RupexError(f"{folder}: cannot be made ({error.strerror})") from None
        _Story(folder.absolute(), simulated, arguments.top).tell()
    return DONE


def _listen(simulated: Any) -> int:
    for host in simulated:
        for port, listener_port in host.ports.items():
            print(f"{host.what}: rupex probe {host.name}:{port} --connect 127.0.0.1:{listener_port}", flush=True)
    try:
        while True:
            time.sleep(3600)
    except KeyboardInterrupt:
        return DONE


class _Story:
    """The chapters, in the order of the work. Each shows the command that tells it, which works in ``folder`` afterwards too."""

    def __init__(self, folder: Path, simulated: Any, top: argparse.ArgumentParser) -> None:
        self.top = top
        self.folder, self.simulated, self.chapter = folder, simulated, 0

    def tell(self) -> None:
        self._prepare()
        print("Ternholm Ferries, a made-up island ferry company. All of it happens on this machine.\n")
        before, camera, after = self.simulated
        self._title("See it as a stranger sees it (simulated listeners on loopback)")
        self._probe([before, camera], "wire-before.json")
        self._title("Find what is in effect, and the line that decides it")
        self._run("effective before/booking --url http://www.booking.ternholm.test/")
        self._run("effective before/booking --line etc/nginx/snippets/tls.conf:3", first=12)
        self._title("Hold it against the baseline: the company's own, which extends a built-in one")
        self._run("audit before/booking --baseline ternholm.toml --output before.json", first=30)
        self._title("Look at the files themselves")
        self._run("credential before/booking/etc/ssl/ternholm/booking.pem before/booking/etc/ssl/ternholm/booking.key"
                  " before/booking/etc/ssl/ternholm/agents.pem before/booking/etc/ssl/ternholm/agents.key")  # fmt: skip
        self._title("What to change first")
        self._run("audit before/booking --baseline ternholm.toml", last=11)
        self._title("A month later: what the repairs did, and what they did not")
        self._run("audit after/booking --baseline ternholm.toml --output after.json --quiet")
        self._run("compare before.json after.json", first=24)
        self._title("Prove it, from outside")
        self._probe([after], "wire-after.json")
        self._run("compare wire-before.json wire-after.json", first=16)
        self._title("Keep it true: the whole fleet, then and now, with a waiver that has run out")
        shared = "--baseline ternholm.toml --waivers waivers.toml --history fleet.sqlite"
        self._run(f"fleet before.toml {shared} --output fleet-before.json --quiet", now=_THEN)
        self._run(f"fleet after.toml {shared} --output fleet-after.json")
        self._run("trend --history fleet.sqlite --plot trend.png", now=None)
        self._title("Report it")
        self._run("report fleet-after.json --before fleet-before.json --output report.html --output report.sarif"
                  " --output report.csv --output inventory.cdx.json --plots figures", now=None)  # fmt: skip
        print(f"All files are in {self.folder}; open report.html there, and try the commands above in it.")

    def _prepare(self) -> None:
        """The host trees of before and after, inventories, the company's baseline, and its waivers."""
        from rupex.demo.mint import Authority
        from rupex.demo.scenario import NOW, build_scenario
        from rupex.pki.certificates import parse_certificates

        authority = Authority("Ternholm Ferries Services CA", NOW)
        for when in ("before", "after"):
            built = build_scenario(self.folder / when, repaired=when == "after", authority=authority)
            (self.folder / f"{when}.toml").write_text(
                "".join(
                    f'[[hosts]]\nname = "{name}"\ntree = "{when}/{name}"\nowner = "{owner}"\ntags = ["{tag}"]\n'
                    f"weight = {weight}\n\n"
                    for name, (owner, tag, weight) in _OWNERS.items()
                    if name in built
                )
            )
        issued = parse_certificates((self.folder / "before/booking/etc/ssl/ternholm/booking.pem").read_bytes())
        anchors = [self.simulated[2].anchor, issued[-1].sha256]
        (self.folder / "ternholm.toml").write_text(
            'name = "ternholm"\nversion = "1"\nextend = "public-web"\n\n[controls."cert.trust"]\n'
            f'source = "the company has an authority of its own"\nparameters.anchors = {json.dumps(anchors)}\n'
        )
        (self.folder / "waivers.toml").write_text(_WAIVERS)

    def _title(self, words: str) -> None:
        self.chapter += 1
        print(f"{self.chapter}. {words}\n{'─' * min(96, len(words) + 3)}\n")

    def _run(self, line: str, *, first: int | None = None, last: int | None = None, now: str | None = "") -> None:
        """Run one command in the folder and show its output, or the ``first`` or ``last`` lines of it. ``now``: the time that
        it is told, the scenario's own where it is empty, none where it is None."""
        from rupex.demo.scenario import NOW

        words = shlex.split(line)
        if now is not None and words[0] in ("audit", "fleet", "credential"):
            words += ["--now", now or NOW.strftime("%Y-%m-%dT%H:%M:%SZ")]
        shown_as = textwrap.wrap(shlex.join(["rupex", *words]), 92, break_long_words=False, break_on_hyphens=False)
        print("$ " + " \\\n    ".join(shown_as) + "\n")
        out, messages = io.StringIO(), io.StringIO()
        working_folder = Path.cwd()
        os.chdir(self.folder)
        try:
            with contextlib.redirect_stdout(out), contextlib.redirect_stderr(messages):
                parsed = self.top.parse_args(words)
                parsed.run(parsed)
        finally:
            os.chdir(working_folder)
        lines = out.getvalue().rstrip().split("\n")
        shown = lines[:first] if first is not None else lines[-last:] if last is not None else lines
        if last is not None and len(lines) > last:
            print(f"  ({len(lines) - last} lines before)")
        print("\n".join(shown).rstrip())
        if first is not None and len(lines) > first:
            print(f"  ({len(lines) - first} more lines)")
        if messages.getvalue():
            print(messages.getvalue().rstrip())
        print()

    def _probe(self, hosts: list[Any], name: str) -> None:
        """Look at simulated hosts, and keep the run as ``name``."""
        from rupex.baseline import load_baseline
        from rupex.cli.runs import run_of
        from rupex.demo.scenario import NOW
        from rupex.reports.formats.json_format import render_json
        from rupex.reports.text.text import render_brief

        baseline = load_baseline(str(self.folder / "ternholm.toml"))
        clock = time.monotonic()
        found = [_probed(host, baseline) for host in hosts]
        run = run_of(found, baseline, NOW, time.monotonic() - clock)
        write_whole(self.folder / name, render_json(run))
        for host in hosts:
            print(f"$ rupex probe {host.name}        ({host.what})")
        width, colour = options.terminal_width(), options.wants_colour()
        print()
        print(render_brief(found, baseline.minimum_coverage, width=width, colour=colour))


_OWNERS: Final = {
    "booking": ("web team", "public", 3),
    "timetable": ("web team", "public", 2),
    "freight": ("harbour office", "partners", 1),
}


def _probed(host: Any, baseline: Any) -> Any:

    from rupex.audit.probe import probe
    from rupex.demo.scenario import NOW
    from rupex.parallel import run_loop
    from rupex.wire.connection.connection import ProbeLimits
    from rupex.wire.connection.targets import Target
    from rupex.wire.observe.observe import Connect

    async def go() -> Any:
        target = Target(host.name, tuple(host.ports))
        connect = Connect("127.0.0.1", ports=host.ports)
        async for _, document in probe([target], baseline, NOW, probe_limits=ProbeLimits(), connect=connect):
            return document
        return None

    return run_loop(go())
