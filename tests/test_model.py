"""The words of the model that families and controls share."""

from __future__ import annotations

import unittest

from msgspec import UNSET

from rupex.model import Backend, Condition, Provenance, Scope, Setting, Upstream, Words
from rupex.model.endpoint import Match
from rupex.model.templates import filler, name_stand_in, path_stand_in

HERE = Provenance("explicit", "f", 1, 1)


def scope(match: Match, path: str = "", *when: Condition) -> Scope:
    return Scope(id="x", match=match, path=path, order=0, provenance=HERE, when=when or UNSET)


class ScopeTest(unittest.TestCase):
    def test_what_is_the_site_itself(self) -> None:
        for about, found, is_root in (
            ("all of it", scope("any"), True),
            ("its root", scope("prefix", "/"), True),
            ("a part", scope("prefix", "/a/"), False),
            ("one page", scope("exact", "/"), False),
            ("under some names", scope("condition", "", Condition("host", "a.test, b.test")), True),
            ("under all but one name", scope("rule", "", Condition("host", "a.test", negated=True)), False),
            ("a rule for all paths", scope("rule", "", Condition("host", "a.test"), Condition("path", "/")), True),
            ("a rule for some paths", scope("rule", "", Condition("host", "a.test"), Condition("path", "/a")), False),
            ("for some methods", scope("rule", "", Condition("method", "POST")), False),
            ("for who sends a header", scope("rule", "", Condition("header", "1", "X-A")), False),
            ("for some clients", scope("rule", "", Condition("source", "192.0.2.0/24")), False),
            ("for what only the server understands", scope("condition", "", Condition("other", "x")), False),
        ):
            with self.subTest(about):
                self.assertEqual(found.is_root, is_root)


class UpstreamTest(unittest.TestCase):
    def test_a_machine_of_its_own_verification(self) -> None:
        own = Backend("a.test", True, HERE, verify=Setting(False, HERE))
        usual = Backend("b.test", True, HERE)
        upstream = Upstream(url="x", provenance=HERE, backends=(own, usual), verified=Setting(True, HERE))
        self.assertEqual([(v := upstream.verification_of(b)) and v.value for b in upstream.backends], [False, True])


class WordsTest(unittest.TestCase):
    def test_words_are_put_in_wherever_a_stand_in_is(self) -> None:
        name, path = name_stand_in(1), path_stand_in(12)
        words = Words({name: "a.test", path: "srv/a", path_stand_in(0): "f"})
        self.assertEqual(
            words.put_in((f"https://{name}/x {path}1", "plain", 7)), ("https://a.test/x srv/a1", "plain", 7)
        )
        self.assertEqual(words.put_in(Provenance("explicit", path_stand_in(0), 2)).file, "f")
        self.assertIs(words.put_in(HERE), HERE)
        self.assertIsNone(filler(("a", HERE, 1)))

    def test_an_unknown_stand_in_stays(self) -> None:
        self.assertEqual(Words({}).put_in("x stand-in-000007 y"), "x stand-in-000007 y")


if __name__ == "__main__":
    unittest.main()
