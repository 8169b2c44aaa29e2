"""Endpoints that are another one under other names: a thousand sites written from one pattern are resolved and judged
once, and the rest of them by putting their own names in."""

from __future__ import annotations

from typing import Any

from msgspec import Struct, structs

from rupex.model.endpoint import Endpoint
from rupex.model.provenance import Provenance

_FIRST_MARK = 0xE000  # a private-use character: no name has one


class Pattern:
    """An endpoint, the ``model``, that others are like: the ``file`` in which it stands, and the ``tokens`` that are its own.

    It remembers which parts of the endpoint hold a token or a place in that file; all others are every likeness's.
    """

    __slots__ = ("file", "marked", "model", "moving", "tokens")

    def __init__(self, model: Endpoint, file: str, tokens: tuple[str, ...]) -> None:
        self.model, self.file = model, file
        # Places are written out in some texts, as file:line.
        self.tokens = sorted(enumerate((*tokens, f"{file}:")), key=lambda item: len(item[1]), reverse=True)
        self.marked: dict[str, tuple[str, tuple[int, ...]] | None] = {}
        self.moving: dict[int, tuple[str, ...] | None] = {}

    def mark(self, text: str) -> tuple[str, tuple[int, ...]] | None:
        """``text`` with a mark for each token, the longest first, and which ones they are; None when it holds none."""
        found, held = text, []
        for index, token in self.tokens:
            if token in found:
                found = found.replace(token, f"\0{chr(_FIRST_MARK + index)}")
                held.append(index)
        return (found, tuple(held)) if held else None


class Likeness:
    """How one endpoint comes of a ``pattern``: with its own ``file`` and ``tokens``. What lies in other files stays as it
    is. It holds for everything but what is looked up outside of the endpoint, such as its certificate."""

    __slots__ = ("_places", "file", "pattern", "tokens")

    def __init__(self, pattern: Pattern, file: str, tokens: tuple[str, ...]) -> None:
        self.pattern, self.file, self.tokens = pattern, file, (*tokens, f"{file}:")
        self._places: dict[int, Provenance] = {}

    def text(self, text: str) -> str:
        """``text`` with this one's own tokens."""
        marked = self.pattern.marked
        found = marked[text] if text in marked else marked.setdefault(text, self.pattern.mark(text))
        if found is None:
            return text
        moved, held = found
        for index in held:
            moved = moved.replace(f"\0{chr(_FIRST_MARK + index)}", self.tokens[index])
        return moved

    def place(self, place: Provenance) -> Provenance:
        """``place`` in this one's file."""
        if place.file != self.pattern.file:
            return place
        found = self._places.get(id(place))
        if found is None:
            note = None if place.note is None else self.text(place.note)
            overruled = tuple(map(self.place, place.overruled)) if place.overruled else ()
            found = Provenance(place.how, self.file, place.line, place.column, note, overruled)
            self._places[id(place)] = found
        return found

    def moved(self, value: Any) -> Any:
        """``value``, any part of the pattern's endpoint, as it is for this one; itself where nothing in it differs."""
        kind = value.__class__
        if kind is str:
            return self.text(value)
        if kind is Provenance:
            return self.place(value)
        if kind is tuple:
            return self._moved_items(value)
        return self._moved_fields(value) if isinstance(value, Struct) else value

    def _moved_items(self, value: tuple[Any, ...]) -> tuple[Any, ...]:
        moving = self.pattern.moving
        if not value or moving.get(id(value), ()) is None:
            return value
        items = [self.moved(item) for item in value]
        if all(new is old for new, old in zip(items, value, strict=True)):
            moving[id(value)] = None
            return value
        return tuple(items)

    def _moved_fields(self, value: Struct) -> Any:
        moving = self.pattern.moving
        fields = moving.get(id(value), value.__struct_fields__)
        if fields is None:
            return value
        place = getattr(value, "provenance", None)
        if place is not None and place.file != self.pattern.file and not place.overruled:
            moving[id(value)] = None  # said elsewhere, for all of them alike
            return value
        changed: dict[str, Any] = {}
        for field in fields:
            old = getattr(value, field)
            new = self.moved(old)
            if new is not old:
                changed[field] = new
        if len(fields) == len(value.__struct_fields__):
            moving[id(value)] = tuple(changed) or None
        return structs.replace(value, **changed) if changed else value
