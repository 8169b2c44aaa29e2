"""The catalogue: every control has an example, those that are configuration are proven, and docs/controls.md is current."""

from __future__ import annotations

import runpy
from pathlib import Path

from rupex.controls import all_controls, examples
from tests.support import TreeTest, rupex

ROOT = Path(__file__).parent.parent
CERTIFIED = "ssl_certificate /etc/ssl/site.pem; ssl_certificate_key /etc/ssl/site.key;"


class CatalogueTest(TreeTest):
    def test_every_control_has_an_example_and_no_example_is_of_another(self) -> None:
        self.assertEqual(set(examples()), set(all_controls()))

    def test_an_example_that_is_configuration_comes_out_as_it_says(self) -> None:
        self.mint(["www.ternholm.test"])
        for name, example in examples().items():
            if example.kind == "seen":
                continue
            listen = f"listen 443 ssl; {CERTIFIED}" if example.kind == "tls" else "listen 80;"
            for text, verdict in ((example.holds, "pass"), (example.fails, "fail")):
                root = "" if any(word in text for word in ("root ", "proxy_pass", "return")) else "root /srv/www;"
                self.write_nginx(f"server {{ {listen} server_name www.ternholm.test; {root} {text} }}")
                with self.subTest(name, verdict=verdict):
                    self.assertEqual(self.check(name, nginx="1.22.1", openssl="3.0").verdict, verdict)

    def test_the_page_of_controls_is_current(self) -> None:
        render = runpy.run_path(str(ROOT / "tools/controls_doc.py"))["render"]
        self.assertEqual((ROOT / "docs/controls.md").read_text(), render(), "run: python tools/controls_doc.py")

    def test_one_is_explained_whole(self) -> None:
        shown = rupex("control", "show", "tls.protocol.floor").stdout
        for word in ("judged", "severity", "why", "source", "change", "holds", "fails", "parameters.floor"):
            self.assertIn(word, shown)
