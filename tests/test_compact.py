"""Run documents that write nothing twice: read back they are the run that was written."""

from __future__ import annotations

import json
import re
import unittest
from pathlib import Path
from typing import Any, ClassVar
from unittest.mock import patch

from msgspec import structs

from rupex.audit.assess import assess, assess_tree
from rupex.audit.collect import gather, load_host
from rupex.audit.halves import Assessment, judge_in_halves
from rupex.audit.traces import with_file_digests
from rupex.baseline import load_baseline
from rupex.cli.runs import run_of
from rupex.documents.compact import Packer, Reference, encode_run
from rupex.documents.encoding import encode_json
from rupex.documents.run import HostDocument, Run
from rupex.host import open_tree
from rupex.model import Header, Provenance
from rupex.reports.formats.json_format import render_json
from rupex.reports.read import decode_run
from tests.support import NOW, TreeTest, rupex, valid_document

FORMATS = Path(__file__).parent.parent / "docs/formats.md"
SITES = 40
BOTH_FORMS = (("for people: single uses in their places", 1 << 20), ("large", 0))

SITE = """server {{
    listen 443 ssl;
    server_name {0};
    ssl_certificate /etc/ssl/site.pem;
    ssl_certificate_key /etc/ssl/site.key;
    root /srv/{0};
    add_header X-A "é\u2028{0}";
    location /a/ {{ add_header X-B b; }}
    location = /b {{ return 302 /c; }}
}}
server {{
    listen 80;
    server_name {0};
    return 301 https://$host$request_uri;
}}
"""


class CompactTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.mint(["a.test"])
        self.write_nginx("ssl_protocols TLSv1 TLSv1.2; include sites/*;")
        for number in range(SITES):
            name = f"s{number}.test" if number % 3 else f"other{number}.test"
            extra = "" if number % 3 else f"server {{ listen 8{number:03}; }}\n"
            self.write({f"etc/nginx/sites/{number:03}": SITE.format(name) + extra})

    def run_with(self, *hosts: HostDocument) -> Run:
        run: Run = run_of(list(hosts), load_baseline("public-web"), NOW, 0.5)
        return run

    def whole(self) -> HostDocument:
        tree = open_tree(self.root).tree
        return with_file_digests(assess(gather(tree, "", name="host").host, load_baseline("public-web"), NOW), tree)

    def test_what_is_read_is_what_was_written(self) -> None:
        run = self.run_with(self.whole(), structs.replace(self.whole(), name="other"))
        for about, limit in BOTH_FORMS:
            with self.subTest(about), patch("rupex.documents.compact.READ_BY_PEOPLE", limit):
                self.assertEqual(decode_run(encode_run(run), "run"), run)

    def test_names_that_are_no_unicode_are_written_in_both_forms(self) -> None:
        host = self.whole()
        check = next(check for check in host.checks if check.places)
        name = "etc/nginx/sites/\udcff"
        odd = structs.replace(check.places[0], file=name, provenance=Provenance("explicit", name, 1, 1), message=name)
        checks = [structs.replace(one, places=(odd, *one.places)) if one is check else one for one in host.checks]
        run = self.run_with(structs.replace(host, checks=tuple(checks)))
        for about, limit in BOTH_FORMS:
            with self.subTest(about), patch("rupex.documents.compact.READ_BY_PEOPLE", limit):
                content = b"".join(render_json(run))
            found = decode_run(content, "run").hosts[0]
            places = next(one for one in found.checks if one.control == check.control).places
            self.assertIn("etc/nginx/sites/\\xff", {place.file for place in places})
            self.assertEqual(found.score, host.score)

    def test_a_small_document_refers_to_no_texts(self) -> None:
        content = encode_run(self.run_with(self.whole()))
        self.assertFalse([entry for entry in json.loads(content)["hosts"][0]["repeated"] if isinstance(entry, str)])
        with patch("rupex.documents.compact.READ_BY_PEOPLE", 0):
            large = encode_run(self.run_with(self.whole()))
        repeated = json.loads(large)["hosts"][0]["repeated"]
        self.assertIn("etc/nginx/sites/001", repeated)
        groups = [entry for entry in repeated if isinstance(entry, dict) and "endpoint" in entry]
        self.assertTrue(groups, "places that several checks share")

    def test_packed_halves_and_templates_are_the_same_host(self) -> None:
        alone = self.whole()
        tree = open_tree(self.root).tree
        task = Assessment(load_baseline("public-web"), NOW, keep_all=False, waivers=None, written="packed")
        halves = judge_in_halves(load_host(tree, "", name="host"), task)
        assert halves is not None
        one = assess_tree(tree, "", load_baseline("public-web"), NOW, name="host", written="packed")
        for host in (with_file_digests(halves, tree), one):
            self.assertTrue(host.sites)
            self.assertTrue(host.packed)
            got = decode_run(encode_run(self.run_with(host)), "run").hosts[0]
            self.assertEqual((got.score, got.endpoints), (alone.score, alone.endpoints))
            for ours, theirs in zip(got.checks, alone.checks, strict=True):
                self.assertEqual(sorted(map(str, ours.places)), sorted(map(str, theirs.places)))
                self.assertEqual(ours.counts, theirs.counts)
            self.assertEqual({trace.file for trace in got.traces}, {trace.file for trace in alone.traces})

    def test_the_command_writes_a_valid_document_that_the_first_version_reader_equals(self) -> None:
        text = rupex("audit", self.root, "--format", "json").stdout
        old = valid_document(text)
        self.assertEqual(old["schema"], "rupex.run/1")
        file = self.root.parent / "old.json"
        file.write_text(json.dumps(old))
        new = self.root.parent / "new.json"
        new.write_text(text)
        self.assertEqual(rupex("report", file).stdout, rupex("report", new).stdout)
        self.assertEqual(rupex("report", new).stdout, rupex("audit", self.root).stdout)
        self.assertLess(len(json.dumps(json.loads(text))), len(json.dumps(old)) / 4)

    def test_the_ten_lines_of_the_manual_read_it(self) -> None:
        program = re.findall(r"```python\n(.*?)```", FORMATS.read_text(), re.DOTALL)[0]
        host = structs.replace(self.whole(), name="host")
        file = self.root.parent / "run.json"
        old = json.loads(encode_json(host))
        for about, limit in BOTH_FORMS:
            with self.subTest(about), patch("rupex.documents.compact.READ_BY_PEOPLE", limit):
                file.write_bytes(encode_run(self.run_with(host)))
            names: dict[str, Any] = {}
            exec(program.replace('"run.json"', repr(str(file))), names)
            with self.subTest(about):
                self.compare(names["hosts"][0], old)

    def compare(self, told: dict[str, Any], old: dict[str, Any]) -> None:
        self.assertEqual([one["id"] for one in told["endpoints"]], [one["id"] for one in old["endpoints"]])
        for ours, theirs in zip(told["checks"], old["checks"], strict=True):
            places = ours.get("places", [])
            self.assertEqual(len(places), len(theirs["places"]))
            for place, other in zip(places, theirs["places"], strict=True):
                own = {key: item for key, item in place.items() if key != "provenance"}
                self.assertEqual(own, {key: other[key] for key in own})
                self.assertIn("verdict", place)
        self.assertEqual(told["score"], old["score"])

    def test_what_always_stands_there(self) -> None:
        content = json.loads(encode_run(self.run_with(self.whole())))
        self.assertEqual(content["schema"], "rupex.run/2")
        self.assertIs(content["complete"], True)
        for check in content["hosts"][0]["checks"]:
            self.assertIn("verdict", check)
            self.assertNotIn("case", [key for place in check.get("places", []) for key in place if place[key] is None])

    def test_equal_values_are_written_once(self) -> None:
        packer = Packer()
        one, other = (Header("X", "v", "all", Provenance("explicit", "f", 1, 1)) for _ in range(2))
        self.assertEqual(packer.pack((one, other)), [Reference(2), Reference(2)])
        file, place, _ = packer.repeated
        self.assertEqual(json.loads(file), "f")
        self.assertEqual(json.loads(place)["file"], {"see": 0})


class HostileTest(unittest.TestCase):
    base: ClassVar[dict[str, Any]] = {
        "schema": "rupex.run/2", "tool": {"name": "rupex", "version": "1"}, "started": "2026-11-24T09:30:00Z", "seconds": 0,
        "complete": True, "baseline": {"name": "a", "version": "1", "digest": "d", "minimum_coverage": 0.5},
    }  # fmt: skip

    def test_references_that_lead_nowhere_or_round_are_refused(self) -> None:
        doubling = [[{"see": number + 1}, {"see": number + 1}] for number in range(40)] + ["x"]
        for about, name, repeated in (
            ("nothing there", {"see": 7}, ["a"]),
            ("below the first", {"see": -1}, ["a"]),
            ("no number", {"see": "0"}, ["a"]),
            ("no number, true", {"see": True}, ["a", "b"]),
            ("itself", {"see": 0}, [{"see": 0}]),
            ("round", {"see": 0}, [{"see": 1}, [{"see": 0}]]),
            ("twice the last", {"see": 0}, doubling),
            ("deep", {"see": 0}, [[{"see": number + 1}] for number in range(5000)] + ["x"]),
            ("no list", {"see": 0}, {"0": "a"}),
        ):
            document = self.base | {"hosts": [{"name": name, "repeated": repeated}]}
            with self.subTest(about), self.assertRaisesRegex(Exception, "no sound run document"):
                decode_run(json.dumps(document).encode(), "run")

    def test_what_grows_by_doubling_is_refused_wherever_it_stands(self) -> None:
        check = {
            "control": "a.b", "verdict": "pass", "severity": "low", "weight": 1, "attained": 1, "lost": 0, "gain": 0, "title": "",
            "why": "", "remedy": "", "references": [], "cwe": [], "parameters": {"a": {"see": 0}},
            "counts": {"pass": 1, "fail": 0, "unknown": 0, "exempt": 0, "waived": 0},
        }  # fmt: skip
        score = dict.fromkeys(("value", "uncapped", "unwaived", "band", "ceiling", "low_ceiling")) | {
            "low": 0,
            "high": 1,
            "coverage": 0,
        }
        for deep, refused in ((5, False), (40, True)):
            repeated = [[{"see": number + 1}, {"see": number + 1}] for number in range(deep)] + ["x"]
            host = {
                "name": "a",
                "sources": [],
                "score": score,
                "endpoints": [],
                "checks": [check],
                "steps": [],
                "problems": [],
            }
            content = json.dumps(self.base | {"hosts": [host | {"repeated": repeated}]}).encode()
            with self.subTest(deep):
                if refused:
                    with self.assertRaisesRegex(Exception, "values"):
                        decode_run(content, "run")
                else:
                    self.assertEqual(decode_run(content, "run").hosts[0].checks[0].control, "a.b")

    def test_sites_whose_words_are_odd_are_left_out_or_read(self) -> None:
        host = self.base | {
            "hosts": [{"name": "a", "sites": [{"id": "x", "template": "y", "words": [], "at": 10**18}]}]
        }
        with self.assertRaisesRegex(Exception, "no sound run document"):
            decode_run(json.dumps(host).encode(), "run")


if __name__ == "__main__":
    unittest.main()
