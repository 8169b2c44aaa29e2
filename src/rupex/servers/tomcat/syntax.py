"""Tomcat's XML files: text to elements with their lines; entities and network off, ``${…}`` filled in from known properties.

Attribute values hold ``${name}`` and, since 9.0.x, ``${name:-otherwise}`` (org.apache.tomcat.util.IntrospectionUtils).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from msgspec import Struct

from rupex.model import Provenance
from rupex.model.budget import UndeterminedError, filled
from rupex.servers.common.source import SourceText
from rupex.servers.common.xml import Node, XmlError, decode_xml, parse

_PROPERTY = re.compile(r"\$\{([^}:]{1,200})(?::-([^}]*))?\}")
_LINE = re.compile(r"^[ \t]*([^#!\s=:]+)[ \t]*[=:][ \t]*(.*)$", re.MULTILINE)


class Element(Struct, frozen=True):
    """An element without its namespace.

    ``attributes``, ``text``: with properties filled in; what is written is in ``node``.
    ``node``: the element with its spans in ``source``.
    """

    name: str
    attributes: Mapping[str, str]
    text: str
    children: tuple[Element, ...]
    source: SourceText
    node: Node

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
        return self.source.provenance(self.node.start_tag.start, note=note)


def parse_xml(path: str, content: bytes, properties: Mapping[str, str]) -> Element:
    """Read one file. Raises :class:`XmlError`."""
    document = parse(path, decode_xml(content))
    return _element(document.root, document.source, properties)


def _element(node: Node, source: SourceText, properties: Mapping[str, str]) -> Element:
    try:
        attributes = {name: with_properties(value, properties) for name, value in node.settings.items()}
        text = with_properties(node.text, properties)
    except UndeterminedError as undetermined:
        words = f"what {node.name} says with properties filled in: {undetermined.why}"
        raise XmlError(words, source.position(node.start_tag.start)[0]) from None
    children = tuple(_element(child, source, properties) for child in node.children)
    return Element(node.name, attributes, text, children, source, node)


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


__all__ = ["Element", "XmlError", "parse_properties", "parse_xml", "with_properties"]
