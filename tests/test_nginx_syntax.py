"""nginx's language: words, quotes, blocks, positions, and any text at all."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rupex.servers.nginx.syntax import Directive, parse


def outline(directives: list[Directive]) -> list[object]:
    return [(d.name, *d.args) if d.children is None else ((d.name, *d.args), outline(d.children)) for d in directives]


class WordsTest(unittest.TestCase):
    def test_words_are_those_of_nginx(self) -> None:
        for case, text, expected in (
            ("a simple directive", "a b c;", [("a", "b", "c")]),
            ("quotes hold spaces and marks", "a \"b; {\" 'c d';", [("a", "b; {", "c d")]),
            ("a backslash goes before quotes and itself only", r'a "x\"y\\z\d";', [("a", 'x"y\\z\\d')]),
            ("and makes tabs and line ends", r"a x\ty\n;", [("a", "x\ty\n")]),
            ("a backslash takes the next mark along", r"a b\;c;", [("a", "b\\;c")]),
            ("a hash inside a word is no comment", "a b#c; # d", [("a", "b#c")]),
            ("a quote inside a word belongs to it", 'a b"c;', [("a", 'b"c')]),
            ("a closing brace inside a word belongs to it", "a b}c;", [("a", "b}c")]),
            ("braces behind a dollar open no block", "a ${b}c;", [("a", "${b}c")]),
            ("an empty word", 'a "";', [("a", "")]),
            (
                "a closing parenthesis may follow a quote",
                'if ($a = "b") { c; }',
                [(("if", "($a", "=", "b", ")"), [("c",)])],
            ),
            ("blocks in blocks", "a { b { c; } d; }", [(("a",), [(("b",), [("c",)]), ("d",)])]),
            ("a block needs no space", "a{b;}", [(("a",), [("b",)])]),
        ):
            with self.subTest(case):
                parsed = parse("f", text)
                self.assertIsNone(parsed.problem)
                self.assertEqual(outline(parsed.directives), expected)

    def test_a_lua_block_is_kept_whole(self) -> None:
        lua = """ local t = { a = "}" } -- }
          if x then ngx.say([[ } ]]) end """
        parsed = parse("f", f"location / {{ content_by_lua_block {{{lua}}} return 200; }}")
        self.assertIsNone(parsed.problem)
        inside = parsed.directives[0].children or []
        self.assertEqual(inside[0].foreign, lua)
        self.assertEqual(inside[1].name, "return")

    def test_what_breaks_the_grammar_is_told_with_its_line_and_keeps_what_stands_before(self) -> None:
        for case, text, line, before in (
            ("a missing semicolon at the end", "a b;\nc d", 2, 1),
            ("a block left open", "a;\nb {\nc;\n", 2, 2),
            ("a brace too many", "a;\n}\n", 2, 1),
            ("a quote left open", 'a;\nb "c;\n', 2, 1),
            ("something behind a quote", 'a;\nb "c"d;', 2, 1),
            ("an empty directive", "a;\n;", 2, 1),
            ("a semicolon missing before a brace", "a {\nb c }\n", 2, 1),
        ):
            with self.subTest(case):
                parsed = parse("f", text)
                assert parsed.problem is not None
                self.assertEqual(parsed.problem.line, line)
                self.assertEqual(len(parsed.directives), before)

    def test_positions_count_lines_and_columns_from_one(self) -> None:
        for case, text in (("LF", "a;\n  bc d;\n"), ("CRLF", "a;\r\n  bc d;\r\n")):
            with self.subTest(case):
                place = parse("f", text).directives[1].provenance()
                self.assertEqual((place.file, place.line, place.column), ("f", 2, 3))

    def test_a_million_braces_end_at_the_bound(self) -> None:
        problem = parse("f", "a{" * 1_000_000).problem
        assert problem is not None
        self.assertTrue(problem.bound)


class AnyTextTest(unittest.TestCase):
    @given(st.text(alphabet=st.sampled_from("ab $;{}\"'\\#\n\t()é"), max_size=60))
    def test_any_text_is_read_without_an_error_and_spans_cut_the_words_out(self, text: str) -> None:
        parsed = parse("f", text)
        waiting = list(parsed.directives)
        while waiting:
            directive = waiting.pop()
            waiting += directive.children or []
            words = (directive.name, *directive.args)
            self.assertEqual(len(directive.spans), 2 * len(words))
            for index, word in enumerate(words):
                written = text[directive.spans[2 * index] : directive.spans[2 * index + 1]]
                if "\\" not in written:
                    self.assertEqual(written[1:-1] if written[:1] in ("'", '"') else written, word)


if __name__ == "__main__":
    unittest.main()
