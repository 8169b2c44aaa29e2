"""What Rupex predicts for an httpd configuration, held against what httpd answers."""

from __future__ import annotations

import re
import tempfile
import unittest
from collections.abc import Iterable, Iterator
from pathlib import Path

from rupex.audit.assess import Evidence, gather
from rupex.host import open_tree
from rupex.servers.apache.hosts import listeners, read_listens, read_virtuals
from rupex.servers.apache.load import load
from rupex.servers.apache.syntax import Directive
from rupex.servers.contract import Answer
from tests.apache_generator import Generator
from tests.apache_oracle import apache_version, running_apache, said_by_server, write_tree
from tests.oracle import UPSTREAM_HEADERS, Case, Reply, read_cases, request
from tests.test_nginx_against_server import comparable, predict

CASES = Path(__file__).parent / "apache_cases"


SEED, GENERATED = 20261126, 60
_PROBLEMS = re.compile("^# problems: (.*)$", re.MULTILINE)
_LINE = re.compile(r"\s*#\s+(\d+):$")
_NAMED = re.compile(r"\s+port (\d+) namevhost (\S+) \((\S+):(\d+)\)")


class ApacheAnswersTest(unittest.TestCase):
    def test_every_case_is_answered_as_predicted(self) -> None:
        cases = read_cases(CASES)
        self.assertGreaterEqual(len(cases), 90)
        for case in cases:
            with running_apache(case) as tree:
                evidence = gather(open_tree(tree).tree, "", name=case.name)
                expected = [word for line in _PROBLEMS.findall(case.text) for word in line.split()]
                self.assertEqual([problem.kind for problem in evidence.host.problems], expected)
                self.assertTrue(case.asks, f"{case.name} asks nothing")
                for ask in case.asks:
                    with self.subTest(case=case.name, ask=f"{ask.method} {ask.url}"):
                        self._compare(evidence, predict(evidence, ask), request(ask))

    def _compare(self, evidence: Evidence, predicted: Answer, real: Reply) -> None:
        self.assertEqual((predicted.unknown, predicted.uncertain), (None, ()))
        ours, theirs = comparable(predicted.headers), comparable(real.headers)
        # Which header a rule looked at is not compared.
        theirs = [pair for pair in theirs if pair[0] != "vary" or pair[1] == "negotiate"]
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
            self.assertRegex(sent, "^" + re.escape(value).replace("…", ".+") + "$")


class GeneratedConfigurationsTest(ApacheAnswersTest):
    def test_every_case_is_answered_as_predicted(self) -> None:
        generator = Generator(SEED)
        asked = unknown = 0
        for number in range(GENERATED):
            case = Case(f"generated-{number}", generator.case())
            with running_apache(case) as tree:
                evidence = gather(open_tree(tree).tree, "", name=case.name)
                for ask in case.asks:
                    predicted = predict(evidence, ask)
                    asked += 1
                    if (
                        predicted.unknown is not None or predicted.uncertain
                    ):  # one of its expressions asks for what only run time knows
                        unknown += 1
                        continue
                    with self.subTest(f"{ask.method} {ask.url}\n{case.text}"):
                        self._compare(evidence, predicted, request(ask))
        self.assertGreater(asked, 8 * GENERATED)
        self.assertLess(unknown, asked / 25)


class ServersOwnWordTest(unittest.TestCase):
    """The server's dumps of what it has read, held against what Rupex has read."""

    def test_directives_are_read_in_the_order_and_place_that_the_server_says(self) -> None:
        for case in read_cases(CASES):
            case.text = "# modules: info\n" + case.text
            said = said_by_server(case, "-t", "-D", "DUMP_CONFIG")
            with self.subTest(case.name), tempfile.TemporaryDirectory() as scratch:
                root = Path(scratch, "tree")
                write_tree(root, case)
                config = load(open_tree(root).tree, "etc/apache2/apache2.conf", release())
                ours = [line for line in _flat(config.main, 0) if line[1].split()[0] != "ServerRoot"]
                theirs = [line for line in _dumped(said) if line[1].split()[0] != "ServerRoot"]
                lowered = [[(depth, words.lower()) for depth, words in lines] for lines in (ours, theirs)]
                self.assertEqual(*lowered)  # the server spells a few names in its own way

    def test_virtual_hosts_are_those_that_the_server_says(self) -> None:
        for case in read_cases(CASES):
            said = said_by_server(case, "-t", "-D", "DUMP_VHOSTS")
            theirs = [(int(port), name.lower(), int(line)) for port, name, _, line in _NAMED.findall(said)]
            with self.subTest(case.name), tempfile.TemporaryDirectory() as scratch:
                root = Path(scratch, "tree")
                write_tree(root, case)
                config = load(open_tree(root).tree, "etc/apache2/apache2.conf", release())
                main, virtuals = read_virtuals(config)
                ours = [
                    (listener.port, virtual.server_name, virtual.section.line)
                    for listener in listeners(read_listens(config, []), main, virtuals)
                    for virtual in listener.virtuals
                    if virtual.section is not None
                ]
                if len(ours) > 1:  # the server lists names only where there are several
                    self.assertLessEqual(set(theirs), set(ours))


def release() -> tuple[int, ...]:
    return tuple(map(int, apache_version().split(".")))


def _flat(directives: Iterable[Directive], depth: int) -> Iterator[tuple[int, str]]:
    for directive in directives:
        words = " ".join(f"{directive.name} {directive.raw}".split())
        if directive.children is None:
            yield depth, words
        else:
            yield depth, f"<{words}>"
            yield from _flat(directive.children, depth + 1)


def _dumped(text: str) -> Iterator[tuple[int, str]]:
    for line in text.splitlines():
        bare = line.strip()
        if bare and not bare.startswith(("#", "</", "Syntax OK", "AH", "[")):
            yield (len(line) - len(line.lstrip())) // 2, re.sub(" >$", ">", " ".join(bare.split()))
