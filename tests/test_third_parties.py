"""Controls and families that other packages add, found by their entry points."""

from __future__ import annotations

import os
import sys
import unittest
from unittest.mock import patch

from rupex import package_files
from rupex.package_files import third_parties
from tests.support import TreeTest, rupex

CONTROL = """
from rupex.controls.catalogue import control
from rupex.model import PASS, Fail


@control(
    "ternholm.port", title="Sites listen at 8443", place="endpoint", severity="low", why="The pier's own rule.",
    references=("operational: the pier's handbook",), cwe=("CWE-16",), remedy="Listen at 8443.",
)
def port(endpoint):
    return PASS if endpoint.port == 8443 else Fail(f"port {endpoint.port}", endpoint.provenance)
"""
METADATA = "Metadata-Version: 2.1\nName: ternholm-rules\nVersion: 1.0\n"
ENTRY_POINTS = "[console_scripts]\nternholm = ternholm_rules:port\n[rupex.controls]\nternholm = ternholm_rules\n"


class ThirdPartiesTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.folder = self.root.parent / "installed"
        files = {
            "ternholm_rules.py": CONTROL,
            "ternholm_rules-1.0.dist-info/METADATA": METADATA,
            "ternholm_rules-1.0.dist-info/entry_points.txt": ENTRY_POINTS,
        }
        for name, text in files.items():
            path = self.folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text)
        for cached in (package_files._may_register, third_parties):
            cached.cache_clear()
            self.addCleanup(cached.cache_clear)

    def test_a_control_of_an_installed_package_is_in_the_catalogue(self) -> None:
        listed = rupex("control", "list", PYTHONPATH=str(self.folder)).stdout
        self.assertIn("ternholm.port", listed)
        self.assertNotIn("ternholm.port", rupex("control", "list").stdout)

    def test_metadata_is_read_where_a_package_registers_something(self) -> None:
        other = self.root.parent / "others"
        (other / "a-1.dist-info").mkdir(parents=True)
        (other / "a-1.dist-info/entry_points.txt").write_text("[console_scripts]\nrupex.x = a:b\n")
        (other / "b-1.dist-info").mkdir()
        archive = self.root.parent / "archive.zip"
        archive.write_bytes(b"PK\x05\x06" + bytes(18))
        for about, folder, expected in (
            ("it registers a control", self.folder, True),
            ("only commands, or no entry points", other, False),
            ("an archive, which the library reads", archive, True),
            ("not there", self.root / "no", False),
        ):
            with self.subTest(about):
                self.assertIs(package_files._may_register(str(folder)), expected)

    def test_entry_points_are_those_of_the_group(self) -> None:
        with patch.object(sys, "path", [str(self.folder)]):
            names = [entry.value for entry in third_parties("rupex.controls")]
            self.assertEqual(third_parties("rupex.servers"), ())
        self.assertEqual(names, ["ternholm_rules"])
        third_parties.cache_clear()
        with patch.object(sys, "path", [os.devnull + "-not-there"]):
            self.assertEqual(third_parties("rupex.controls"), ())


if __name__ == "__main__":
    unittest.main()
