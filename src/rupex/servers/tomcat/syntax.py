"""Tomcat's XML files: text to elements with their lines; entities and network off, ``${…}`` filled in from known properties.

Attribute values hold ``${name}`` and, since 9.0.x, ``${name:-otherwise}`` (org.apache.tomcat.util.IntrospectionUtils).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Final

from msgspec import Struct

from rupex.model import Provenance, bounds
from rupex.model.budget import UndeterminedError, filled

if TYPE_CHECKING:
    from lxml import etree

_PROPERTY = re.compile(r"\$\{([^}:]{1,200})(?::-([^}]*))?\}")
_LINE = re.compile(r"^[ \t]*([^#!\s=:]+)[ \t]*[=:][ \t]*(.*)$", re.MULTILINE)


_LONGEST_TAG: Final = 200
"""Lines of one start tag."""
_LONGEST_LINE: Final = 10_000
"""Characters of a line that is looked through for a start tag; what is longer was written by a program."""


class XmlError(Exception):
    """The text is no XML that can be read; ``line`` counts from 1."""

    def __init__(self, message: str, line: int) -> None:
        super().__init__(message, line)
        self.message, self.line = message, line


class Element(Struct, frozen=True):
    """An element without its namespace: ``name``, ``attributes`` filled in, direct ``text``, ``children``, and its line."""

    name: str
    attributes: Mapping[str, str]
    text: str
    children: tuple[Element, ...]
    path: str
    line: int

    def get(self, name: str, otherwise: str = "") -> str:
        return self.attributes.get(name, otherwise)

    def flag(self, name: str, *, otherwise: bool = False) -> bool:
        value = self.attributes.get(name)
        return otherwise if value is None else value.strip().lower() in ("true", "yes")

    def all(self, *names: str) -> Iterator[Element]:
        return (child for child in self.children if child.name in names)

    def first(self, name: str) -> Element | None:
        return next(self.all(name), None)

    def text_of(self, name: str) -> str:
        found = self.first(name)
        return "" if found is None else found.text

    def provenance(self, note: str | None = None) -> Provenance:
        return Provenance("explicit", self.path, self.line, 1, note)


def parse_xml(path: str, content: bytes, properties: Mapping[str, str]) -> Element:
    """Read one file. Raises :class:`XmlError`."""
    from lxml import etree

    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, remove_comments=True, remove_pis=True
    )
    try:
        root = etree.fromstring(content, parser)
    except etree.XMLSyntaxError as error:
        raise XmlError(error.msg or "no XML", error.lineno or 1) from None
    except ValueError as error:
        raise XmlError(str(error), 1) from None
    if root is None:
        raise XmlError("no XML", 1)
    lines = content.decode("utf-8", "replace").split("\n")
    return _element(root, path, properties, lines, 0)


def _element(node: etree._Element, path: str, properties: Mapping[str, str], lines: list[str], depth: int) -> Element:
    if depth > bounds.NESTING:
        raise XmlError(f"more than {bounds.NESTING} elements in each other", node.sourceline or 1)
    try:
        attributes = {_local(str(name)): with_properties(str(value), properties) for name, value in node.attrib.items()}
        text = with_properties((node.text or "").strip(), properties)
    except UndeterminedError as undetermined:
        words = f"what {_local(str(node.tag))} says with properties filled in: {undetermined.why}"
        raise XmlError(words, node.sourceline or 1) from None
    children = tuple(
        _element(child, path, properties, lines, depth + 1) for child in node if isinstance(child.tag, str)
    )
    name = _local(str(node.tag))
    return Element(name, attributes, text, children, path, _first_line(name, node.sourceline or 1, lines))


def _first_line(name: str, last: int, lines: list[str]) -> int:
    """The line in which a start tag begins; the parser tells the one in which it ends."""
    for number in range(min(last, len(lines)), max(0, last - _LONGEST_TAG), -1):
        if len(lines[number - 1]) > _LONGEST_LINE:
            break
        if f"<{name}" in lines[number - 1] or f":{name}" in lines[number - 1]:
            return number
    return last


def _local(name: str) -> str:
    return name.rpartition("}")[2]


def with_properties(text: str, properties: Mapping[str, str]) -> str:
    """``text`` with the properties that are known filled in; others stay as they are. Raises
    :class:`~rupex.model.budget.UndeterminedError`."""
    if "${" not in text:
        return text
    return filled(
        _PROPERTY, lambda found: properties.get(found[1], found[2] if found[2] is not None else found[0]), text
    )


def parse_properties(text: str) -> dict[str, str]:
    """A properties file, in its simplest forms; lines are joined at a backslash."""
    return {name: value.strip() for name, value in _LINE.findall(re.sub(r"\\\r?\n[ \t]*", "", text))}
