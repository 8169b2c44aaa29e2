"""The text of a configuration and its spans: nothing in a file is outside of them, and an edit changes nothing else."""

from __future__ import annotations

import string
import unittest
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, Final

from hypothesis import given
from hypothesis import strategies as some

from rupex.host import open_tree
from rupex.servers.apache import syntax as apache
from rupex.servers.apache.load import LoadedConfig
from rupex.servers.apache.load import load as load_apache
from rupex.servers.common.source import Span, decode, edited, encode
from rupex.servers.nginx import syntax as nginx
from tests.support import TreeTest

TESTS = Path(__file__).parent
PACKAGED: Final = {
    "nginx": ("/etc/nginx/**/*", f"{TESTS}/nginx_cases/*.conf"),
    "apache": ("/etc/apache2/**/*", "/usr/share/doc/apache2/examples/**/*", f"{TESTS}/apache_cases/*.conf"),
}
"""Configurations that came with packages, and our own cases."""

PIECES: Final = {
    "nginx": (
        "listen 80;", "server {", "}", ";", "# a ; { }", "\n", " ", "\t", '"a b"', "'#;'", "\\;", "a#b", "${x}", "\udcff", "é",
        "x", '"', "{",
    ),
    "apache": (
        "Listen 80", "<Directory /srv>", "</Directory>", "# c", "\n", " ", "\\\n", "\t", '"a b"', "'x'", "\\", "<", ">", "</",
        "<IfModule a>", "</IfModule>", "Header set X \\\n  y", "\udcff", "é", "\r\n", "a",
    ),
}  # fmt: skip

TOKENS: Final[dict[str, Callable[[str], tuple[list[Span], bool]]]] = {
    "nginx": lambda text: _read(nginx.parse("f", text), nginx.tokens),
    "apache": lambda text: _read(apache.parse("f", text), apache.tokens),
}
BLANK: Final = {"nginx": frozenset(" \t\r\n"), "apache": frozenset(" \t\r\n\f\v\\")}
"""What stands between tokens: for httpd also the backslash that joins two lines."""


def _read(parsed: Any, tokens: Callable[[Any], Iterator[Span]]) -> tuple[list[Span], bool]:
    return list(tokens(parsed)), getattr(parsed, "problem", None) is None


def packaged(language: str) -> Iterator[Path]:
    for pattern in PACKAGED[language]:
        for path in sorted(Path("/").glob(pattern.lstrip("/"))):
            if path.is_file():
                yield path


class SpansTest(unittest.TestCase):
    def check(self, language: str, text: str) -> None:
        spans, is_whole = TOKENS[language](text)
        behind = 0
        for span in spans:
            self.assertLessEqual(behind, span.start, (text, spans))
            self.assertLess(span.start, span.end, (text, spans))
            if is_whole:
                self.assertEqual(
                    set(text[behind : span.start]) - BLANK[language], set(), (text, text[behind : span.start])
                )
            behind = span.end
        self.assertLessEqual(behind, len(text))
        if is_whole:
            self.assertEqual(set(text[behind:]) - BLANK[language], set(), (text, text[behind:]))
        self.assertEqual(edited(text, [(span, span.of(text)) for span in spans]), text)

    @given(some.lists(some.sampled_from(PIECES["nginx"])).map("".join))
    def test_nginx(self, text: str) -> None:
        self.check("nginx", text)

    @given(some.lists(some.sampled_from(PIECES["apache"])).map("".join))
    def test_apache(self, text: str) -> None:
        self.check("apache", text)

    def test_packaged_configurations_survive_byte_for_byte(self) -> None:
        for language in PACKAGED:
            files = list(packaged(language))
            self.assertGreater(len(files), 40, language)
            for file in files:
                content = file.read_bytes()
                text = decode(content).text
                with self.subTest(file.name):
                    self.assertEqual(encode(text), content)
                    self.check(language, text)

    @given(some.binary())
    def test_any_bytes_survive(self, content: bytes) -> None:
        text, odd_line = decode(content)
        self.assertEqual(encode(text), content)
        self.assertEqual(odd_line is None, content.decode("utf-8", "ignore").encode() == content)

    @given(some.text(string.ascii_letters), some.data())
    def test_an_edit_changes_its_span_only(self, text: str, data: some.DataObject) -> None:
        cuts = sorted(data.draw(some.lists(some.integers(0, len(text)), max_size=8)))
        spans = [Span(*pair) for pair in zip(cuts[::2], cuts[1::2], strict=False)]
        words = [data.draw(some.text(max_size=3)) for _ in spans]
        made = edited(text, zip(spans, words, strict=True))
        rest, behind, moved = "", 0, 0
        for span, word in zip(spans, words, strict=True):
            rest += made[behind : span.start + moved]
            self.assertEqual(made[span.start + moved : span.start + moved + len(word)], word)
            moved += len(word) - (span.end - span.start)
            behind = span.end + moved
        kept = "".join(
            text[a.end : b.start] for a, b in zip([Span(0, 0), *spans], [*spans, Span(len(text), 0)], strict=True)
        )
        self.assertEqual(rest + made[behind:], kept)

    def test_spans_that_overlap_are_refused(self) -> None:
        for spans in ([Span(0, 2), Span(1, 3)], [Span(2, 9)], [Span(2, 1)]):
            with self.assertRaises(ValueError):
                edited("abc", [(span, "x") for span in spans])


class WordsTest(TreeTest):
    def test_words_of_nginx_as_they_are_written(self) -> None:
        text = 'server { listen 80; location ~ "a\\"b" { } }'
        server = nginx.parse("f", text).directives[0]
        assert server.children is not None
        listen, location = server.children
        self.assertEqual([span.of(text) for span in location.words], ["location", "~", '"a\\"b"'])
        self.assertEqual([s.of(text) if s else None for s in (listen.closed, listen.opened)], [";", None])
        self.assertEqual([s.of(text) if s else None for s in (location.opened, location.closed)], ["{", "}"])

    def test_words_of_httpd_as_they_are_written(self) -> None:
        text = '<Directory "/srv/a b">\n  Header  set X \\\n "a b"\n</Directory>\n'
        section = apache.parse("f", text).directives[0]
        header = section.inner[0]
        self.assertEqual([span.of(text) for span in section.words], ["Directory", '"/srv/a b"'])
        self.assertEqual([span.of(text) for span in header.words], ["Header", "set", "X", '"a b"'])
        self.assertEqual(header.written, 'set X \\\n "a b"')
        assert section.opened is not None
        assert section.closed is not None
        self.assertEqual([span.of(text) for span in (*section.opened, section.closed)], ["<", ">", "</Directory>"])

    def load(self, text: str) -> LoadedConfig:
        self.write({"etc/apache2/apache2.conf": text})
        return load_apache(open_tree(self.root).tree, "etc/apache2/apache2.conf", (2, 4, 62))

    def test_what_came_by_macros_and_definitions_says_so(self) -> None:
        config = self.load(
            "Define NAME a.test\n<Macro Host $x>\nServerName $x\nHeader set X ${NAME}\n</Macro>\nUse Host b.test\n"
        )
        name, header = config.main.named("servername")[0], config.main.named("header")[0]
        self.assertEqual((name.raw, name.written, name.line), ("b.test", "$x", 3))
        self.assertEqual([(one.name, one.line) for one in name.via], [("Use", 6)])
        self.assertEqual((header.raw, header.written), ("set X a.test", "set X ${NAME}"))
        self.assertEqual([(one.name, one.line) for one in header.via], [("Define", 1), ("Use", 6)])

    def test_odd_bytes_stay_what_they_are(self) -> None:
        (self.root / "etc/nginx").mkdir(parents=True)
        (self.root / "etc/nginx/nginx.conf").write_bytes(b"http { server { listen 80; server_name \xff.test; } }\n")
        configuration = self.gather().configurations[0]
        text = configuration.texts["etc/nginx/nginx.conf"]
        self.assertEqual(encode(text), (self.root / "etc/nginx/nginx.conf").read_bytes())
        self.assertEqual([problem.kind for problem in configuration.problems], ["encoding"])


if __name__ == "__main__":
    unittest.main()
