"""Two runs side by side: real audits and probes of before and after, and why nothing changed where it did not."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from tests import peers
from tests.support import TreeTest, rupex, valid_document, written_out_document

CERTIFIED = "ssl_certificate /etc/ssl/site.pem; ssl_certificate_key /etc/ssl/site.key;"
ONE = f"server {{ listen 443 ssl; server_name www.ternholm.test; {CERTIFIED} ssl_protocols TLSv1 TLSv1.2; root /srv/www; }}"
TWO = f"server {{ listen 443 ssl; server_name pier.ternholm.test; {CERTIFIED} root /srv/www; }}"
NAME = "www.ternholm.test"


class CompareTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.mint([NAME, "pier.ternholm.test"], mode=0o644)

    def kept(self, name: str, *arguments: str | Path) -> Path:
        path = self.root.parent / name
        done = rupex(*arguments, "--format", "json")
        valid_document(done.stdout)
        path.write_text(done.stdout)
        return path

    def audit(self, name: str, http: str) -> Path:
        self.write_nginx(http)
        return self.kept(name, "audit", self.root, "--now", "2026-11-24", "--assume", "nginx=1.22.1")

    def probe(self, name: str, port: int, there: int) -> Path:
        return self.kept(name, "probe", f"{NAME}:{port}", "--connect", f"127.0.0.1:{there}", "--skip-paths")

    def compare(self, old: Path, new: Path) -> dict[str, Any]:
        done = rupex("compare", old, new, "--format", "json")
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        host: dict[str, Any] = valid_document(done.stdout)["hosts"][0]
        return host

    def changes(self, host: dict[str, Any], control: str) -> list[tuple[str, str | None, str | None]]:
        return [(c["change"], c["old"], c["new"]) for c in host["changes"] if c["control"] == control]

    def test_each_place_is_better_worse_new_or_gone(self) -> None:
        before = self.audit("old.json", ONE)
        (self.root / "etc/ssl/site.key").chmod(0o600)
        better = ONE.replace("TLSv1 TLSv1.2", "TLSv1.2 TLSv1.3").replace("root", "ssl_ciphers AES128-SHA; root")
        after = self.audit("new.json", f"{better} {TWO}")
        host = self.compare(before, after)
        self.assertEqual(self.changes(host, "key.mode"), [("better", "fail", "pass")])
        self.assertEqual(self.changes(host, "tls.protocol.floor"), [("better", "fail", "pass")])
        self.assertIn(("new", None, "fail"), self.changes(host, "header.csp"))
        self.assertGreater(host["score"]["new"], host["score"]["old"])
        back = self.compare(after, before)
        self.assertEqual(self.changes(back, "key.mode"), [("worse", "pass", "fail")])
        self.assertIn(("gone", "fail", None), self.changes(back, "header.csp"))

    def test_a_run_compared_with_itself_has_no_change_and_gains_nothing(self) -> None:
        run = self.audit("run.json", f"{ONE} {TWO}")
        host = self.compare(run, run)
        self.assertEqual((host["changes"], host["parts"]), ([], []))
        failing = {
            c["control"]
            for c in written_out_document(run.read_text())["hosts"][0]["checks"]
            if any(p["verdict"] == "fail" and "folded" not in p for p in c["places"])
        }
        self.assertEqual({row["control"] for row in host["unchanged_because"]}, failing)

    def test_the_parts_add_up_to_the_change_of_the_score(self) -> None:
        before = self.audit("old.json", ONE)
        after = self.audit("new.json", ONE.replace("root", "add_header X-Content-Type-Options nosniff; root"))
        uncapped = [written_out_document(run.read_text())["hosts"][0]["score"]["uncapped"] for run in (before, after)]
        parts = self.compare(before, after)["parts"]
        self.assertAlmostEqual(sum(part["old"] - part["new"] for part in parts), uncapped[1] - uncapped[0], places=2)

    def test_why_nothing_changed_on_disk(self) -> None:
        before = self.audit("old.json", ONE)
        again = self.audit("again.json", ONE)
        changed = self.audit("changed.json", f"# looked at\n{ONE}")
        for case, run, control, reason in (
            ("nobody wrote", again, "tls.protocol.floor", "the file is the same in both runs"),
            (
                "somebody wrote something else",
                changed,
                "tls.protocol.floor",
                "the file changed, but not what decides this",
            ),
            ("a mode", again, "key.mode", "the file is as it was"),
            ("a default", again, "exposure.version", "it is decided by a default, and no line sets it"),
        ):
            with self.subTest(case):
                rows = {row["control"]: row for row in self.compare(before, run)["unchanged_because"]}
                self.assertEqual(rows[control]["reason"], reason)
        self.assertIn("sha256", {r["control"]: r for r in self.compare(before, again)["unchanged_because"]}[
            "tls.protocol.floor"]["evidence"])  # fmt: skip

    def test_why_nothing_changed_on_the_wire(self) -> None:
        site = f"listen LISTEN ssl; server_name {NAME}; ssl_certificate CRED/rsa.pem; ssl_certificate_key CRED/rsa.key;"
        site += " location / { return 200 ok; }"
        with peers.nginx(site) as port:
            before = self.probe("old.json", 443, port)
            again = self.probe("again.json", 443, port)
        with peers.nginx(f"{site} add_header Age 5120;") as port:
            cached = self.probe("cached.json", 443, port)
        with peers.nginx(site.replace("rsa.", "ecdsa.")) as port:
            other = self.probe("other.json", 443, port)
        for run, reason, evidence in (
            (again, "the listener answers as before: was it reloaded?", "Server: nginx"),
            (cached, "a cache answered", "5120"),
            (other, "another server answered, or the same one otherwise", "certificate"),
        ):
            rows = {row["control"]: row for row in self.compare(before, run)["unchanged_because"]}
            self.assertEqual(rows["header.csp"]["reason"], reason)
            self.assertIn(evidence, rows["header.csp"]["evidence"])

    def test_a_hostile_document_cannot_speak_to_the_terminal(self) -> None:
        run = self.audit("run.json", ONE)
        hostile = written_out_document(run.read_text())
        hostile["hosts"][0]["name"] = hostile["baseline"]["name"] = "\x1b[31mred\u202e"
        for check in hostile["hosts"][0]["checks"]:
            check["control"] = f"\x1b]0;{check['control']}\x07"
        other = self.root.parent / "hostile.json"
        other.write_text(json.dumps(hostile))
        history = self.root.parent / "history.sqlite"
        for words in (
            ("compare", run, other, "--refuse", "low"), ("compare", other, run, "--refuse", "low"),
            ("baseline", "check", "strict", "--against", other), ("report", other), ("report", other, "--format", "markdown"),
            ("report", other, "--format", "openmetrics"), ("history", "list", "--history", history),
        ):  # fmt: skip
            done = rupex(*words)
            self.assertNotRegex(done.stdout + done.stderr, "[\x1b\x07\u202e]", words)
            self.assertNotIn("error of our own", done.stderr)

    def test_the_text_and_the_gate(self) -> None:
        before = self.audit("old.json", ONE.replace("TLSv1 ", ""))
        after = self.audit("new.json", ONE)
        done = rupex("compare", before, after, "--refuse", "high")
        self.assertEqual(done.returncode, 1)
        self.assertIn("tls.protocol.floor", done.stderr)
        for words in ("Worse (", "pass → fail", "Still failing, and why nothing changed", "Where the points went"):
            self.assertIn(words, done.stdout)
        self.assertLessEqual(max(map(len, done.stdout.splitlines())), 100)
        self.assertEqual(rupex("compare", after, before, "--refuse", "high").returncode, 0)
        self.assertEqual(rupex("compare", before, self.root / "nothing.json").returncode, 2)
