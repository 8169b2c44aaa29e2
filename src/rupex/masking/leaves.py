"""Which values may leave a machine: the tables ``leaves.tsv`` of the families and of this package, the shapes of values that may
leave where they are judged by their look, and the words that are nobody's secret. One list for the command and for the script
(``mask.awk``)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import cache
from itertools import chain
from typing import Final

from rupex.families import tables
from rupex.package_files import folder_of

USUAL_CLASS: Final[Mapping[str, str]] = {
    "nginx": "look", "apache": "look", "xml": "never", "unit": "look", "ini": "look", "properties": "look",
    "openssl": "look", "os-release": "never", "environment": "kind", "yaml": "kind", "script": "look", "map": "look=",
}  # fmt: skip
"""By language, the class of a value whose name no row has."""


def _lines(package: str, name: str) -> Iterator[str]:
    return _rows_in(folder_of(package).joinpath(name).read_text("utf-8"))


def _rows_in(text: str) -> Iterator[str]:
    return (line for line in text.splitlines() if line and not line.startswith("#"))


@cache
def keywords() -> frozenset[str]:
    """Words that leave wherever a value is judged by its look, in lower case."""
    return frozenset(word for line in _lines("rupex.masking", "keywords.txt") for word in line.split())


def rows() -> Iterator[tuple[str, str, str, str]]:
    """The rows of all tables: language, names, classes, and what they are needed for."""
    for table in (map(_rows_in, tables("leaves.tsv")), [_lines("rupex.masking", "leaves.tsv")]):
        for line in chain.from_iterable(table):
            language, names, classes, why = line.split("\t")
            yield language, names, classes, why


@cache
def classes() -> Mapping[tuple[str, str], tuple[str, ...]]:
    """By language and name in lower case, the classes of its arguments, the last one for all that follow. A name whose row
    says ``names`` has the usual class of its language."""
    found: dict[tuple[str, str], tuple[str, ...]] = {}
    for language, names, given, _ in rows():
        if names == "names":
            for name in given.split():
                found.setdefault((language, name.lower()), (USUAL_CLASS[language],))
            continue
        for name in names.split():
            found[language, name.lower()] = tuple(given.split())
    return found


def shape_rows() -> Iterator[str]:
    """The rows of ``shapes.tsv``."""
    return _lines("rupex.masking", "shapes.tsv")


@cache
def shapes(group: str) -> tuple[tuple[str, re.Pattern[str], int], ...]:
    """The shapes of a group, such as ``kind``: name, expression, and the length up to which it holds."""
    split = (line.split("\t") for line in shape_rows())
    return tuple((row[1], re.compile(row[2], re.ASCII), int(row[3])) for row in split if row[0] == group)


@cache
def variable(language: str) -> re.Pattern[str]:
    """What a reference to a variable looks like in ``language``; a pattern that matches nothing for one without any."""
    split = (line.split("\t") for line in shape_rows())
    found = next((row[2] for row in split if row[:2] == ["variable", language]), r"(?!)")
    return re.compile(found, re.ASCII)
