"""The changes that controls name, and the blocks that families have for them."""

from __future__ import annotations

import re
import unittest

from rupex.controls import all_controls
from rupex.families import blocks, packages
from rupex.model.change import EFFORTS, KINDS, Change, filled
from rupex.servers.apache import syntax as apache
from rupex.servers.common.xml import parse as parse_xml
from rupex.servers.nginx import syntax as nginx
from tests.support import TreeTest, rupex, valid_document

KNOWN = frozenset(("names", "name", "port", "certificate", "key", "path", "file"))
"""What is known of the place where a control fails."""
ASKED = frozenset(("authority", "networks", "module"))
"""What only a person knows."""


class ChangesTest(unittest.TestCase):
    def test_every_control_names_a_change_that_there_is_or_has_its_own_words_only(self) -> None:
        for name, control in all_controls().items():
            with self.subTest(name):
                self.assertTrue(control.remedy)
                if control.change is not None:
                    self.assertIn(control.change.effort, EFFORTS)
                    words = set(re.findall("<<([a-z]+)>>", KINDS[control.change.kind].words))
                    self.assertLessEqual(set(control.change.arguments), words)

    def test_words_of_a_change_are_filled_in(self) -> None:
        change = Change("set-header", {"header": "X-A", "value": "b"})
        self.assertEqual((change.words, change.effort), ("send X-A: b with every answer", "line"))
        self.assertEqual(filled("<<a>> <<b>>", {"a": "1"}), "1 <<b>>")

    def test_blocks_are_for_changes_and_ask_for_what_is_known(self) -> None:
        for family in packages():
            self.assertGreater(len(blocks(family)), 20)
            for kind, block in blocks(family).items():
                with self.subTest(family=family, kind=kind):
                    self.assertIn(kind, KINDS)
                    wanted = set(re.findall("<<([a-z]+)>>", block))
                    arguments = set(re.findall("<<([a-z]+)>>", KINDS[kind].words))
                    self.assertLessEqual(wanted, KNOWN | ASKED | arguments)

    def test_blocks_are_written_in_the_language_of_their_family(self) -> None:
        for family, parse in (("nginx", nginx.parse), ("apache", apache.parse)):
            for kind, block in blocks(family).items():
                with self.subTest(family=family, kind=kind):
                    self.assertIsNone(parse("f", re.sub("<<[a-z]+>>", "x", block) + "\n").problem)
        for kind, block in blocks("tomcat").items():
            text = re.sub("<<[a-z]+>>", "x", block)
            if "<" in text:
                with self.subTest(kind):
                    closed = re.sub(r"^(<(\w+)[^>]*[^/])>$", r"\1/>", text.replace(" …", ""))
                    parse_xml("f", f"<x>{closed}</x>")


class BlocksTest(TreeTest):
    def test_a_block_has_the_names_and_files_of_the_place_that_fails(self) -> None:
        self.mint(["a.test"])
        self.write_nginx(
            "server { listen 443; server_name a.test b.test; ssl_certificate /etc/ssl/site.pem;\n"
            "ssl_certificate_key /etc/ssl/site.key; }"
        )
        document = valid_document(rupex("audit", self.root, "--format", "json").stdout)
        found = {check["control"]: check for check in document["hosts"][0]["checks"]}
        block = found["transport.tls.listener"]["block"]
        for line in (
            "server_name a.test b.test;",
            "ssl_certificate /etc/ssl/site.pem;",
            "ssl_certificate_key /etc/ssl/site.key;",
        ):
            self.assertIn(line, block)
        self.assertEqual(found["transport.tls.listener"]["effort"], "block")
        self.assertEqual(found["tls.protocol.floor"]["block"], "")
        self.assertIn("server_name a.test b.test;", rupex("audit", self.root, "--verbose").stdout)

    def test_sites_of_a_template_have_the_block_of_the_first(self) -> None:
        self.write_nginx("include sites/*;")
        for number in range(4):
            self.write({f"etc/nginx/sites/{number}": f"server {{\n listen 443;\n server_name s{number}.test;\n}}\n"})
        document = valid_document(rupex("audit", self.root, "--format", "json").stdout)
        found = {check["control"]: check for check in document["hosts"][0]["checks"]}
        self.assertIn("server_name s0.test;", found["transport.tls.listener"]["block"])
        self.assertNotIn("stand-in", str(document))


if __name__ == "__main__":
    unittest.main()
