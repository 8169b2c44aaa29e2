"""Work is counted where it is made: for every shape of input of ``bench/growth.py``, what the interpreter does is no more than
what the budget counted and what was read."""

from __future__ import annotations

import itertools
import sys
import unittest
from collections.abc import Callable
from typing import TypeVar
from unittest import mock

from bench.growth import EMPTY, SHAPES, write

from rupex.audit.assess import assess
from rupex.audit.collect import LoadedHost, host_of, load_host
from rupex.baseline import load_baseline
from rupex.host import open_tree
from rupex.model import Host, bounds
from tests.support import NOW, TreeTest

T = TypeVar("T")

CALLS_A_STEP = 45
"""Calls and returns, of the package's functions and the library's, for one step, or for one character that is read."""
PER_FILE = 200
"""Steps for a file that is found and opened, which are not counted."""
AT_ALL = 120_000
"""Calls that an audit of nothing takes, modules that are loaded only when they are needed included."""


def counted(work: Callable[[], T]) -> tuple[T, int]:
    """The result of ``work``, and the number of calls and returns in it."""
    number = itertools.count()
    count = number.__next__
    sys.setprofile(lambda *_: count() and None)
    try:
        result = work()
    finally:
        sys.setprofile(None)
    return result, next(number)


class GrowthTest(TreeTest):
    def audit(self) -> tuple[LoadedHost, Host]:
        scene = load_host(open_tree(self.root).tree, "", name="host")
        host = host_of(scene)
        assess(host, load_baseline("public-web"), NOW)
        return scene, host

    def shape(self, name: str, times: int) -> tuple[LoadedHost, Host, int, int]:
        """An audit of a shape: calls that it took, and what they may be."""
        size, shape = SHAPES[name]
        files = shape(size * times)
        self.root = self.root.with_name(f"{len(list(self.root.parent.iterdir()))}")
        write(self.root, files)
        (scene, host), calls = counted(self.audit)
        work = scene.budget.spent + sum(map(len, files.values())) + PER_FILE * len(files)
        return scene, host, calls, AT_ALL + CALLS_A_STEP * work

    def test_what_is_done_is_counted(self) -> None:
        write(self.root, EMPTY)
        self.audit()  # loads what every audit needs
        for name in SHAPES:
            with self.subTest(name):
                _, _, calls, most = self.shape(name, 1 if name.endswith("!") else 2)
                self.assertLess(calls, most)

    def test_what_is_made_to_explode_ends_at_the_bound(self) -> None:
        write(self.root, EMPTY)
        self.audit()
        with mock.patch.object(bounds, "HOST_STEPS", 300_000), mock.patch.object(bounds, "INCLUDED_FILES", 2_000):
            for name in SHAPES:
                if name.endswith("!"):
                    with self.subTest(name):
                        scene, host, calls, most = self.shape(name, 8)
                        self.assertLess(calls, most)
                        self.assertLess(scene.budget.spent, 2_000_000)
                        if scene.budget.is_exhausted:
                            self.assertEqual(host.problems[0].kind, "bound")


if __name__ == "__main__":
    unittest.main()
