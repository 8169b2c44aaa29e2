"""Endpoints that are another one under other names: a thousand sites written from one pattern are resolved and judged
once, and the rest of them by putting their own names in."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from msgspec import Struct, structs

from rupex.model.endpoint import Endpoint
from rupex.model.provenance import Provenance

_FIRST_MARK = 0xE000  # a private-use character: no name has one


class Pattern:
    """The words of a file that others are like: its path and the ``tokens`` that are its own.

    It remembers how each text and each value made of the file is put into other words (None: as it is).
    """

    __slots__ = ("_plans", "_ways", "file", "tokens")

    def __init__(self, file: str, tokens: tuple[str, ...]) -> None:
        self.file = file
        # Places are written out in some texts, as file:line.
        self.tokens = sorted(enumerate((*tokens, f"{file}:")), key=lambda item: len(item[1]), reverse=True)
        whole = (*tokens, f"{file}:", file)
        self._ways: dict[str, Way | None] = {token: _word(index) for index, token in enumerate(whole)}
        self._plans: dict[int, tuple[Any, Way | None]] = {}

    def way_of_text(self, text: str) -> Way | None:
        """How ``text`` is put into another file's words."""
        if text not in self._ways:
            self._ways[text] = self._marked(text)
        return self._ways[text]

    def way(self, value: Any) -> Way | None:
        """How ``value``, which was made of the file, is put into another file's words."""
        kind = value.__class__
        if kind is str:
            return self.way_of_text(value)
        if kind is Provenance:
            return (lambda likeness: likeness.place(value)) if value.file == self.file else None
        if kind is not tuple and not isinstance(value, Struct):
            return None
        known = self._plans.get(id(value))
        if known is None:  # the value is kept, so that its id stays its own
            known = self._plans[id(value)] = (value, self._items(value) if kind is tuple else self._fields(value))
        return known[1]

    def _marked(self, text: str) -> Way | None:
        """The way of a text by a mark for each token, the longest first."""
        found, held = text, []
        for index, token in self.tokens:
            if token in found:
                mark = f"\0{chr(_FIRST_MARK + index)}"
                found = found.replace(token, mark)
                held.append((mark, index))
        if not held:
            return None

        def filled(likeness: Likeness) -> str:
            text = found
            for mark, index in held:
                text = text.replace(mark, likeness.tokens[index])
            return text

        return filled

    def _items(self, items: tuple[Any, ...]) -> Way | None:
        ways = [(item, self.way(item)) for item in items]
        if all(way is None for _, way in ways):
            return None
        return lambda likeness: tuple([item if way is None else way(likeness) for item, way in ways])

    def _fields(self, value: Struct) -> Way | None:
        place = getattr(value, "provenance", None)
        if place is not None and place.file != self.file and not place.overruled:
            return None  # said elsewhere, for all of them alike
        ways = [
            (field, way) for field in value.__struct_fields__ if (way := self.way(getattr(value, field))) is not None
        ]
        if not ways:
            return None
        return lambda likeness: structs.replace(value, **{field: way(likeness) for field, way in ways})


class Likeness:
    """How what stands in one file comes of a ``pattern``: with its own ``file`` and ``tokens``. What lies in other files
    stays as it is. It holds for everything but what is looked up elsewhere, such as a certificate."""

    __slots__ = ("_places", "file", "pattern", "tokens")

    def __init__(self, pattern: Pattern, file: str, tokens: tuple[str, ...]) -> None:
        self.pattern, self.file, self.tokens = pattern, file, (*tokens, f"{file}:", file)
        self._places: dict[int, tuple[Provenance, Provenance]] = {}

    def text(self, text: str) -> str:
        """``text`` with this one's own tokens."""
        way = self.pattern.way_of_text(text)
        found: str = text if way is None else way(self)
        return found

    def place(self, place: Provenance) -> Provenance:
        """``place`` in this one's file."""
        if place.file != self.pattern.file:
            return place
        found = self._places.get(id(place))
        if found is None:
            note = None if place.note is None else self.text(place.note)
            overruled = tuple(map(self.place, place.overruled)) if place.overruled else ()
            found = place, Provenance(place.how, self.file, place.line, place.column, note, overruled)
            self._places[id(place)] = found
        return found[1]

    def moved(self, value: Any) -> Any:
        """``value``, which was made of the pattern's file, as it is for this one; itself where nothing in it differs."""
        way = self.pattern.way(value)
        return value if way is None else way(self)


Way = Callable[[Likeness], Any]
"""What makes of a likeness some value in its words."""


def _word(index: int) -> Way:
    return lambda likeness: likeness.tokens[index]


class Alike(NamedTuple):
    """An endpoint's ``model``, and how it comes of it."""

    model: Endpoint
    likeness: Likeness
