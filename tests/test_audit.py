"""``rupex audit`` as its users meet it: the built command on files in a temporary folder."""

from __future__ import annotations

import contextlib
import json
import operator
import os
import signal
import subprocess
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from rupex.audit.assess import assess_tree
from rupex.audit.collect import gather, host_of, load_host
from rupex.audit.halves import WORTH_SHARING
from rupex.baseline import load_baseline
from rupex.demo.scenario import build_scenario
from rupex.host import open_tree
from rupex.model import bounds
from rupex.reports.formats.json_format import DOCUMENTS, schema_of
from tests import support
from tests.support import RUPEX, TreeTest, rupex, schema, valid_document

PATTERNS = 40
NOW = "2026-11-24T09:30:00Z"
REDIRECT = "server { listen 80; server_name %s; server_tokens off; return 301 https://$host$request_uri; }"


class DemoHostTest(unittest.TestCase):
    """The booking host: each fault that was put there is found at its line."""

    folder: tempfile.TemporaryDirectory[str]
    host: Any
    tree: Path
    done: Any

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = tempfile.TemporaryDirectory(prefix="rupex-test-")
        cls.addClassCleanup(cls.folder.cleanup)
        cls.tree = build_scenario(Path(cls.folder.name) / "hosts")["booking"]
        cls.done = rupex("audit", cls.tree, "--now", NOW, "--format", "json")
        cls.host = valid_document(cls.done.stdout)["hosts"][0]

    def test_every_fault_is_found_where_it_was_put(self) -> None:
        found = {
            (check["control"], place["file"], place["line"])
            for check in self.host["checks"]
            for place in check["places"]
            if place["verdict"] == "fail"
        }
        site, fares, tls = (
            f"etc/nginx/{name}" for name in ("sites-enabled/booking", "sites-enabled/fares", "snippets/tls.conf")
        )
        expected = {
            ("redirect.permanent", site, 4),
            ("redirect.present", site, 13),
            ("transport.tls.listener", fares, 21),
            ("tls.protocol.floor", "etc/nginx/nginx.conf", 15),
            ("tls.protocol.newest", "etc/nginx/nginx.conf", 15),
            ("tls.suite.static-key", tls, 4),
            ("header.hsts", fares, 12),
            ("header.everywhere", site, 34),
            ("exposure.listing", site, 40),
            ("cert.names", tls, 2),
            ("cert.expiry", "etc/ssl/ternholm/booking.pem", None),
            ("cert.key-match", "etc/ssl/ternholm/agents.pem", None),
            ("key.mode", "etc/ssl/ternholm/booking.key", None),
            ("config.mode", fares, None),
            ("key.copies", "etc/ssl/ternholm/booking.key", None),
            ("secret.plaintext", "srv/crew-app/compose.yaml", None),
            ("surface.firewall", "etc/nftables.conf", 11),
        }
        self.assertLessEqual(expected, found)

    def test_the_ledger_adds_up_and_the_ceiling_is_named(self) -> None:
        score = self.host["score"]
        lost = sum(check["lost"] for check in self.host["checks"]) + score["ceiling"]["lost"]
        self.assertAlmostEqual(100 - score["value"], lost)
        self.assertEqual((score["value"], score["band"], score["ceiling"]["value"]), (29.0, "open", 29.0))
        self.assertEqual(self.done.returncode, 0)

    def test_gates_decide_the_exit_status_and_say_why(self) -> None:
        for case, options, status, words in (
            ("met", ["--require", "29"], 0, ""),
            ("a score", ["--require", "29.1"], 1, "booking scores 29.0, 29.1 is required"),
            ("a severity", ["--refuse", "critical"], 1, "booking has failures of severity critical or worse"),
            ("no number", ["--require", "high"], 2, "is no score"),
        ):
            with self.subTest(case):
                done = rupex("audit", self.tree, "--now", NOW, "--quiet", *options)
                self.assertEqual(done.returncode, status)
                self.assertIn(words, done.stderr)

    def test_text_says_what_where_why_change_and_gain_within_its_width(self) -> None:
        text = rupex("audit", self.tree, "--now", NOW).stdout
        first = text[text.index(" 1  ") : text.index(" 2  ")]
        words = ["where", "why", "change", "gain"]
        self.assertEqual(
            words, [line.split()[0] for line in first.splitlines() if line[4:8].strip() and line[:4] == "    "]
        )
        self.assertTrue(all(len(line) <= 100 for line in text.splitlines()))
        self.assertIn("held at 29 by", text)
        self.assertEqual(text.count("\x1b"), 0)

    def test_outputs_are_written_beside_what_is_shown(self) -> None:
        report = Path(self.folder.name, "report.json")
        done = rupex("audit", self.tree, "--now", NOW, "--quiet", "--output", report)
        self.assertEqual(len(done.stdout.splitlines()), 1)
        self.assertEqual(valid_document(report.read_text())["hosts"][0]["score"], self.host["score"])
        self.assertIn("cannot be written", rupex("audit", self.tree, "--output", "/nowhere/x.json").stderr)


class PlacesTest(TreeTest):
    def test_thirty_sites_with_one_snippet_are_one_finding_at_its_line(self) -> None:
        self.mint(["site.ternholm.test", "*.ternholm.test"])
        self.write_nginx("include sites/*;", tls__conf="ssl_protocols TLSv1 TLSv1.2;\n")
        site = (
            "server {{ listen 443 ssl; server_name {0}.ternholm.test; include tls.conf;\n"
            "ssl_certificate /etc/ssl/site.pem; ssl_certificate_key /etc/ssl/site.key; }}\n"
        )
        for number in range(30):
            self.write({f"etc/nginx/sites/{number:02}": site.format(f"pier{number}")})
        text = rupex("audit", self.root, "--now", NOW, "--assume", "openssl=1.1.1").stdout
        finding = text[text.index("tls.protocol.floor") :]
        finding = finding[: finding.index("gain")]
        self.assertIn("etc/nginx/tls.conf:1\n", finding)
        self.assertIn("governs 30 places, among them pier0.ternholm.test", finding)
        self.assertEqual(finding.count("where"), 1)

    def test_a_tree_is_found_from_its_root_a_folder_in_it_or_a_file(self) -> None:
        self.write_nginx(REDIRECT % "a.test")
        for path in (self.root, self.root / "etc/nginx", self.root / "etc/nginx/nginx.conf"):
            with self.subTest(path.name):
                done = rupex("audit", path, "--quiet", "--host", "pier")
                self.assertRegex(done.stdout, r"^pier  \d")
                self.assertEqual(done.returncode, 0)
        self.write({"site": REDIRECT % "a.test"})
        for more in ((), ("--as", "nginx")):
            self.assertEqual(rupex("audit", self.root / "site", "--quiet", *more).returncode, 0)

    def test_nothing_outside_the_tree_is_read(self) -> None:
        outside = self.root.parent / "outside.conf"
        outside.write_text(REDIRECT % "outside.test")
        self.write_nginx("include /outside.conf; include ../../../../outside.test; include linked.conf;")
        (self.root / "etc/nginx/linked.conf").symlink_to(outside)
        document = valid_document(rupex("effective", self.root, "--format", "json").stdout)
        self.assertEqual(document["endpoints"], [])
        self.assertEqual([problem["kind"] for problem in document["problems"]], ["missing"] * 3)

    def test_owners_and_modes_come_from_a_manifest_where_the_copy_lost_them(self) -> None:
        self.write_nginx(
            "server { listen 443 ssl; server_name a.test; ssl_certificate /etc/ssl/site.pem;"
            " ssl_certificate_key /etc/ssl/site.key; }"
        )
        self.mint(["a.test"])
        self.write({"etc/passwd": "www-data:x:33:33::/:\naino:x:1001:1001::/:\n", "etc/group": "staff:x:50:aino\n"})
        for case, line, verdict, words in (
            ("everybody", "uname=root gname=root mode=0644", "fail", "everybody on the machine can read it"),
            ("a group with members", "uname=root gname=staff mode=0640", "fail", "aino can read it"),
            ("a group without members", "uname=root gname=empty mode=0640", "pass", ""),
            ("root alone", "uname=root gname=root mode=0600", "pass", ""),
        ):
            with self.subTest(case):
                self.write({"manifest.mtree": f"#mtree\n./etc/ssl/site.key type=file {line}\n"})
                place = self.check("key.mode").places[-1]
                self.assertEqual(place.verdict, verdict)
                self.assertIn(words, place.message)


class BadInputTest(TreeTest):
    def test_what_cannot_be_read_is_a_problem_with_its_line_and_the_rest_is_audited(self) -> None:
        good = REDIRECT % "a.test"
        for case, http, files, kind, file, line in (
            ("a missing include", "include gone.conf;", {}, "missing", "nginx.conf", 3),
            ("a folder for a file", "include folder;", {"folder/x": ""}, "unreadable", "nginx.conf", 3),
            ("a syntax error", "include bad.conf;", {"bad.conf": "a;\n}\n"}, "syntax", "bad.conf", 2),
            ("a loop", "include loop.conf;", {"loop.conf": "#\ninclude loop.conf;"}, "loop", "loop.conf", 2),
            ("a listen nobody can read", "server { listen what:ever; }", {}, "syntax", "nginx.conf", 3),
        ):
            with self.subTest(case):
                self.write_nginx(f"{http}\n{good}")
                self.write({f"etc/nginx/{name}": text for name, text in files.items()})
                done = rupex("audit", self.root, "--format", "json")
                host = valid_document(done.stdout)["hosts"][0]
                problem = host["problems"][0]
                self.assertEqual((problem["kind"], problem["file"], problem["line"]), (kind, f"etc/nginx/{file}", line))
                self.assertEqual(done.returncode, 3)
                self.assertTrue(any(endpoint["names"] == ["a.test"] for endpoint in host["endpoints"]))

    def test_bytes_that_are_no_text_and_files_too_large(self) -> None:
        self.write_nginx("include odd.conf; include big.conf;\n" + REDIRECT % "a.test")
        (self.root / "etc/nginx/odd.conf").write_bytes(b'\n\nadd_header X "\xff";')
        with (self.root / "etc/nginx/big.conf").open("w") as file:
            file.truncate(1 << 30)
        problems = [(p.kind, p.file, p.line) for p in self.assess().problems]
        nginx = "etc/nginx/nginx.conf"
        self.assertEqual(problems, [("encoding", "etc/nginx/odd.conf", 3), ("bound", nginx, 3)])

    def test_hostile_sizes_and_patterns_end_in_a_result(self) -> None:
        names = " ".join(f"n{number}.a.test" for number in range(100_000))
        explodes = 'location ~ "^/(p+)+(-+)+$" { return 404; } if ($http_x ~ "(x+x+)+y") { return 403; }'
        redirect = "return 301 https://$host$request_uri;"
        for case, http, kind, scopes in (
            ("a hundred thousand names", f"server {{ listen 80; server_name {names}; {redirect} }}", None, 1),
            ("a line of many megabytes", "server { add_header X '" + "x" * (17 << 20) + "'; }", "bound", 0),
            ("a pattern made to explode", f"server {{ {explodes} }}", None, 2),
            ("a pattern that only PCRE reads", r"server { location ~ ^/p(?i)ier\Q.\E { return 404; } }", None, 2),
        ):  # fmt: skip
            with self.subTest(case):
                self.write_nginx(http)
                evidence = self.gather()
                self.assertEqual([p.kind for p in evidence.host.problems], [kind] if kind else [])
                self.assertEqual(sum(len(endpoint.scopes) for endpoint in evidence.host.endpoints), scopes)

    def test_files_and_blocks_that_go_deep_into_each_other_end_in_a_problem(self) -> None:
        for folder, main, opens, closes, include, site in (
            ("etc/nginx", "nginx.conf", "location / {\n", "}\n", "include {};\n", "server { listen 80; }\n"),
            ("etc/apache2", "apache2.conf", "<IfModule !x>\n", "</IfModule>\n", "Include {}\n", "Listen 80\n"),
        ):
            with self.subTest(folder), tempfile.TemporaryDirectory() as scratch:
                root = Path(scratch, folder)
                root.mkdir(parents=True)
                for number in range(23):
                    inner = include.format(f"f{number + 1}") if number < 22 else site
                    (root / f"f{number}").write_text(opens * 60 + inner + closes * 60)
                (root / main).write_text("events {}\n" * (main[0] == "n") + include.format("f0"))
                host = gather(open_tree(Path(scratch)).tree, "", name="host").host
                self.assertEqual({problem.kind for problem in host.problems} - {"missing"}, {"bound"})
                self.assertIn("too deep", host.problems[0].message)

    def test_what_an_unprivileged_auditor_may_not_read_is_a_problem(self) -> None:
        self.write_nginx("include secret.conf;\n" + REDIRECT % "a.test", secret__conf="")
        (self.root / "etc/nginx/secret.conf").chmod(0o600)
        self.root.parent.chmod(0o755)
        self.gather()  # what is imported lazily must be there before the rights are given up
        os.seteuid(65534)
        try:
            problems = self.gather().host.problems
        finally:
            os.seteuid(0)
        self.assertEqual([(p.kind, p.line) for p in problems], [("unreadable", 3)])

    def test_a_file_of_no_known_kind_and_a_folder_without_a_server(self) -> None:
        self.write({"notes.txt": "nothing to see", "empty/etc/hostname": "pier"})
        for path, kind in (("notes.txt", "syntax"), ("empty", "missing")):
            done = rupex("audit", self.root / path, "--format", "json")
            host = valid_document(done.stdout)["hosts"][0]
            self.assertEqual((done.returncode, host["problems"][0]["kind"]), (3, kind))
            self.assertEqual((host["score"]["value"], host["score"]["high"]), (None, 100.0))
        self.assertEqual(rupex("audit", self.root / "gone").returncode, 2)

    def test_hostile_names_reach_neither_terminal_nor_json_as_controls(self) -> None:
        self.write_nginx('server { listen 80; server_name "\x1b[31mred\u202e"; }')
        for options in ((), ("--format", "json")):
            said = rupex("audit", self.root, *options).stdout
            self.assertNotIn("\x1b", said)
        self.assertIn("<1B>[31mred<202E>", rupex("audit", self.root).stdout)


class LargeHostTest(TreeTest):
    def test_two_cores_find_what_one_finds(self) -> None:
        self.mint(["a.test"])
        self.write_nginx("include sites/*; include gone.conf;")
        site = (
            "server {{ listen 80; server_name s{0}.test; root /srv; }}\n"
            "server {{ listen 443 ssl; server_name s{0}.test; ssl_certificate /etc/ssl/site.pem;\n"
            "ssl_certificate_key /etc/ssl/site.key; location /a/ {{ add_header X-A b; }} }}\n"
        )
        for number in range(WORTH_SHARING):
            self.write({f"etc/nginx/sites/{number:04}": site.format(number)})
        baseline, located = load_baseline("public-web"), open_tree(self.root)
        alone = self.assess()
        shared = assess_tree(located.tree, "", baseline, support.NOW, name="host", keep_all=True)
        self.assertEqual(len(alone.endpoints), 2 * WORTH_SHARING)
        for part in ("score", "endpoints", "problems", "steps"):
            self.assertEqual(getattr(shared, part), getattr(alone, part), part)
        order = operator.attrgetter("endpoint", "scope", "name", "file", "line")
        for ours, theirs in zip(shared.checks, alone.checks, strict=True):
            self.assertEqual((ours.control, ours.counts, ours.lost), (theirs.control, theirs.counts, theirs.lost))
            self.assertEqual(sorted(map(str, map(order, ours.places))), sorted(map(str, map(order, theirs.places))))

    def test_where_the_work_is_too_much_two_cores_stop_where_one_stops(self) -> None:
        self.write_nginx("include sites/*;")
        site = "server {{ listen 80; server_name s{0}.test; location /a/ {{ add_header X-A b; }} }}\n"
        self.write({f"etc/nginx/sites/{number:04}": site.format(number) for number in range(WORTH_SHARING)})
        baseline, located = load_baseline("public-web"), open_tree(self.root)
        scene = load_host(located.tree, "", name="host")
        host_of(scene)
        needed = scene.budget.spent
        for part in (0.3, 0.6, 0.9):
            with (
                self.subTest(part=part),
                mock.patch.object(bounds, "HOST_STEPS", int(needed * part)),
                mock.patch.object(bounds, "STEPS_A_CHARACTER", 0),
            ):
                alone = self.assess()
                shared = assess_tree(located.tree, "", baseline, support.NOW, name="host", keep_all=True)
                self.assertEqual([problem.kind for problem in alone.problems], ["bound"])
                for seen in ("score", "endpoints", "problems", "steps"):
                    self.assertEqual(getattr(shared, seen), getattr(alone, seen), seen)

    def test_an_interrupt_at_any_moment_leaves_nothing(self) -> None:
        self.write_nginx("include sites/*;")
        site = "server {{ listen 80; server_name s{0}.test; root /srv/{0}; location /{0} {{ add_header X-A {0}; }} }}\n"
        self.write({f"etc/nginx/sites/{number:04}": site.format(number) for number in range(3 * WORTH_SHARING)})
        output = self.root.parent / "run.json"
        interrupted = 0
        for delay in (0.0, 0.1, 0.2, 0.4, 0.6, 0.9):
            command = [RUPEX, "audit", str(self.root), "--quiet", "--output", str(output)]
            running = subprocess.Popen(
                command, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, start_new_session=True,
                preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # a shell's background leaves it ignored
            )  # fmt: skip
            maps = Path(f"/proc/{running.pid}/maps")
            while running.poll() is None and "msgspec" not in maps.read_text():  # until then Python itself is starting
                time.sleep(0.001)
            time.sleep(delay)
            with contextlib.suppress(ProcessLookupError):
                os.killpg(running.pid, signal.SIGINT)
            _, said = running.communicate(timeout=60)
            with self.subTest(delay=delay, status=running.returncode):
                self.assertNotIn(b"Traceback", said)
                self.assertIn(running.returncode, (0, 4))
                self.assertRaises(ProcessLookupError, os.killpg, running.pid, 0)
                self.assertEqual([path.name for path in self.root.parent.iterdir() if path.name.startswith(".")], [])
                if running.returncode == 4:
                    interrupted += 1
                    self.assertFalse(output.exists())
                output.unlink(missing_ok=True)
        self.assertTrue(interrupted)


class UnseenTest(TreeTest):
    def test_an_unread_include_is_one_unknown_place_of_every_endpoint_and_scope_control(self) -> None:
        self.write_nginx("include gone.conf;\n" + REDIRECT % "a.test")
        document = self.assess()
        check = next(check for check in document.checks if check.control == "tls.protocol.floor")
        self.assertEqual((check.verdict, check.places[-1].unseen), ("unknown", "etc/nginx/nginx.conf"))
        self.assertLess(document.score.coverage, 0.6)
        self.assertEqual(rupex("audit", self.root, "--require", "10", "--quiet").returncode, 1)


class SchemasTest(unittest.TestCase):
    def test_the_shipped_schemas_are_those_of_the_types(self) -> None:
        for name in DOCUMENTS:
            self.assertEqual(json.loads(schema_of(name)), schema(name), f"run tools/schemas.py: {name}")


if __name__ == "__main__":
    unittest.main()
