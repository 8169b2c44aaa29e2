"""The work that one host may make: what is left undone is told, nothing is cut off in silence, and shortcuts change nothing."""

from __future__ import annotations

import re
import unittest
from unittest import mock

import regex
from hypothesis import given, settings
from hypothesis import strategies as st

from rupex.audit.collect import Evidence
from rupex.model import bounds
from rupex.model.budget import Budget, ExhaustedError, UndeterminedError, allow_for, filled, joined, spend
from rupex.model.numbers import whole_number
from rupex.servers.apache.finding import PathIndex
from rupex.servers.common.patterns import literal_start, search, size_of
from rupex.servers.contract import Request
from tests.support import TreeTest, rupex, valid_document

PIECES = (
    "a",
    "b",
    "/",
    "^",
    "$",
    ".",
    "*",
    "+",
    "?",
    "|",
    "(",
    ")",
    "[ab]",
    "[^/]",
    "{0}",
    "{2}",
    "{1,3}",
    "\\.",
    "\\d",
    "(?:",
    "(?i)",
)
MODULES = "".join(
    f"LoadModule {name}_module x.so\n" for name in ("alias", "authz_core", "headers", "proxy", "rewrite", "setenvif")
)


class BudgetTest(unittest.TestCase):
    def test_it_ends_once_and_remembers_where(self) -> None:
        with Budget(100) as budget:
            budget.at = "here"
            spend(100)
            for place in ("there", "beyond"):
                budget.at = place
                self.assertRaises(ExhaustedError, spend, 1)
        self.assertEqual((budget.stopped_at, budget.spent), ("there", 102))
        spend(1_000_000)  # where no budget is in force, nothing is counted

    def test_more_is_allowed_for_more_that_is_read_up_to_a_bound(self) -> None:
        with mock.patch.object(bounds, "STEPS_A_CHARACTER", 2), mock.patch.object(bounds, "MOST_HOST_STEPS", 150):
            with Budget(100) as budget:
                allow_for(10)
                self.assertEqual(budget.left, 120)
                allow_for(1000)
            self.assertEqual((budget.left, budget.steps), (150, 150))

    def test_texts_that_grow_beyond_what_a_server_sends_are_not_made(self) -> None:
        with Budget() as budget:
            self.assertRaises(UndeterminedError, joined, ["x" * 40_000] * 1000)
            self.assertRaises(UndeterminedError, filled, re.compile("x"), lambda _: "y" * 1000, "x" * 1000)
            self.assertEqual(joined(["x" * 30_000] * 2), "x" * 60_000)
        self.assertLess(budget.spent, 50_000)

    @given(st.text(max_size=12))
    def test_only_short_numbers_of_plain_digits_are_numbers(self, text: str) -> None:
        plain = text.isascii() and text.isdigit()
        self.assertEqual(whole_number(text), int(text) if plain else None)
        self.assertIsNone(whole_number("9" * 5000))


class PatternsTest(unittest.TestCase):
    @given(
        st.lists(st.sampled_from(PIECES), max_size=6).map(lambda pieces: "^" + "".join(pieces)),
        st.text("ab/", max_size=4),
    )
    @settings(max_examples=1000)
    def test_what_a_pattern_is_found_in_begins_as_is_told(self, pattern: str, subject: str) -> None:
        try:
            compiled = regex.compile(pattern)
        except regex.error:
            return
        if compiled.search(subject) is not None:
            self.assertTrue(subject.startswith(literal_start(pattern)), (pattern, literal_start(pattern)))

    @given(st.lists(st.sampled_from(PIECES), max_size=12).map("".join))
    def test_a_pattern_is_no_smaller_than_it_is_written(self, pattern: str) -> None:
        self.assertGreaterEqual(size_of(pattern), len(pattern))

    def test_what_is_repeated_counts_as_often(self) -> None:
        for pattern, size in (
            ("a{500}", 500),
            ("(ab){500}", 1000),
            ("((a{50}){50}){50}", 20_000),
            ("[a-z]{99999999999}", 20_000),
        ):
            self.assertGreaterEqual(size_of(pattern), size, pattern)

    def test_a_match_that_does_not_end_is_unknown_and_tried_once(self) -> None:
        endless = mock.Mock()
        endless.search.side_effect = TimeoutError
        with Budget() as budget, mock.patch("rupex.servers.common.patterns._compiled", return_value=endless):
            for _ in range(50):
                self.assertRaises(UndeterminedError, search, "^(a+)+$", "aaab")
        self.assertEqual(endless.search.call_count, 1)
        self.assertLess(budget.spent, 2_000_000)

    @given(
        st.lists(
            st.tuples(
                st.sampled_from(("/", "/a", "/a/", "/a/b", "//a", "/b")), st.sampled_from(("^/a", "/b$", "^/b/", "a|b"))
            ),
            max_size=9,
        ),
        st.text("ab/", max_size=7),
    )
    def test_no_section_that_is_meant_is_left_out(self, items: list[tuple[str, str]], tail: str) -> None:
        path = "/" + tail
        bare = regex.sub("//+", "/", path)
        prefixes = PathIndex([start for start, _ in items], lambda start: start, lambda start: "")
        for start, _ in items:
            whole = regex.sub("//+", "/", start).rstrip("/")
            if bare == whole or bare.startswith(whole + "/"):
                self.assertIn(start, prefixes.candidates(path))
        patterns = PathIndex([pattern for _, pattern in items], lambda _: None, lambda pattern: pattern)
        for _, pattern in items:
            if regex.search(pattern, path):
                self.assertIn(pattern, patterns.candidates(path))


class NothingIsCutOffTest(TreeTest):
    def test_what_is_left_undone_is_one_problem_and_unknown(self) -> None:
        locations = "\n".join(f"location /l{number} {{ add_header X-L {number}; }}" for number in range(300))
        self.write_nginx(f"server {{ listen 80; server_name a.test; {locations} }}")
        with mock.patch.object(bounds, "HOST_STEPS", 20_000), mock.patch.object(bounds, "STEPS_A_CHARACTER", 0):
            document = self.assess()
        (problem,) = document.problems
        self.assertEqual(problem.kind, "bound")
        self.assertIn("20,000 steps", problem.message)
        self.assertIn("stopped at nginx:0.0.0.0:80/a.test", problem.message)
        unknown = {check.control for check in document.checks if check.counts.unknown}
        self.assertLessEqual({"surface.methods", "transport.tls.listener"}, unknown)

    def test_a_question_has_a_budget_of_its_own(self) -> None:
        locations = "\n".join(f"location /l{number} {{ add_header X-L {number}; }}" for number in range(300))
        self.write_nginx(f"server {{ listen 80; server_name a.test; {locations} location /x {{ return 410; }} }}")
        request = Request(scheme="http", name="a.test", port=80, path="/x")
        with mock.patch.object(bounds, "HOST_STEPS", 20_000), mock.patch.object(bounds, "STEPS_A_CHARACTER", 0):
            evidence = self.gather()
            found = evidence.answer(request)
        self.assertEqual([problem.kind for problem in evidence.host.problems], ["bound"])
        self.assertEqual(None if found is None else found[1].status, 410)
        evidence = Evidence(evidence.host, evidence.configurations, Budget(1))
        found = evidence.answer(request)
        self.assertIn("more than 1 steps", "" if found is None else found[1].unknown or "")

    def test_every_backend_counts(self) -> None:
        members = "\n".join(f"server 127.0.0.1:{8000 + number};" for number in range(200))
        self.write_nginx(
            f"upstream u {{ {members} server 203.0.113.9:80; }} server {{ listen 80; location / {{ proxy_pass http://u; }} }}"
        )
        legs = [
            leg
            for endpoint in self.gather().host.endpoints
            for scope in endpoint.scopes
            if scope.upstream
            for leg in scope.upstream.backends
        ]
        self.assertEqual((len(legs), legs[-1].address), (201, "203.0.113.9"))

    def test_every_member_of_a_balancer_counts(self) -> None:
        members = "\n".join(f"BalancerMember http://127.0.0.1:{8000 + number}" for number in range(100))
        site = (
            f"<Proxy balancer://b>\n{members}\nBalancerMember http://203.0.113.9\n</Proxy>\nProxyPass / balancer://b/\n"
        )
        self.write({"etc/apache2/apache2.conf": f"ServerName a.test\nListen 80\n{MODULES}{site}"})
        (endpoint,) = self.gather().host.endpoints
        upstream = endpoint.scopes[0].upstream
        self.assertEqual([leg.address for leg in upstream.backends if upstream][-1] if upstream else "", "203.0.113.9")

    def test_every_header_counts(self) -> None:
        headers = "\n".join(f"add_header X-H{number} v;" for number in range(700))
        self.write_nginx(
            f"server {{ listen 80; {headers} add_header Content-Security-Policy \"default-src 'self'\"; root /srv; }}"
        )
        (endpoint,) = self.gather().host.endpoints
        self.assertIn("Content-Security-Policy", [header.name for header in endpoint.scopes[0].headers])

    def test_override_files_are_found_however_deep_or_told_to_be_unseen(self) -> None:
        site = "Listen 80\nDocumentRoot /srv/site\n<Directory /srv>\nAllowOverride All\n</Directory>\n"
        self.write({"etc/apache2/apache2.conf": f"ServerName a.test\n{MODULES}{site}"})
        deep = "srv/site/a.b/c/d/e/f/g/h/i"
        self.write({f"{deep}/.htaccess": "Header set X-Deep v\n", "srv/site/index.html": ""})
        (endpoint,) = self.gather().host.endpoints
        self.assertIn(f"/{deep.removeprefix('srv/site/')}/", [scope.path for scope in endpoint.scopes])
        self.write({f"srv/site/z/{number}": "" for number in range(40)})
        with mock.patch("rupex.servers.common.document_roots._MOST_ENTRIES", 30):
            (endpoint,) = self.gather().host.endpoints
        unseen = [scope.undecided for scope in endpoint.scopes if scope.path == "/…"]
        self.assertEqual(len(unseen), 1)
        self.assertIn("more than 30 files and folders", unseen[0] or "")
        (self.root / "srv/site/loop").symlink_to(".")
        self.assertEqual(len(self.gather().host.endpoints), 1)

    def test_long_chains_of_maps(self) -> None:
        maps = "\n".join(f"map $m{number} $m{number + 1} {{ default $m{number}; }}" for number in range(300))
        self.write_nginx(f"{maps} server {{ listen 80; server_name a.test; return 301 https://$m300/; }}")
        (endpoint,) = self.gather().host.endpoints
        self.assertIsNotNone(endpoint.scopes[0].undecided)

    def test_variables_that_go_in_circles_and_expressions_without_end(self) -> None:
        circle = "set $a $b; set $b $c; set $c $a; return 301 https://$a$uri;"
        maps = "map $x $y { default $z; } map $y $z { default $x; } map $z $x { default $y; }"
        self.write_nginx(
            f"{maps} server {{ listen 80; server_name a.test; {circle} }} server {{ listen 81; return 301 https://$x/; }}"
        )
        nested = "(" * 3000 + "true" + ")" * 3000
        site = (
            f'Listen 82\n<If "{nested}">\nHeader set X-A b\n</If>\n<If "{"! " * 3000}true">\nHeader set X-B b\n</If>\n'
        )
        self.write({"etc/apache2/apache2.conf": f"ServerName a.test\n{MODULES}{site}"})
        done = rupex("audit", self.root, "--format", "json")
        self.assertIn(done.returncode, (0, 3), done.stderr)
        self.assertEqual(len(valid_document(done.stdout)["hosts"][0]["endpoints"]), 3)


if __name__ == "__main__":
    unittest.main()
