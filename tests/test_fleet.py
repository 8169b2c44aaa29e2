"""Fleets: inventories as people write them, runs that one broken host cannot hold, and what is said of the whole."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any
from unittest.mock import patch

from rupex.baseline import load_baseline
from rupex.documents.run import HostDocument
from rupex.fleet import Entry, parse_inventory, run_fleet
from rupex.fleet import run as fleet_run
from rupex.fleet.run import Work
from rupex.model import RupexError
from rupex.wire.connection.connection import ProbeLimits
from tests import peers
from tests.support import NOW, TreeTest, rupex, valid_document

SITE = """
server { listen 443 ssl; server_name NAME; ssl_certificate /etc/ssl/site.pem; ssl_certificate_key /etc/ssl/site.key; root /srv; }
"""


HANGING = """
import sys, time
from rupex.fleet import run
whole = run._assess
def assess(entry, *rest):
    if entry.name == "slow":
        time.sleep(600)
    return whole(entry, *rest)
run._assess = assess
from rupex.cli.main import entry
entry()
"""
"""The command, but that it never ends with a host called slow."""


class FleetTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.folder = self.root.parent
        self.state = self.folder / "state"

    def host(self, name: str, *, mode: int = 0o600, days_old: int = 10) -> None:
        self.root = self.folder / name
        self.mint([f"{name}.ternholm.test"], mode=mode, days_old=days_old)
        self.write_nginx(SITE.replace("NAME", f"{name}.ternholm.test"))

    def fleet(self, text: str, *more: str, name: str = "hosts.toml") -> subprocess.CompletedProcess[str]:
        (self.folder / name).write_text(text)
        return rupex("fleet", self.folder / name, "--now", "2026-11-24", *more, XDG_STATE_HOME=str(self.state))

    def begin(self, text: str, *more: str) -> subprocess.Popen[str]:
        """The command as a running process, in which a host called slow is never done."""
        (self.folder / "hosts.toml").write_text(text)
        command = [
            sys.executable,
            "-c",
            HANGING,
            "fleet",
            str(self.folder / "hosts.toml"),
            "--now",
            "2026-11-24",
            *more,
        ]
        return subprocess.Popen(
            command, env=os.environ | {"XDG_STATE_HOME": str(self.state)}, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            text=True, preexec_fn=_heed_interrupts,
        )  # fmt: skip

    def until_kept(self, count: int = 1) -> None:
        """Wait until so many hosts are done."""
        until = time.monotonic() + 60
        while time.monotonic() < until:
            if sum(path.read_bytes().count(b"\n") for path in self.state.rglob("*.jsonl")) >= count:
                return
            time.sleep(0.05)
        self.fail("no host was done within a minute")

    def document(self, text: str, *more: str, name: str = "hosts.toml") -> dict[str, Any]:
        done = self.fleet(text, "--format", "json", *more, name=name)
        document: dict[str, Any] = valid_document(done.stdout)
        return document

    def test_hosts_are_ranked_with_what_costs_the_fleet_most_and_what_expires_first(self) -> None:
        self.host("pier", mode=0o644)
        self.host("booking", days_old=85)
        text = (
            '[[hosts]]\nname = "booking"\ntree = "booking"\nowner = "web"\ntags = ["public"]\nweight = 3\n'
            '[[hosts]]\nname = "pier"\ntree = "pier"\nowner = "quay"\ntags = ["public"]\nbaseline = "internal"\n'
        )
        document = self.document(text)
        fleet, hosts = document["fleet"], {host["name"]: host for host in document["hosts"]}
        scores = {name: host["score"]["value"] for name, host in hosts.items()}
        self.assertEqual(fleet["ranking"], ["pier", "booking"])
        self.assertAlmostEqual(fleet["mean"], (3 * scores["booking"] + scores["pier"]) / 4)
        self.assertEqual([part["name"] for part in fleet["owners"]], ["quay", "web"])
        self.assertEqual((fleet["tags"][0]["hosts"], fleet["tags"][0]["worst"]), (2, "pier"))
        self.assertEqual([(row["host"], row["days_left"]) for row in fleet["expiries"]], [("booking", 5), ("pier", 80)])
        self.assertEqual(hosts["pier"]["baseline"]["name"], "internal")
        lost = {c["control"]: c["lost"] for c in hosts["pier"]["checks"]}
        cost = next(cost for cost in fleet["costs"] if cost["control"] == "key.mode")
        held = hosts["pier"]["score"]["ceiling"]["lost"]
        self.assertAlmostEqual(cost["points"], (lost["key.mode"] + held) / 4)
        self.assertAlmostEqual(sum(cost["points"] for cost in fleet["costs"]), 100 - fleet["mean"], places=6)
        shown = self.fleet(text)
        for words in ("Ranking, worst first", "What costs the fleet most", "By owner", "5 days left"):
            self.assertIn(words, shown.stdout)
        self.assertLessEqual(max(map(len, shown.stdout.splitlines())), 100)
        self.assertEqual(list(self.state.rglob("*.jsonl")), [], "what was kept goes with the end of the run")

    def test_a_table_says_the_same_as_a_document(self) -> None:
        self.host("pier")
        told = self.document(
            '[[hosts]]\nname = "pier"\ntree = "pier"\nowner = "quay"\ntags = ["a", "b"]\nweight = 2.5\n'
        )
        table = self.document("name,tree,owner,tags,weight\npier,pier,quay,a;b,2.5\n", name="hosts.csv")
        for document in (told, table):
            document.pop("started"), document.pop("seconds"), document["fleet"].pop("inventory")
        self.assertEqual(told, table)

    def test_a_host_that_breaks_or_takes_too_long_costs_itself_only(self) -> None:
        self.host("pier")
        os.mkfifo(self.folder / "pipe")
        (self.folder / "broken.tar.gz").write_bytes(b"no archive")
        rows = [("gone", 'tree = "nowhere"'), ("slow", 'tree = "pier"'), ("pipe", 'tree = "pier"\nmanifest = "pipe"'),
                ("broken", 'tree = "broken.tar.gz"'), ("pier", 'tree = "pier"'),
                ("silent", 'names = ["silent.invalid:443"]')]  # fmt: skip
        text = "".join(f'[[hosts]]\nname = "{name}"\n{rest}\n' for name, rest in rows)
        begun = time.monotonic()
        with self.begin(text, "--host-seconds", "4", "--format", "json", "--patience", "2") as running:
            output, messages = running.communicate(timeout=120)
        self.assertEqual((running.returncode, messages), (3, ""))
        self.assertLess(time.monotonic() - begun, 90)
        hosts = {host["name"]: host for host in valid_document(output)["hosts"]}
        self.assertIsNotNone(hosts["pier"]["score"]["value"])
        for name, words in (
            ("gone", "no such file"),
            ("slow", "not done within 4 s"),
            ("broken", ""),
            ("pipe", "not a regular file"),
            ("silent", "resolve"),
        ):
            with self.subTest(name):
                self.assertIsNone(hosts[name]["score"]["value"])
                self.assertIn(words, hosts[name]["problems"][0]["message"])

    def test_an_error_of_our_own_is_one_hosts_only(self) -> None:
        self.host("pier")
        text = '[[hosts]]\nname = "pier"\ntree = "pier"\n[[hosts]]\nname = "quay"\ntree = "pier"\n'
        inventory = parse_inventory("hosts", text.encode(), self.folder)
        work = Work({None: load_baseline("public-web")}, None, NOW, ProbeLimits(), jobs=1)
        whole = fleet_run._assess

        def breaks(entry: Entry, *rest: Any) -> HostDocument:
            if entry.name == "pier":
                raise ValueError("sea-gull")
            return whole(entry, *rest)

        def ends(entry: Entry, *rest: Any) -> HostDocument:
            return os._exit(1) if entry.name == "pier" else whole(entry, *rest)

        for how, words in ((breaks, "ValueError: sea-gull"), (ends, "the process ended")):
            with self.subTest(words), patch.object(fleet_run, "_assess", how):
                pier, quay = run_fleet(inventory, work, None, lambda _: None)
                self.assertIn(words, pier.problems[0].message)
                self.assertIsNotNone(quay.score.value)

    def test_an_interrupted_run_goes_on_where_it_was(self) -> None:
        self.host("pier")
        text = '[[hosts]]\nname = "pier"\ntree = "pier"\n[[hosts]]\nname = "slow"\ntree = "pier"\n'
        for number in (signal.SIGINT, signal.SIGTERM):
            with self.subTest(number.name):
                self.interrupt(text, number)
                (kept,) = self.state.rglob("*.jsonl")
                self.assertEqual((kept.stat().st_mode & 0o777, kept.parent.stat().st_mode & 0o777), (0o600, 0o700))
                kept.write_bytes(kept.read_bytes() + b"0123 {half a li")  # as a kill in the middle of a line leaves it
                done = self.fleet(text, "--format", "json")
                hosts = {host["name"]: host for host in valid_document(done.stdout)["hosts"]}
                self.assertEqual((hosts["pier"].get("taken_over"), hosts["slow"].get("taken_over")), (True, None))
                self.assertIsNotNone(hosts["slow"]["score"]["value"])
                self.assertIn("1 of 2 hosts are taken over from an interrupted run of the same day", done.stderr)
                self.assertEqual(list(self.state.rglob("*.jsonl")), [])

    def interrupt(self, text: str, number: signal.Signals) -> None:
        with self.begin(text, "--jobs", "1") as running:
            self.until_kept()
            running.send_signal(number)
            _, messages = running.communicate(timeout=60)
        self.assertIn("1 of 2 hosts are kept; the same command goes on from there", messages)
        self.assertNotIn("Traceback", messages)

    def test_nothing_is_taken_over_whose_evidence_changed(self) -> None:
        text = '[[hosts]]\nname = "pier"\ntree = "pier"\n[[hosts]]\nname = "slow"\ntree = "pier"\n'
        changes: dict[str, tuple[Callable[[], object], tuple[str, ...]]] = {
            "nothing": (lambda: None, ()),
            "a line": (lambda: self.write_nginx("server { listen 81; }"), ()),
            "a mode": (lambda: (self.root / "etc/ssl/site.key").chmod(0o644), ()),
            "a file more": (lambda: self.write({"srv/key.pem.bak": "x"}), ()),
            "the tree": (lambda: shutil.rmtree(self.root), ()),
            "the day": (lambda: None, ("--now", "2026-11-25")),
            "afresh": (lambda: None, ("--afresh",)),
        }
        for case, (change, more) in changes.items():
            with self.subTest(case):
                shutil.rmtree(self.state, ignore_errors=True)
                self.host("pier")
                self.interrupt(text, signal.SIGINT)
                change()
                pier = self.document(text, *more)["hosts"][0]
                self.assertEqual(pier.get("taken_over"), True if case == "nothing" else None)
                self.assertEqual(pier["score"]["value"] is None, case == "the tree")

    def test_an_account_without_a_home_is_no_error(self) -> None:
        self.host("pier")
        text = '[[hosts]]\nname = "pier"\ntree = "pier"\n'
        (self.folder / "hosts.toml").write_text(text)
        (self.folder / "file").write_text("")
        for case, state in (("no folder can be made", self.folder / "file/state"), ("not a path", Path("~/state"))):
            with self.subTest(case):
                done = rupex("fleet", self.folder / "hosts.toml", XDG_STATE_HOME=str(state), HOME="", cwd=self.folder)
                self.assertEqual(done.returncode, 0)
                self.assertIn("Ranking", done.stdout)
                self.assertEqual("could not be kept" in done.stderr, case == "no folder can be made")
                self.assertFalse((self.folder / "~").exists())

    def test_workers_end_with_their_parent(self) -> None:
        self.host("pier")
        text = '[[hosts]]\nname = "pier"\ntree = "pier"\n' + "".join(
            f'[[hosts]]\nname = "{name}"\ntree = "pier"\n' for name in ("slow", "quay")
        )
        for number in (signal.SIGTERM, signal.SIGKILL, signal.SIGHUP, signal.SIGINT):
            with self.subTest(number.name):
                shutil.rmtree(self.state, ignore_errors=True)
                with self.begin(text, "--jobs", "2") as running:
                    self.until_kept(2)
                    children = _children(running.pid)
                    self.assertTrue(children)
                    running.send_signal(number)
                    running.communicate(timeout=60)  # ends only when nothing holds the pipes
                self.assertEqual(running.returncode, 4 if number == signal.SIGINT else -number)
                until = time.monotonic() + 20
                while any(map(_runs, children)) and time.monotonic() < until:
                    time.sleep(0.05)
                self.assertEqual([child for child in children if _runs(child)], [])

    def test_a_host_whose_names_are_no_utf_8_is_judged_like_any_other(self) -> None:
        self.host("pier")
        folder = os.fsencode(self.root / "etc/nginx") + b"/sites-\xff"
        os.mkdir(folder)
        Path(os.fsdecode(folder + b"/caf\xe9.conf")).write_text("server { listen 80; server_name a.test; }")
        self.write_nginx(SITE.replace("NAME", "a.test") + "include sites-*/*;")
        text = '[[hosts]]\nname = "pier"\ntree = "pier"\n'
        for form in ("json", "html", "csv", "sarif", "junit", "markdown", "cyclonedx", "openmetrics", "text"):
            with self.subTest(form):
                done = self.fleet(text, "--format", form, "--history", str(self.folder / "history.sqlite"))
                self.assertEqual((done.returncode, "error of our own" in done.stderr), (0, False), done.stderr)
        self.assertIn(r"etc/nginx/sites-\xff/caf\xe9.conf", self.fleet(text, "--format", "csv").stdout)
        host = self.document(text)["hosts"][0]
        self.assertIsNotNone(host["score"]["value"])
        self.assertEqual(host["problems"], [])

    def test_a_key_that_two_owners_have_fails_for_both(self) -> None:
        self.host("pier")
        for copy in ("booking", "fares"):
            shutil.copytree(self.root, self.folder / copy)
        row = '[[hosts]]\nname = "{0}"\ntree = "{0}"\nowner = "{1}"\n'
        for case, owners, wanted in (
            ("two owners", ("web", "web", "quay"), "fail"),
            ("one owner", ("web", "web", "web"), "pass"),
        ):
            with self.subTest(case):
                text = "".join(row.format(*pair) for pair in zip(("pier", "booking", "fares"), owners, strict=True))
                hosts = self.document(text)["hosts"]
                found = [next(c for c in host["checks"] if c["control"] == "cert.key-shared") for host in hosts]
                self.assertEqual([check["verdict"] for check in found], [wanted] * 3)
                if wanted == "fail":
                    self.assertIn("fares (quay)", found[0]["places"][0]["message"])
                    self.assertGreater(found[0]["lost"], 0)

    def test_a_host_is_seen_from_both_sides_and_one_behind_an_edge_is_not_judged_for_it(self) -> None:
        tls = "listen LISTEN ssl; server_name www.ternholm.test; ssl_certificate CRED/rsa.pem; ssl_certificate_key CRED/rsa.key;"
        with peers.nginx(f"{tls} location / {{ return 200 ok; }}") as port:
            self.root = self.folder / "www"
            self.write_nginx(f"server {{ {tls} }}".replace("LISTEN", "443").replace("CRED", "/etc/ssl"))
            shutil.copytree(peers.credentials(), self.root / "etc/ssl", dirs_exist_ok=True)
            rest = f'names = ["www.ternholm.test:443"]\nconnect = ["127.0.0.1:{port}"]\n'
            text = f'[[hosts]]\nname = "both"\ntree = "www"\n{rest}[[hosts]]\nname = "edge"\nbehind = "cdn"\n{rest}'
            document = self.document(text, "--skip-paths", "--patience", "4")
        both, edge = ({c["control"]: c["verdict"] for c in host["checks"]} for host in document["hosts"])
        self.assertEqual({source["kind"] for source in document["hosts"][0]["sources"]}, {"config", "wire"})
        self.assertEqual((both["drift.certificate"], both["header.hsts"]), ("pass", "fail"))
        self.assertEqual(
            (edge["header.hsts"], edge["transport.tls.offered"], edge["header.csp"]), ("exempt", "exempt", "fail")
        )

    def test_a_mistake_in_an_inventory_is_told_with_its_place(self) -> None:
        for text, is_table, words in (
            ("", False, "no host in it"),
            ("[[hosts]]\nname = 'a'", False, "hosts[0]: neither names to look at nor a tree"),
            ("[[hosts]]\nname = 'a'\ntree = 'x'\n" * 2, False, "hosts[1].name: a is there already, at hosts[0]"),
            ("[[hosts]]\nname = 'a'\nnames = ['a.test:99999']", False, "hosts[0].names: a.test:99999"),
            ("[[hosts]]\nname = 'a'\ntree = 'x'\nweight = nan", False, "hosts[0].weight"),
            ("[[hosts]]\nname = 'a'\ntree = 'x'\nweight = -1", False, "hosts[0].weight"),
            ("[[hosts]]\nname = 'a'\ntree = 'x'\ncolour = 1", False, "allowed are name, names"),
            ("hosts = 3", False, "a list of tables"),
            ("x = 1", False, "x: unknown key"),
            ("name,colour\na,b\n", True, "line 1: unknown column 'colour'"),
            ("name,tree,weight\na,x,heavy\n", True, "line 2.weight: 'heavy' is no number"),
            ("name,tree\na,x,y\n", True, "line 2: more fields"),
            ("\xff", False, "not TOML"),
        ):
            with self.subTest(text), self.assertRaises(RupexError) as raised:
                parse_inventory("hosts", text.encode(), Path(), is_table=is_table)
            self.assertIn(words, str(raised.exception))


def _heed_interrupts() -> None:
    """In the child: a program that runs the tests in the background may have made them ignored."""
    for number in (signal.SIGINT, signal.SIGHUP):  # a shell in the background, and nohup, leave them ignored
        signal.signal(number, signal.SIG_DFL)


def _children(parent: int) -> list[int]:
    found = []
    for name in os.listdir("/proc"):
        if name.isdecimal():
            with suppress(OSError):
                fields = Path(f"/proc/{name}/stat").read_text().rpartition(")")[2].split()
                if int(fields[1]) == parent:
                    found.append(int(name))
    return found


def _runs(process: int) -> bool:
    """Whether a process is there, and not only its exit status."""
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False
