"""What Rupex predicts for an httpd configuration, held against what httpd answers."""

from __future__ import annotations

import re
import unittest
from pathlib import Path

from rupex.assess import Evidence, gather
from rupex.host import open_tree
from rupex.servers.family import Answer
from tests.apache_oracle import running_apache
from tests.oracle import UPSTREAM_HEADERS, Reply, read_cases, request
from tests.test_nginx_against_server import comparable, predict

CASES = Path(__file__).parent / "apache_cases"


class ApacheAnswersTest(unittest.TestCase):
    def test_every_case_is_answered_as_predicted(self) -> None:
        cases = read_cases(CASES)
        for case in cases:
            with running_apache(case) as tree:
                evidence = gather(open_tree(tree).tree, "", name=case.name)
                self.assertEqual(evidence.host.problems, ())
                self.assertTrue(case.asks, f"{case.name} asks nothing")
                for ask in case.asks:
                    with self.subTest(case=case.name, ask=f"{ask.method} {ask.url}"):
                        self._compare(evidence, predict(evidence, ask), request(ask))

    def _compare(self, evidence: Evidence, predicted: Answer, real: Reply) -> None:
        self.assertIsNone(predicted.unknown)
        ours, theirs = comparable(predicted.headers), comparable(real.headers)
        if predicted.status is None:  # passed on
            passed = [(name.lower(), value) for name, value in UPSTREAM_HEADERS.items()]
            ours = sorted([pair for pair in ours if pair[0] != "server"] + [p for p in passed if p in theirs])
            self.assertEqual(ours, theirs)
            return
        self.assertEqual(predicted.status, real.status)
        moved = [re.sub(r"/tmp/rupex-oracle-\w+/live/", "/", value) for value in real.values("Location")]
        self.assertEqual([predicted.location] if predicted.location else [], moved)
        theirs = sorted((name, moved[0] if name == "location" else value) for name, value in theirs)
        self.assertEqual([name for name, _ in ours], [name for name, _ in theirs])
        for (_, value), (_, sent) in zip(ours, theirs, strict=True):
            self.assertRegex(sent, "^" + re.escape(value).replace("…", ".+"))
