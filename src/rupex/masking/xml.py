"""XML files of Tomcat and firewalld as they may leave a machine: elements stay, their attributes and texts go by their names."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Final

from rupex.masking.leaves import USUAL_CLASS, classes
from rupex.masking.values import Masker

_PART: Final = re.compile(
    r"<!--.*?(?:-->|\Z)|<!\[CDATA\[.*?(?:\]\]>|\Z)|<\?.*?(?:\?>|\Z)|<!(?:[^\[>]++|\[[^\]]*+(?:\]|\Z))*+(?:>|\Z)"
    r"|<(?:\"[^\"]*+(?:\"|\Z)|'[^']*+(?:'|\Z)|[^\"'>]++)*+(?:>|\Z)|[^<]++",
    re.DOTALL,
)
_TAG: Final = re.compile(r"<(/?)(?:[\w-]+:)?([\w.-]+)", re.ASCII)
_ATTRIBUTE: Final = re.compile(r"((?<![\w.:-])[\w.:-]++[ \t\r\n]*+=[ \t\r\n]*+(?:\"[^\"]*+\"|'[^']*+'))", re.ASCII)
_SPLIT: Final = re.compile(r"([\w.:-]++)([ \t\r\n]*+=[ \t\r\n]*+)([\"'])(.*)[\"']", re.ASCII | re.DOTALL)
_DECLARATION: Final = re.compile(r"<\?xml( ++[a-z]++ *+= *+(\"[\w.-]*+\"|'[\w.-]*+'))*+ *+\?>", re.ASCII)


def mask_xml(text: str, masker: Masker) -> str:
    return "".join(_pieces(text, masker))


def _pieces(text: str, masker: Masker) -> Iterator[str]:
    element = parameter = ""
    for found in _PART.finditer(text):
        part = found[0]
        if part.startswith(("<!", "<?")):
            yield part if _DECLARATION.fullmatch(part) else "\n" * part.count("\n")
        elif part.startswith("<"):
            tag = _TAG.match(part)
            closes, name = (tag[1], tag[2]) if tag is not None else ("", "")
            yield _tag(part, name, masker) if name else "\n" * part.count("\n")
            element = "" if closes or part.endswith("/>") else name
        else:
            key = f"param/{parameter}" if element == "param-value" else element
            yield _value(part, (key, "param/*") if element == "param-value" else (key,), masker)
            if element == "param-name":  # what follows the first word is said of a type of content
                parameter = part.split()[0] if part.strip() else ""


def _tag(tag: str, element: str, masker: Masker) -> str:
    made = []
    for part in _ATTRIBUTE.split(tag):
        found = _SPLIT.fullmatch(part)
        if found is None:
            made.append(part if re.fullmatch(r"[<>/\s\w.:-]*", part, re.ASCII) else " ")
            continue
        name = found[1].rpartition(":")[2]
        is_schema = found[1] == "xmlns" or found[1].startswith(("xmlns:", "xsi:"))
        value = (
            masker.value(found[4], "look") if is_schema else _value(found[4], (f"{element}@{name}", f"@{name}"), masker)
        )
        made.append(f"{found[1]}{found[2]}{found[3]}{value}{found[3]}")
    return "".join(made)


def _value(text: str, names: tuple[str, ...], masker: Masker) -> str:
    """A value by the first of its ``names`` that is on the list."""
    core = text.strip()
    if not core:
        return text
    kinds = next((found for name in names if (found := classes().get(("xml", name.lower())))), (USUAL_CLASS["xml"],))
    start = text.index(core)
    return text[:start] + masker.value(core, kinds[0]) + text[start + len(core) :]
