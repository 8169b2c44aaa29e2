"""Our own reader of XML, held against libxml2: the same trees, the same files refused; and spans of everything."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Final

from hypothesis import example, given
from hypothesis import strategies as some
from lxml import etree

from rupex.servers.common.source import edited
from rupex.servers.common.xml import Node, XmlError, decode_xml, parse, tokens
from rupex.servers.tomcat.syntax import parse_xml

TESTS = Path(__file__).parent
PACKAGED: Final = (
    "etc/tomcat*/**/*.xml", "usr/share/tomcat*/**/*.xml", "var/lib/tomcat*/**/*.xml", "etc/fonts/**/*.conf",
    "usr/lib/firewalld/**/*.xml", f"{TESTS}/tomcat_cases/**/*.xml",
)  # fmt: skip
PIECES: Final = (
    "<a>", "</a>", "<b x='1'/>", "<b y=\"2\">", "</b>", "text", " ", "\n", "&amp;", "&lt;", "&#65;", "&#x1F600;", "&e;", "&",
    "<!-- c -->",
    "<![CDATA[<x>]]>", "<?pi x?>", "]]>", "<", ">", "é", "\t", "\r\n", "<c a='1' a='2'/>", "<c a='<'/>", "<c a=' x\ny '/>",
    "<!-- -- -->",
    "<c a=\"'\" b='\"'/>", "<c a='&quot;&#10;'/>", "\x01", "</a >", "<c a = '1' />", "<c a='1'b='2'/>",
)  # fmt: skip
HEADS: Final = (
    "", "<?xml version='1.0'?>", '<?xml version="1.0" encoding="UTF-8"?>\n', "<!DOCTYPE a>", '<!DOCTYPE a SYSTEM "x.dtd">',
    "<!-- c -->",
    "<!DOCTYPE a [<!ELEMENT a ANY><!-- ]> --><!ATTLIST a x CDATA '>'>]>", " ", "\ufeff",
)  # fmt: skip

Tree = tuple[str, dict[str, str], str, list[Any]]


def ours(content: bytes) -> Tree | None:
    try:
        return _tree(parse("f", decode_xml(content)).root)
    except XmlError:
        return None


def _tree(node: Node) -> Tree:
    return node.name, node.settings, node.text, list(map(_tree, node.children))


def _every(node: Node) -> Iterator[Node]:
    yield node
    for child in node.children:
        yield from _every(child)


def theirs(content: bytes) -> Tree | None:
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, remove_comments=True, remove_pis=True, huge_tree=True
    )
    try:
        root = etree.fromstring(content, parser)
    except (etree.XMLSyntaxError, ValueError):
        return None
    return None if root is None else _their_tree(root)


def _their_tree(node: etree._Element) -> Tree:
    attributes = {str(name).rpartition("}")[2]: str(value) for name, value in node.attrib.items()}
    children = [_their_tree(child) for child in node if isinstance(child.tag, str)]
    return str(node.tag).rpartition("}")[2], attributes, (node.text or "").strip(), children


def packaged() -> Iterator[Path]:
    for pattern in PACKAGED:
        yield from (path for path in sorted(Path("/").glob(pattern.lstrip("/"))) if path.is_file())


class XmlTest(unittest.TestCase):
    def test_packaged_files_are_read_as_libxml2_reads_them(self) -> None:
        files = list(packaged())
        self.assertGreater(len(files), 60)
        for file in files:
            content = file.read_bytes()
            with self.subTest(file.name):
                self.assertEqual(ours(content), theirs(content))
                self.check_spans(decode_xml(content))

    @given(some.sampled_from(HEADS), some.lists(some.sampled_from(PIECES)).map("".join), some.sampled_from(HEADS))
    @example("", "<c a=' x\ny '/>", "")
    @example(HEADS[6], "x", "")
    def test_random_texts_are_read_as_libxml2_reads_them(self, head: str, inside: str, tail: str) -> None:
        text = f"{head}<a>{inside}</a>{tail}"
        content = text.encode()
        if "&e;" not in text and "DOCTYPE" not in tail:  # of what a document type may define we know nothing
            self.assertEqual(ours(content), theirs(content), text)
        if ours(content) is not None:
            self.check_spans(text)

    def check_spans(self, text: str) -> None:
        document = parse("f", text)
        behind = 0
        for span in tokens(document):
            self.assertGreaterEqual(span.start, behind, text)
            self.assertEqual(text[behind : span.start].strip(" \t\r\n\ufeff"), "", text)
            behind = span.end
        self.assertEqual(text[behind:].strip(" \t\r\n"), "", text)
        for node in _every(document.root):
            self.assertTrue(node.name_span.of(text).endswith(node.name))
            for attribute in node.attributes:
                self.assertTrue(attribute.name_span.of(text).endswith(attribute.name))
                self.assertIn(text[attribute.value_span.start - 1], "\"'")
                changed = parse("f", edited(text, [(attribute.value_span, "new")]))
                values = [one.value for node in _every(changed.root) for one in node.attributes]
                self.assertEqual(values.count("new"), 1)

    def test_encodings_that_a_file_says_it_has(self) -> None:
        for about, content, value in (
            ("Latin-1", '<?xml version="1.0" encoding="ISO-8859-1"?><a x="é"/>'.encode("latin-1"), "é"),
            ("UTF-8 by default", '<a x="é"/>'.encode(), "é"),
            ("a mark", "\ufeff<a x='é'/>".encode(), "é"),
            ("UTF-16", "\ufeff<a x='é'/>".encode("utf-16-le"), "é"),
            ("UTF-16, the other way", "\ufeff<a x='é'/>".encode("utf-16-be"), "é"),
            ("not what it says", '<?xml version="1.0" encoding="UTF-8"?><a x="é"/>'.encode("latin-1"), None),
            ("UTF-16 without a mark", b'<?xml version="1.0" encoding="UTF-16"?><a/>', None),
            ("no encoding", b'<?xml version="1.0" encoding="rot13"?><a/>', None),
            ("an unknown one", b'<?xml version="1.0" encoding="xyzzy"?><a/>', None),
        ):
            with self.subTest(about):
                found = ours(content)
                self.assertEqual(None if found is None else found[1].get("x"), value)

    def test_lines_and_columns_are_those_of_the_start_tag(self) -> None:
        element = parse_xml("f", b"<Server>\n  <Service\n   name='a'>\n </Service></Server>", {})
        place = element.children[0].provenance()
        self.assertEqual((place.file, place.line, place.column), ("f", 2, 3))

    def test_what_is_wrong_is_told_with_its_line(self) -> None:
        for text, line, words in (
            ("<a>\n<b></a>", 2, "</b> is due"),
            ("<a>", 1, "not closed"),
            ("<a\n x=1/>", 1, "cannot be read"),
            ("<a>&nbsp;</a>", 1, "not defined"),
            ("<a/>\n<b/>", 2, "more than one root"),
            ("", 1, "no element"),
            ("<a>" * 300, 1, "in each other"),
        ):
            with self.subTest(text[:20]), self.assertRaises(XmlError) as caught:
                parse("f", text)
            self.assertEqual((caught.exception.line, words in caught.exception.message), (line, True), caught.exception)


if __name__ == "__main__":
    unittest.main()
