"""What Rupex predicts for an nginx configuration, held against what nginx answers."""

from __future__ import annotations

import re
import unittest
from pathlib import Path

from rupex.assess import Evidence, gather
from rupex.host import open_tree
from rupex.servers.family import Answer, Request
from tests.oracle import UPSTREAM_HEADERS, Ask, Reply, read_cases, request, running_nginx

CASES = Path(__file__).parent / "nginx_cases"

# Headers that speak of the content or the connection, which no configuration of the cases decides.
NOT_COMPARED = frozenset(
    "date content-type content-length connection last-modified etag accept-ranges transfer-encoding keep-alive allow"
    " expires".split()
)


def predict(evidence: Evidence, ask: Ask) -> Answer:
    path, mark, query = ask.target.partition("?")
    answer = evidence.configurations[0].answer(
        Request(
            method=ask.method,
            scheme=ask.scheme,
            name=ask.name,
            port=ask.port,
            path=path,
            query=query if mark else None,
            headers=ask.headers,
            address="127.0.0.1",
        )
    )
    assert answer is not None
    return answer


def comparable(headers: tuple[tuple[str, str], ...]) -> list[tuple[str, str]]:
    return sorted((name.lower(), value) for name, value in headers if name.lower() not in NOT_COMPARED)


class NginxAnswersTest(unittest.TestCase):
    def test_every_case_is_answered_as_predicted(self) -> None:
        cases = read_cases(CASES)
        self.assertGreaterEqual(len(cases), 40)
        for case in cases:
            with running_nginx(case) as tree:
                evidence = gather(open_tree(tree).tree, "", name=case.name)
                self.assertEqual(evidence.host.problems, ())
                self.assertTrue(case.asks, f"{case.name} asks nothing")
                for ask in case.asks:
                    with self.subTest(case=case.name, ask=f"{ask.method} {ask.url}"):
                        self._compare(evidence, predict(evidence, ask), request(ask))

    def _compare(self, evidence: Evidence, predicted: Answer, real: Reply) -> None:
        self.assertIsNone(predicted.unknown)
        if predicted.closed:
            self.assertIsNone(real.status)
            return
        scope = next(
            (
                s
                for e in evidence.host.endpoints
                for s in e.scopes
                if (e.id, s.id) == (predicted.endpoint, predicted.scope)
            ),
            None,
        )
        ours, theirs = comparable(predicted.headers), comparable(real.headers)
        if predicted.status is None and scope is not None and scope.upstream is not None:
            # What the upstream sends is passed on but for what is hidden; what is added goes by its status.
            passed = [(n.lower(), v) for n, v in UPSTREAM_HEADERS.items() if n.lower() not in scope.upstream.hidden]
            replaced = {name for name, _ in passed}
            ours = sorted([pair for pair in ours if pair[0] not in replaced] + passed)
            if real.status == 200:
                self.assertEqual(ours, theirs)
            else:
                self.assertEqual(set(passed) <= set(theirs), scope.upstream.keeps_errors)
            return
        self.assertEqual(predicted.status, real.status)
        self.assertEqual([predicted.location] if predicted.location else [], real.values("Location"))
        self.assertEqual([name for name, _ in ours], [name for name, _ in theirs])
        for (_, value), (_, sent) in zip(ours, theirs, strict=True):
            self.assertRegex(sent, "^" + re.escape(value).replace("…", ".+") + "$")


if __name__ == "__main__":
    unittest.main()
