"""XML with the span of everything that stands in it: text to a tree, by a small reader of our own.

Follows XML 1.0 (fifth edition) without what a document type can define: a declaration of one is passed over, and of entities
there are the five of section 4.6 and references to characters. Names keep no prefix (Namespaces in XML 1.0). What is not well
formed is an error with its place, as for the parsers that servers use.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterator
from typing import Final

from msgspec import Struct

from rupex.model import bounds
from rupex.servers.common.source import SourceText, Span

_START: Final = (
    ":A-Z_a-z\u00c0-\u00d6\u00d8-\u00f6\u00f8-\u02ff\u0370-\u037d\u037f-\u1fff\u200c-\u200d\u2070-\u218f\u2c00-\u2fef"
    "\u3001-\ud7ff\uf900-\ufdcf\ufdf0-\ufffd\U00010000-\U000effff"
)
_NAME: Final = rf"[{_START}][{_START}.0-9\u00b7\u0300-\u036f\u203f-\u2040-]*+"
_DECLARATION: Final = re.compile(
    r"<\?xml[ \t\r\n]+version[ \t\r\n]*=[ \t\r\n]*(?:\"1\.[0-9]+\"|'1\.[0-9]+')"
    r"(?:[ \t\r\n]+encoding[ \t\r\n]*=[ \t\r\n]*(?:\"([A-Za-z][\w.-]*)\"|'([A-Za-z][\w.-]*)'))?"
    r"(?:[ \t\r\n]+standalone[ \t\r\n]*=[ \t\r\n]*(?:\"(?:yes|no)\"|'(?:yes|no)'))?[ \t\r\n]*\?>",
    re.ASCII,
)
_COMMENT: Final = re.compile(r"<!--((?:(?!--)[\s\S])*+)-->")
_CDATA: Final = re.compile(r"<!\[CDATA\[((?:(?!\]\]>)[\s\S])*+)\]\]>")
_INSTRUCTION: Final = re.compile(rf"<\?({_NAME})(?:[ \t\r\n](?:(?!\?>)[\s\S])*+)?\?>")
_DOCTYPE: Final = re.compile(
    rf"<!DOCTYPE[ \t\r\n]+{_NAME}(?:[^\[>\"']++|\"[^\"]*+\"|'[^']*+')*+"
    r"(?:\[(?:[^\]\"'<]++|\"[^\"]*+\"|'[^']*+'|<!--(?:(?!-->)[\s\S])*+-->"
    r"|<[!?](?:[^>\"']++|\"[^\"]*+\"|'[^']*+')*+>)*+\][ \t\r\n]*)?>"
)
_END: Final = re.compile(rf"</({_NAME})[ \t\r\n]*>")
_BEGIN: Final = re.compile(rf"<({_NAME})")
_ATTRIBUTE: Final = re.compile(rf"[ \t\r\n]+({_NAME})[ \t\r\n]*=[ \t\r\n]*(?:\"([^<\"]*+)\"|'([^<']*+)')")
_CLOSE: Final = re.compile(r"[ \t\r\n]*(/?)>")
_TEXT: Final = re.compile(r"[^<]++")
_REFERENCE: Final = re.compile(rf"&(?:#([0-9]{{1,8}})|#x([0-9A-Fa-f]{{1,8}})|({_NAME}));")
_FORBIDDEN: Final = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
_ENTITIES: Final = {"lt": "<", "gt": ">", "amp": "&", "apos": "'", "quot": '"'}


class XmlError(Exception):
    """The text is no XML that can be read; ``line`` counts from 1."""

    def __init__(self, message: str, line: int) -> None:
        super().__init__(message, line)
        self.message, self.line = message, line


class Attribute(Struct, frozen=True):
    """An attribute.

    ``name``: without its prefix; of a declaration of a namespace whole.
    ``value``: with references filled in.
    ``name_span``, ``value_span``: where they stand, the value without its quotes.
    """

    name: str
    value: str
    name_span: Span
    value_span: Span


class Node(Struct):
    """An element.

    ``name``: without its prefix.
    ``attributes``: in order, by name without prefix; of two the last one counts.
    ``text``: what stands directly in it, references filled in, up to its first child.
    ``children``: the elements in it.
    ``name_span``: its name in the start tag.
    ``start_tag``, ``end_tag``: whole; an element without content has the same span twice.
    """

    name: str
    attributes: list[Attribute]
    name_span: Span
    start_tag: Span
    end_tag: Span
    text: str = ""
    children: list[Node] = []

    @property
    def settings(self) -> dict[str, str]:
        """Its attributes but for declarations of namespaces, by name."""
        return {one.name: one.value for one in self.attributes if not one.name.startswith("xmlns")}


class Document(Struct):
    """A file: its ``root``, and where what is no element stands: comments, instructions, declarations, text, in order."""

    source: SourceText
    root: Node
    others: list[Span]


def decode_xml(content: bytes) -> str:
    """The text of a file, by its mark or its declaration (XML 1.0, appendix F). Raises :class:`XmlError`."""
    for mark, encoding in (
        (codecs.BOM_UTF8, "utf-8"),
        (codecs.BOM_UTF16_LE, "utf-16-le"),
        (codecs.BOM_UTF16_BE, "utf-16-be"),
    ):
        if content.startswith(mark):
            return "\ufeff" + _decoded(content[len(mark) :], encoding)
    declared = _DECLARATION.match(content[:1024].decode("latin-1"))
    name = "" if declared is None else declared[1] or declared[2] or ""
    try:
        codec = codecs.lookup(name or "utf-8")
    except LookupError:
        raise XmlError(f"the encoding {name[:40]} is not known", 1) from None
    if not getattr(codec, "_is_text_encoding", True) or codec.name.startswith(
        ("utf-16", "utf-32", "utf-7", "idna", "punycode")
    ):
        raise XmlError(f"it says that its encoding is {name[:40]}, which it is not", 1)
    return _decoded(content, codec.name)


def _decoded(content: bytes, encoding: str) -> str:
    try:
        return content.decode(encoding)
    except UnicodeDecodeError as error:
        line = content[: error.start].decode(encoding, "replace").count("\n") + 1
        raise XmlError(f"bytes that are no {encoding}", line) from None


def parse(path: str, text: str) -> Document:
    """Read one file. Raises :class:`XmlError`."""
    return _Reader(SourceText(path, text)).document()


class _Reader:
    def __init__(self, source: SourceText) -> None:
        self.source, self.text = source, source.text
        self.others: list[Span] = []
        self.may_define = False

    def _fail(self, message: str, offset: int) -> XmlError:
        return XmlError(message, self.source.position(min(offset, len(self.text)))[0])

    def document(self) -> Document:
        odd = _FORBIDDEN.search(self.text)
        if odd is not None and odd.start() > 0:
            raise self._fail("a character that XML does not allow", odd.start())
        position = 1 if self.text.startswith("\ufeff") else 0
        declaration = _DECLARATION.match(self.text, position)
        if declaration is not None:
            self.others.append(Span(*declaration.span()))
            position = declaration.end()
        root: Node | None = None
        while position < len(self.text):
            if self.text[position] != "<":
                end = _TEXT.match(self.text, position).end()  # type: ignore[union-attr]  # matches anything
                if self.text[position:end].strip(" \t\r\n"):
                    raise self._fail("text outside of the root element", position)
                position = end
            elif (behind := self._aside(position, in_prolog=root is None)) is not None:
                position = behind
            elif root is not None:
                raise self._fail("more than one root element", position)
            else:
                root, position = self._element(position)
        if root is None:
            raise self._fail("no element in it", len(self.text))
        return Document(self.source, root, self.others)

    def _aside(self, position: int, *, in_prolog: bool) -> int | None:
        """The offset behind a comment, an instruction or a document type; None where there is none of them."""
        patterns: list[re.Pattern[str]] = [_COMMENT, _INSTRUCTION, *([_DOCTYPE] if in_prolog else [])]
        for pattern in patterns:
            found = pattern.match(self.text, position)
            if found is not None:
                if pattern is _INSTRUCTION and found[1].lower() == "xml":
                    raise self._fail("an XML declaration that is not at the beginning", position)
                self.may_define = self.may_define or (pattern is _DOCTYPE)
                self.others.append(Span(*found.span()))
                return found.end()
        return None

    def _element(self, position: int) -> tuple[Node, int]:
        """The element whose start tag is at ``position``, and the offset behind it."""
        root, position, is_empty = self._start_tag(position)
        open_nodes = [] if is_empty else [root]
        texts: list[list[str]] = [[]]
        while open_nodes:
            node = open_nodes[-1]
            if position >= len(self.text):
                raise self._fail(f"<{node.name}> is not closed", node.start_tag.start)
            if self.text[position] != "<":
                end = _TEXT.match(self.text, position).end()  # type: ignore[union-attr]  # matches anything
                if "]]>" in self.text[position:end]:
                    raise self._fail("]]> in a text", position)
                self._add(texts[-1], node, self._filled(position, end))
                if self.text[position:end].strip(" \t\r\n"):
                    self.others.append(Span(position, end))
                position = end
                continue
            closing, data = _END.match(self.text, position), _CDATA.match(self.text, position)
            if closing is not None:
                if _local(closing[1]) != node.name or closing[1] != self._written_name(node):
                    raise self._fail(f"</{closing[1]}> where </{self._written_name(node)}> is due", position)
                node.end_tag = Span(*closing.span())
                node.text = "".join(texts.pop()).strip()
                open_nodes.pop()
                position = closing.end()
            elif data is not None:
                self._add(texts[-1], node, data[1])
                self.others.append(Span(*data.span()))
                position = data.end()
            elif (behind := self._aside(position, in_prolog=False)) is not None:
                position = behind
            else:
                if len(open_nodes) > bounds.NESTING:
                    raise self._fail(f"more than {bounds.NESTING} elements in each other", position)
                child, position, is_empty = self._start_tag(position)
                node.children.append(child)
                if not is_empty:
                    open_nodes.append(child)
                    texts.append([])
        return root, position

    @staticmethod
    def _add(texts: list[str], node: Node, text: str) -> None:
        if not node.children:
            texts.append(text)

    def _written_name(self, node: Node) -> str:
        return node.name_span.of(self.text)

    def _start_tag(self, position: int) -> tuple[Node, int, bool]:
        begin = _BEGIN.match(self.text, position)
        if begin is None:
            raise self._fail("a < that begins no element", position)
        attributes: list[Attribute] = []
        names = set()
        end = begin.end()
        while (found := _ATTRIBUTE.match(self.text, end)) is not None:
            if found[1] in names:
                raise self._fail(f"the attribute {found[1]} stands twice in it", found.start(1))
            names.add(found[1])
            group = 2 if found[2] is not None else 3
            value = self._filled(*found.span(group), is_attribute=True)
            name = found[1] if found[1].startswith("xmlns") else _local(found[1])
            attributes.append(Attribute(name, value, Span(*found.span(1)), Span(*found.span(group))))
            end = found.end()
        close = _CLOSE.match(self.text, end)
        if close is None:
            raise self._fail(f"the start tag of {begin[1]} cannot be read", end)
        tag = Span(position, close.end())
        node = Node(_local(begin[1]), attributes, Span(*begin.span(1)), tag, tag)
        return node, close.end(), bool(close[1])

    def _filled(self, start: int, end: int, *, is_attribute: bool = False) -> str:
        """A text with its line ends as one character (2.11), in an attribute as blanks (3.3.3), and references filled in."""
        written = self.text[start:end].replace("\r\n", "\n").replace("\r", "\n")
        if is_attribute:
            written = written.replace("\n", " ").replace("\t", " ")
        if "&" not in written:
            return written
        if "&" in _REFERENCE.sub("", written):
            raise self._fail("an & that begins no reference", start)

        def value(found: re.Match[str]) -> str:
            if found[3] is None:
                code = int(found[1]) if found[1] is not None else int(found[2], 16)
                if code > 0x10FFFF or 0xD800 <= code < 0xE000 or _FORBIDDEN.match(chr(code)):
                    raise self._fail("a reference to a character that XML does not allow", start)
                return chr(code)
            if found[3] in _ENTITIES:
                return _ENTITIES[found[3]]
            if self.may_define:
                return found[0]
            raise self._fail(f"the entity {found[3][:40]} is not defined", start)

        return _REFERENCE.sub(value, written)


def _local(name: str) -> str:
    return name.rpartition(":")[2]


def tokens(document: Document) -> Iterator[Span]:
    """Everything in a file that is no blank, in order: tags, and what is no element."""
    return iter(sorted({*_tags(document.root), *document.others}))


def _tags(node: Node) -> Iterator[Span]:
    waiting = [node]
    while waiting:
        one = waiting.pop()
        yield one.start_tag
        yield one.end_tag
        waiting += one.children
