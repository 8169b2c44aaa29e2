"""A tree on disk is read by descriptors: nothing outside its root, whatever is exchanged meanwhile."""

from __future__ import annotations

import multiprocessing
import os
import subprocess
import time
import unittest

from rupex.host import TreeError, open_tree
from tests.oracle import _binary
from tests.support import TreeTest


class FoldersTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.outside = self.root.parent / "outside"
        self.outside.mkdir()
        (self.outside / "file").write_text("outside")

    def test_links_lead_where_they_lead_inside_and_never_out(self) -> None:
        self.write({"a/b/file": "inside", "c/file": "c"})
        for link, target in (
            ("up", "../../../../../.."), ("abs", "/a/b"), ("out", str(self.outside)), ("a/b/back", "../.."),
            ("chain", "abs/back"),
            ("self", "self"), ("long", "a/" * 2000 + "b"), ("a/rel", "b/../../c"),
        ):  # fmt: skip
            os.symlink(target, self.root / link)
        tree = open_tree(self.root).tree
        for path, text in (
            ("abs/file", "inside"), ("abs/back/c/file", "c"), ("chain/c/file", "c"), ("a/rel/file", "c"),
            ("abs/../b/file", "inside"),
            ("up/a/b/file", "inside"), ("../../../a/b/file", "inside"), ("./a/./b//file", "inside"), ("abs/../../c/file", "c"),
        ):  # fmt: skip
            with self.subTest(path):
                self.assertEqual(tree.read(path).decode(), text)
        for path in (
            "out/file",
            "self/file",
            "long/file",
            "../outside/file",
            "a/" * 1500 + "file",
            "x" * 5000,
            "a\0b",
            "a/b/file/deeper",
        ):
            with self.subTest(path[:40]), self.assertRaises(TreeError):
                tree.read(path)
        self.assertEqual(tree.names_in("../outside"), [])
        self.assertEqual(list(tree.folders_among(("a/../../outside", "up/../../outside"))), [])

    def test_what_goes_up_behind_a_link_goes_up_from_where_it_leads(self) -> None:
        self.write({"opt/site/conf/a": "", "etc/nginx/a": ""})
        (self.root / "etc/nginx/conf").symlink_to("../../opt/site/conf")
        tree = open_tree(self.root).tree
        for name, meant in (
            ("etc/nginx/conf/../a.conf", "opt/site/a.conf"), ("/etc/nginx/conf/../../b", "opt/b"), ("etc/nginx/../a", "etc/a"),
            ("etc/nginx/conf/a", "etc/nginx/conf/a"), ("../../x", "x"), ("etc//./x", "etc/x"), ("none/../y", "y"),
            ("etc/nginx/conf/..", "opt/site"), ("etc/..x/../y", "etc/y"),
        ):  # fmt: skip
            with self.subTest(name):
                self.assertEqual(tree.named(name), meant)

    def test_nginx_reads_what_lies_above_the_end_of_a_link(self) -> None:
        own = "server { listen 127.0.0.1:8081; server_name above.test; }"
        self.write({"opt/site/part.conf": own, "opt/site/conf/a": "", "etc/nginx/part.conf": "pier;"})
        (self.root / "etc/nginx/conf").symlink_to("../../opt/site/conf")
        self.write_nginx("include conf/../part.conf;")
        main = self.root / "etc/nginx/nginx.conf"
        main.write_text(main.read_text().replace("user www-data;", "events {}"))
        settings = f"pid {self.root}/pid; error_log stderr;"
        command = [_binary("nginx"), "-t", "-p", str(self.root), "-c", str(main), "-g", settings]
        self.assertEqual(subprocess.run(command, capture_output=True, check=False).returncode, 0)
        self.assertEqual([endpoint.names for endpoint in self.gather().host.endpoints], [("above.test",)])

    def test_a_folder_that_is_exchanged_for_a_link_leads_nowhere(self) -> None:
        """Not even in the moment between the look at it and the reading."""
        self.write({"site/sub/file": "inside"})
        end = time.monotonic() + 8
        with multiprocessing.get_context("fork").Pool(1) as pool:
            exchanging = pool.apply_async(_exchange, (str(self.root), str(self.outside), end))
            counts = {"inside": 0, "outside": 0, "refused": 0}
            while time.monotonic() < end:
                tree = open_tree(self.root).tree
                try:
                    counts[tree.read("site/sub/file").decode()] += 1
                except TreeError:
                    counts["refused"] += 1
                if "file" in tree.names_in("site/sub") and tree.entry("site/sub/file") is None:
                    counts["refused"] += 1
            exchanging.get(30)
        self.assertEqual(counts["outside"], 0)
        self.assertGreater(counts["inside"], 20)
        self.assertGreater(counts["refused"], 20, "the exchange came between")

    def test_many_folders_need_few_descriptors(self) -> None:
        self.write({f"many/{number}/deep/file": str(number) for number in range(300)})
        before = len(os.listdir("/proc/self/fd"))
        tree = open_tree(self.root).tree
        self.assertEqual([int(tree.read(f"many/{number}/deep/file")) for number in range(300)], list(range(300)))
        self.assertLess(len(os.listdir("/proc/self/fd")) - before, 80)
        del tree
        self.assertLessEqual(len(os.listdir("/proc/self/fd")), before + 1)

    def test_a_very_deep_folder_is_read(self) -> None:
        here = os.open(self.root, os.O_RDONLY)
        for _ in range(1200):
            os.mkdir("d", dir_fd=here)
            below = os.open("d", os.O_RDONLY, dir_fd=here)
            os.close(here)
            here = below
        descriptor = os.open("file", os.O_WRONLY | os.O_CREAT, dir_fd=here)
        os.write(descriptor, b"deep")
        os.close(descriptor)
        os.close(here)
        self.addCleanup(subprocess.run, ["rm", "-rf", str(self.root / "d")], check=True)
        self.assertEqual(open_tree(self.root).tree.read("d/" * 1200 + "file"), b"deep")


def _exchange(root: str, outside: str, end: float) -> None:
    """In another process: a folder, and a link out of the tree, by turns at the same place."""
    os.chdir(root)
    os.symlink(outside, "link")
    while time.monotonic() < end:
        os.rename("site/sub", "kept")
        os.rename("link", "site/sub")
        os.rename("site/sub", "link")
        os.rename("kept", "site/sub")


if __name__ == "__main__":
    unittest.main()
