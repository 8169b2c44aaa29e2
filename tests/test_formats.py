"""Every form of one run: read back by a real consumer or held against its published schema, in agreement with the others,
and inert whatever a configuration holds."""

from __future__ import annotations

import csv
import io
import json
import re
from collections import Counter
from pathlib import Path
from typing import Any

import junitparser
from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator
from lxml import html
from markdown_it import MarkdownIt
from prometheus_client.openmetrics.parser import text_string_to_metric_families
from sarif_pydantic import Sarif  # type: ignore[import-untyped]

from rupex.reports.formats.formats import NAMES
from tests.support import TreeTest, rupex, written_out_document

CERTIFIED = "ssl_certificate /etc/ssl/site.pem; ssl_certificate_key /etc/ssl/site.key;"
SITE = f"""server {{ listen 443 ssl; server_name www.ternholm.test; {CERTIFIED} ssl_protocols TLSv1 TLSv1.2;
  location /map/ {{ add_header X-Frame-Options DENY; }} }}
"""
HOSTILE = f"""server {{ listen 443 ssl; server_name "=1+1" "<script>alert(1)</script>" "[x](https://evil.test)"; {CERTIFIED}
  add_header X-Powered-By "<img src=x onerror=alert(2)> \x1b[31mred \u202egnirts | @here `x` $\\\\frac";
  set $api_token "sea-gull-secret-1"; server_tokens on; # </pre><script>alert(3)</script>
  location "/<b>/" {{ add_header X-Frame-Options DENY; }} }}
include "/etc/nginx/<img src=x onerror=alert(4)>-@sum.conf";
"""
TURNING = re.compile("[\x00-\x08\x0b-\x1f\x7f\u202a-\u202e\u2066-\u2069]")


def families(text: str) -> list[Any]:
    return list(text_string_to_metric_families(text))  # type: ignore[no-untyped-call]


class FormatTest(TreeTest):
    def reports(self, http: str, *more: str) -> dict[str, str]:
        """The run of an audit in every form."""
        self.mint(["www.ternholm.test"], mode=0o644)
        self.write_nginx(http)
        self.folder = self.root.parent / "out"
        self.folder.mkdir(exist_ok=True)
        outputs = [argument for name in NAMES for argument in ("--output", f"{name}:{self.folder / name}")]
        done = rupex("audit", self.root, "--now", "2026-11-24", "--quiet", *outputs, *more)
        self.assertNotIn("error of our own", done.stderr)
        return {name: (self.folder / name).read_text("utf-8") for name in NAMES}

    def test_each_form_is_read_by_what_reads_it(self) -> None:
        found = self.reports(SITE)
        self.assertIsNone(JsonStrictValidator(SchemaVersion.V1_6).validate_str(found["cyclonedx"]))
        log = Sarif.model_validate_json(found["sarif"])
        self.assertEqual(log.version, "2.1.0")
        suites = junitparser.JUnitXml.fromstring(found["junit"].encode())
        self.assertGreater(suites.tests, 50)
        self.assertGreater(len(families(found["openmetrics"])), 6)
        self.assertGreater(len(list(csv.DictReader(io.StringIO(found["csv"], newline="")))), 50)
        self.assertIn("<table>", MarkdownIt("commonmark").enable("table").render(found["markdown"]))
        self.assertEqual(html.fromstring(found["html"]).findtext(".//h1"), "Hardening of host")

    def test_all_forms_agree_on_score_and_counts(self) -> None:
        found = self.reports(SITE)
        host = written_out_document(found["json"])["hosts"][0]
        score = round(host["score"]["value"], 1)
        failing = {c["control"]: c["counts"]["fail"] for c in host["checks"] if c["counts"]["fail"]}
        self.assertGreater(len(failing), 10)
        rows = list(csv.DictReader(io.StringIO(found["csv"], newline="")))
        self.assertEqual({r["control"]: int(r["control_fail"]) for r in rows if int(r["control_fail"])}, failing)
        self.assertEqual(Counter(r["control"] for r in rows if r["verdict"] == "fail"), failing)
        self.assertEqual({float(row["score"]) for row in rows}, {score})
        results = json.loads(found["sarif"])["runs"][0]["results"]
        self.assertEqual(Counter(r["ruleId"] for r in results if r["kind"] == "fail"), failing)
        suite = next(iter(junitparser.JUnitXml.fromstring(found["junit"].encode())))
        cases = {case.name: [type(one).__name__ for one in case.result] for case in suite}
        self.assertEqual({name for name, result in cases.items() if result == ["Failure"]}, set(failing))
        told_by_junit: Any = suite
        self.assertEqual(float(next(p.value for p in told_by_junit.properties() if p.name == "score")), score)
        samples = [s for f in families(found["openmetrics"]) for s in f.samples]
        told = {
            s.labels["control"]: s.value for s in samples if s.name == "rupex_places" and s.labels["verdict"] == "fail"
        }
        self.assertEqual(told, failing)
        self.assertEqual([round(s.value, 1) for s in samples if s.name == "rupex_score"], [score])
        self.assertIn(f"| host | {score:.1f} ", found["markdown"])
        self.assertIn(f"| {sum(failing.values())} |", found["markdown"])
        self.assertIn(f">{score:.1f}</span>", found["html"])
        self.assertTrue(found["text"].startswith(f"host  {score:.1f} "))

    def test_whatever_a_configuration_holds_comes_out_inert(self) -> None:
        found = self.reports(HOSTILE)
        for name, text in found.items():
            with self.subTest(name):
                self.assertIsNone(TURNING.search(text), "control characters, or marks that turn the reading direction")
                self.assertNotIn("sea-gull", text)
        page = html.fromstring(found["html"])
        self.assertEqual(len(page.xpath("//script")), 1)
        self.assertEqual(page.xpath("//img | //b | //iframe | //@onerror | //@style | //link | //*[@src]"), [])
        self.assertIn("alert(2)", page.text_content())
        shown = MarkdownIt("gfm-like", {"linkify": False}).render(found["markdown"])
        self.assertEqual(html.fromstring(f"<div>{shown}</div>").xpath("//script | //img | //a | //b"), [])
        cells = [cell for row in csv.reader(io.StringIO(found["csv"], newline="")) for cell in row]
        self.assertEqual(
            [cell for cell in cells if cell.startswith(("=", "+", "@", "\t")) or re.match(r"-\D", cell)], []
        )
        self.assertTrue(any("=1+1" in cell for cell in cells))
        junitparser.JUnitXml.fromstring(found["junit"].encode())
        families(found["openmetrics"])
        json.loads(found["sarif"])

    def test_the_lines_around_a_finding_are_shown_as_they_stand(self) -> None:
        found = self.reports("server {\n\tlisten 80; server_name a.test;\n\troot /srv; # token=sea-gull-secret\n}")
        excerpts = written_out_document(found["json"])["hosts"][0]["excerpts"]
        self.assertIn("    root /srv; #", [line for one in excerpts for line in one["lines"]])
        page = html.fromstring(found["html"])
        self.assertIn("    listen 80; server_name a.test;", list(page.xpath("//pre//span/text()")))

    def test_fingerprints_stay_when_lines_move(self) -> None:
        def prints(text: str) -> list[tuple[str, str]]:
            results = json.loads(text)["runs"][0]["results"]
            return [(r["partialFingerprints"]["rupexPlace/1"], r["ruleId"]) for r in results]

        before = self.reports(SITE)["sarif"]
        after = self.reports(f"# one\n# two\n\n{SITE}")["sarif"]
        self.assertEqual(prints(before), prints(after))
        self.assertEqual(len(set(prints(before))), len(prints(before)))

        def lines(text: str) -> set[int]:
            results = json.loads(text)["runs"][0]["results"]
            regions = [r["locations"][0].get("physicalLocation", {}).get("region") for r in results]
            return {region["startLine"] for region in regions if region}

        self.assertEqual({line + 3 for line in lines(before)}, lines(after))

    def test_waived_places_are_suppressed_and_unknown_ones_open(self) -> None:
        waivers = self.root.parent / "w.toml"
        waivers.write_text('[[waivers]]\ncontrol = "key.mode"\nreason = "r"\nowner = "o"\nuntil = 2027-01-01\n')
        found = self.reports(SITE, "--waivers", str(waivers))
        results: list[dict[str, Any]] = json.loads(found["sarif"])["runs"][0]["results"]
        (waived,) = [result for result in results if result["ruleId"] == "key.mode"]
        self.assertEqual(waived["suppressions"][0]["justification"], "r (o, until 2027-01-01)")
        self.assertIn("open", {result["kind"] for result in results})
        self.assertIn("Waived", found["html"])

    def test_the_inventory_says_what_was_found_and_where(self) -> None:
        parts = json.loads(self.reports(SITE)["cyclonedx"])["components"]
        by_kind: dict[str, list[dict[str, Any]]] = {}
        for part in parts:
            by_kind.setdefault(part["cryptoProperties"]["assetType"], []).append(part)
        self.assertEqual(
            {p["name"] for p in by_kind["protocol"]}, {"TLSv1.2"} | {"TLSv1"} & {p["name"] for p in by_kind["protocol"]}
        )
        suites = by_kind["protocol"][-1]["cryptoProperties"]["protocolProperties"]["cipherSuites"]
        self.assertIn(["0xC0", "0x2B"], [suite["identifiers"] for suite in suites])
        (certificate,) = by_kind["certificate"]
        self.assertEqual(certificate["evidence"]["occurrences"], [{"location": "host: etc/ssl/site.pem"}])

    def test_a_document_is_converted_later_and_figures_are_drawn(self) -> None:
        self.reports(SITE)
        run, figures = self.folder / "json", self.root.parent / "figures"
        done = rupex("report", run, "--output", self.folder / "again.sarif", "--plots", figures)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertEqual((self.folder / "again.sarif").read_text(), (self.folder / "sarif").read_text())
        drawn = {path.name for path in figures.iterdir()}
        self.assertLessEqual({"scores.png", "scores.svg", "lost-points.svg", "expiries.png"}, drawn)
        self.assertEqual((figures / "scores.png").read_bytes()[:8], b"\x89PNG\r\n\x1a\n")
        self.assertEqual(rupex("report", run, "--output", "x.pdf").returncode, 2)
        self.assertEqual(rupex("report", Path("/nowhere.json")).returncode, 2)
