"""The text of a configuration file, and where in it things stand: for every language the same.

Offsets count characters from 0. Bytes that are no UTF-8 stand in the text as surrogate escapes (PEP 383), so that the bytes of a
file are those of its text, and an edit changes nothing but the spans that it replaces.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterable
from functools import cached_property
from typing import NamedTuple

from rupex.model import Provenance
from rupex.model.provenance import How


class Span(NamedTuple):
    """A part of a text, from ``start`` to before ``end``."""

    start: int
    end: int

    def of(self, text: str) -> str:
        return text[self.start : self.end]


class SourceText:
    """One file of a configuration.

    ``path``: in the host tree.
    ``text``: as :func:`decode` makes it.
    """

    __slots__ = ("__dict__", "path", "text")

    def __init__(self, path: str, text: str) -> None:
        self.path, self.text = path, text

    @cached_property
    def _line_starts(self) -> list[int]:
        return [0, *(match.end() for match in re.finditer("\n", self.text))]

    def position(self, offset: int) -> tuple[int, int]:
        """Line and column of ``offset``, both from 1."""
        line = bisect_right(self._line_starts, offset)
        return line, offset - self._line_starts[line - 1] + 1

    def provenance(self, offset: int, how: How = "explicit", note: str | None = None) -> Provenance:
        line, column = self.position(offset)
        return Provenance(how, self.path, line, column, note)


class Decoded(NamedTuple):
    """``text`` of a file; ``odd_line``: the first line with bytes that are no UTF-8, None where there is none."""

    text: str
    odd_line: int | None


def decode(content: bytes) -> Decoded:
    """The text of a file, of which :func:`encode` makes the same bytes again."""
    try:
        return Decoded(content.decode(), None)
    except UnicodeDecodeError as error:
        return Decoded(content.decode("utf-8", "surrogateescape"), content.count(b"\n", 0, error.start) + 1)


def encode(text: str) -> bytes:
    """The bytes of a text that :func:`decode` made."""
    return text.encode("utf-8", "surrogateescape")


def edited(text: str, edits: Iterable[tuple[Span, str]]) -> str:
    """``text`` with other words in some of its spans. Raises :class:`ValueError` for spans that overlap, or are none of it."""
    pieces: list[str] = []
    behind = 0
    for span, words in sorted(edits, key=lambda edit: edit[0]):
        if span.start < behind or span.end < span.start or span.end > len(text):
            raise ValueError(f"the span {span.start}-{span.end} overlaps another one, or is outside of the text")
        pieces += [text[behind : span.start], words]
        behind = span.end
    return "".join((*pieces, text[behind:]))
