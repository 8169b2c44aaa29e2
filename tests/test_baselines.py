"""The built-in baselines, and what a change of baseline does to a run."""

from __future__ import annotations

import tomllib
from importlib import resources

from rupex.audit.rescore import changes, rescore
from rupex.baseline import builtin_names, load_baseline
from rupex.controls import all_controls
from rupex.model import RupexError
from rupex.reports.read import decode_run
from tests.support import TreeTest, rupex, written_out_document

SITE = """
server { listen 80; server_name www.ternholm.test; location / { proxy_pass http://192.168.4.2; } }
server { listen 443 ssl; server_name www.ternholm.test; ssl_certificate /etc/ssl/site.pem; ssl_certificate_key /etc/ssl/site.key;
  ssl_protocols SSLv3 TLSv1.2; add_header Strict-Transport-Security max-age=60; root /srv/www; }
"""
OWN = 'name = "own"\nextend = "public-web"\n'


class BaselineTest(TreeTest):
    def own(self, text: str) -> str:
        path = self.root.parent / "own.toml"
        path.write_text(OWN + text)
        return str(path)

    def test_every_built_in_one_rules_on_every_control_with_a_source(self) -> None:
        for name in builtin_names():
            with self.subTest(name):
                rules = load_baseline(name).rules
                self.assertEqual(set(rules), set(all_controls()))
                self.assertEqual([control for control, rule in rules.items() if not rule.source], [])

    def test_every_threshold_that_one_of_them_sets_has_a_source_beside_it(self) -> None:
        for name in builtin_names():
            document = tomllib.loads(resources.files("rupex.baseline").joinpath(f"builtin/{name}.toml").read_text())
            for control, rule in document["controls"].items():
                if "parameters" in rule:
                    self.assertTrue(rule.get("source"), f"{name}: {control}")

    def test_a_baseline_can_switch_on_what_it_extends_had_off(self) -> None:
        self.assertIsNotNone(load_baseline("public-web").rules["exposure.product"].off)
        self.assertIsNone(load_baseline("strict").rules["exposure.product"].off)
        with self.assertRaisesRegex(RupexError, "a reason is expected"):
            load_baseline(self.own('[controls."tls.tickets"]\noff = true\n'))

    def test_the_same_baseline_gives_a_run_the_same_scores(self) -> None:
        self.mint(["www.ternholm.test"], mode=0o644)
        self.write_nginx(SITE)
        (self.root / "waivers.toml").write_text(
            '[[waivers]]\ncontrol = "key.mode"\nreason = "x"\nowner = "y"\nuntil = 2027-01-01\n'
        )
        for more in ((), ("--waivers", self.root / "waivers.toml")):
            done = rupex("audit", self.root, "--format", "json", "--now", "2026-11-24", *more)
            run = decode_run(done.stdout.encode(), "run")
            told = written_out_document(done.stdout)["hosts"][0]["score"]
            (again,) = rescore(run, load_baseline("public-web"))
            for field in ("value", "low", "high", "uncapped", "unwaived", "coverage", "band"):
                self.assertEqual((field, getattr(again.new, field)), (field, told[field]))
            self.assertEqual(changes(run, load_baseline("public-web")), ())

    def test_what_another_baseline_does_to_a_run_is_told(self) -> None:
        self.mint(["www.ternholm.test"])
        self.write_nginx(SITE)
        run = self.root.parent / "run.json"
        run.write_text(rupex("audit", self.root, "--format", "json", "--now", "2026-11-24").stdout)
        own = self.own(
            '[controls."tls.protocol.floor"]\nweight = 9\nceiling = 74\ncases.ssl = { ceiling = 69 }\n'
            '[controls."header.hsts"]\nparameters.minimum_days = 90\n[controls."cert.trust"]\noff = "our own authority"\n'
        )
        done = rupex("baseline", "check", own, "--against", run)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        for words in ("weight 6 becomes 9", "minimum_days: 365 becomes 90", "is off: our own authority", "59.0 weak"):
            self.assertIn(words, done.stdout)

    def test_required_names_and_exceptions_for_a_site_are_facts_of_a_baseline(self) -> None:
        self.mint(["www.ternholm.test"])
        policy = 'add_header Permissions-Policy "camera=(), microphone=(), geolocation=(self)";'
        self.write_nginx(SITE.replace("root", f"{policy} root"))
        for control, parameter, verdict in (
            ("header.permissions", 'exceptions = { "*.test" = ["geolocation"] }', "pass"),
            ("header.permissions", 'exceptions = { "x.*" = ["geolocation"] }', "fail"),
            ("transport.names", 'required = ["www.ternholm.test"]', "pass"),
            ("transport.names", 'required = ["pier.ternholm.test"]', "fail"),
        ):
            text = f'[controls."{control}"]\nparameters.{parameter}\n'
            with self.subTest(text):
                done = rupex(
                    "audit", self.root, "--baseline", self.own(text), "--format", "json", "--now", "2026-11-24"
                )
                checks = {check["control"]: check for check in written_out_document(done.stdout)["hosts"][0]["checks"]}
                self.assertEqual(checks[control]["verdict"], verdict)

    def test_what_is_no_run_document_is_refused_with_a_reason(self) -> None:
        for text, words in (
            ("{", "not JSON"), ("[]", "not JSON"), ("{}", "names no schema"), ('{"schema": "rupex.run/2"}', "rupex.run/2"),
            ('{"schema": "rupex.run/1"}', "missing required field"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaisesRegex(RupexError, words):
                decode_run(text.encode(), "run.json")
