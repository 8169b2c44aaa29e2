"""What Rupex predicts for an nginx configuration, held against what nginx answers."""

from __future__ import annotations

import re
import unittest
from pathlib import Path

from rupex.audit.assess import Evidence, gather
from rupex.host import open_tree
from rupex.pki.clients import read_client_certificate
from rupex.servers.contract import Answer, Request
from tests.clients import client_credentials
from tests.nginx_generator import Generator
from tests.oracle import (
    UPSTREAM_HEADERS,
    Ask,
    Case,
    Reply,
    ServerError,
    read_cases,
    request,
    running_nginx,
    using_newest_nginx,
)

SEED, GENERATED = 20261125, 120
CASES = Path(__file__).parent / "nginx_cases"

# Headers that speak of the content or the connection, which no configuration of the cases decides.
NOT_COMPARED = frozenset(
    "date content-type content-length connection last-modified etag accept-ranges transfer-encoding keep-alive allow"
    " expires content-language content-encoding".split()
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
            source=ask.source,
            account=ask.account,
            certificate=None
            if ask.certificate is None
            else read_client_certificate((client_credentials() / f"{ask.certificate}.pem").read_bytes()),
        )
    )
    assert answer is not None
    return answer


def comparable(headers: tuple[tuple[str, str], ...]) -> list[tuple[str, str]]:
    return sorted((name.lower(), value) for name, value in headers if name.lower() not in NOT_COMPARED)


_NOT_IN_NEWEST = ("stub_status", "fancyindex")
"""Words of modules that the newest release is built without."""


class NginxAnswersTest(unittest.TestCase):
    def test_every_case_is_answered_as_predicted(self) -> None:
        self._ask(read_cases(CASES))

    def test_the_newest_release_answers_as_predicted(self) -> None:
        with using_newest_nginx():
            self._ask([case for case in read_cases(CASES) if not any(word in case.text for word in _NOT_IN_NEWEST)])

    def _ask(self, cases: list[Case]) -> None:
        self.assertGreaterEqual(len(cases), 60)
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
        for header in predicted.uncertain:
            self.assertEqual((header.name, header.why), ("Server", "the server behind may send its own"))
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


class GeneratedConfigurationsTest(unittest.TestCase):
    def test_random_configurations_are_answered_as_predicted(self) -> None:
        generator = Generator(SEED)
        asked = unknown = 0
        for number in range(GENERATED):
            case = Case(f"generated-{number}", generator.case())
            try:
                with running_nginx(case) as tree:
                    evidence = gather(open_tree(tree).tree, "", name=case.name)
                    self.assertEqual(evidence.host.problems, ())
                    for ask in case.asks:
                        predicted, real = predict(evidence, ask), request(ask)
                        asked, unknown = asked + 1, unknown + bool(predicted.unknown or predicted.uncertain)
                        with self.subTest(f"{ask.method} {ask.url}\n{case.text}"):
                            self._compare(predicted, real)
            except ServerError as error:
                # Two locations of the same name: the server does not start, and there is nothing to compare.
                self.assertIn("duplicate location", str(error))
        self.assertGreater(asked, 6 * GENERATED)
        self.assertLess(unknown, asked / 50)

    def _compare(self, predicted: Answer, real: Reply) -> None:
        if predicted.unknown is not None or predicted.uncertain:
            return
        if predicted.closed:
            self.assertIsNone(real.status)
        elif predicted.status is None:  # a server without a root of its own: the packaged pages are not in the tree
            self.assertIn(real.status, (200, 301, 302, 403, 404, 405, 500))
        else:
            self.assertEqual(predicted.status, real.status)
            self.assertEqual([predicted.location] if predicted.location else [], real.values("Location"))
            self.assertEqual(comparable(predicted.headers), comparable(real.headers))


if __name__ == "__main__":
    unittest.main()
