"""Which of many sections, aliases and redirects may be meant by a URL path, without asking each of them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from typing import Generic, TypeVar

from rupex.model.budget import spend
from rupex.servers.common.patterns import literal_start

Item = TypeVar("Item")

_SLASHES = re.compile("//+")
_ITEMS_A_STEP = 8


class PathIndex(Generic[Item]):
    """Items in their order, each with the paths that it may be meant by.

    ``start_of``: a URL path with which what an item is meant by begins, whole names of it, however many slashes stand in a row;
    None where it goes by the pattern ``pattern_of``.
    """

    def __init__(
        self,
        items: Iterable[Item],
        start_of: Callable[[Item], str | None],
        pattern_of: Callable[[Item], str],
    ) -> None:
        self._items = list(items)
        self._by_start: dict[str, list[int]] = {}
        self._others: list[tuple[str, int]] = []
        for place, item in enumerate(self._items):
            start = start_of(item)
            if start is None:
                self._others.append((literal_start(pattern_of(item)), place))
            else:
                self._by_start.setdefault(_SLASHES.sub("/", start).rstrip("/"), []).append(place)
        self._longest = max(map(len, self._by_start), default=0)

    def __iter__(self) -> Iterator[Item]:
        return iter(self._items)

    def candidates(self, path: str) -> list[Item]:
        """The items that may be meant by ``path``, in order: all that are, and some that are not."""
        spend(1 + len(self._others) // _ITEMS_A_STEP)
        places = [place for start, place in self._others if path.startswith(start)]
        if self._by_start:
            places += [place for start in self._starts(path) for place in self._by_start.get(start, ())]
            places.sort()
        return [self._items[place] for place in places]

    def _starts(self, path: str) -> Iterator[str]:
        """The beginnings of ``path`` that are whole names."""
        bare = _SLASHES.sub("/", path)[: self._longest + 1]
        end = bare.find("/")
        while 0 <= end <= self._longest:
            spend(1)
            yield bare[:end]
            end = bare.find("/", end + 1)
        if len(bare) <= self._longest and not bare.endswith("/"):
            yield bare
