"""A tree on disk is read by descriptors: nothing outside its root, whatever is exchanged meanwhile."""

from __future__ import annotations

import multiprocessing
import os
import subprocess
import time
import unittest

from rupex.host import TreeError, open_tree
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
