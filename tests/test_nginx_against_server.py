"""What Rupex predicts for an nginx configuration, held against what nginx answers."""

from __future__ import annotations

import unittest
from pathlib import Path

from rupex.assess import Evidence, gather
from rupex.host import open_tree
from rupex.servers.family import Answer, Request
from tests.oracle import Ask, Reply, read_cases, request, running_nginx

CASES = Path(__file__).parent / "nginx_cases"

# Headers that speak of the content or the connection, which no configuration of the cases decides.
NOT_COMPARED = frozenset(
    "date content-type content-length connection last-modified etag accept-ranges transfer-encoding keep-alive".split()
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
        )
    )
    assert answer is not None
    return answer


def comparable(headers: tuple[tuple[str, str], ...]) -> list[tuple[str, str]]:
    return sorted((name.lower(), value) for name, value in headers if name.lower() not in NOT_COMPARED)


class NginxAnswersTest(unittest.TestCase):
    def test_every_case_is_answered_as_predicted(self) -> None:
        for case in read_cases(CASES):
            with running_nginx(case) as tree:
                evidence = gather(open_tree(tree).tree, "", name=case.name)
                self.assertEqual(evidence.host.problems, ())
                self.assertTrue(case.asks, f"{case.name} asks nothing")
                for ask in case.asks:
                    with self.subTest(case=case.name, url=ask.url):
                        self._compare(predict(evidence, ask), request(ask))

    def _compare(self, predicted: Answer, real: Reply) -> None:
        self.assertIsNone(predicted.unknown)
        if predicted.closed:
            self.assertIsNone(real.status)
            return
        if predicted.status is None:
            self.assertEqual(real.status, 200, "content answers with 200 in these cases")
        else:
            self.assertEqual(predicted.status, real.status)
        self.assertEqual([predicted.location] if predicted.location else [], real.values("Location"))
        self.assertEqual(comparable(predicted.headers), comparable(real.headers))


if __name__ == "__main__":
    unittest.main()
