"""A configuration as blocks: includes in place, directives found by name."""

from __future__ import annotations

from collections.abc import Iterator

from rupex.model import Likeness, Provenance
from rupex.servers.nginx.syntax import Directive, SourceText


class Block:
    """A block with what its includes bring, in the order nginx reads it. ``directive`` is None for the whole file.

    ``first``: the first block of its kind (see ``alike.py``), itself for one of no kind; ``source``: the file in which it
    stands; ``likeness``: how it comes of its first.
    """

    __slots__ = ("_in_order", "by_name", "children", "directive")

    def __init__(self, directive: Directive | None, children: list[Directive | Block]) -> None:
        self.directive = directive
        self.children = children
        self.by_name: dict[str, list[Directive | Block]] = {}
        self._in_order: dict[frozenset[str], list[Directive | Block]] | None = None
        for child in children:
            name = child.name
            found = self.by_name.get(name)
            if found is None:
                self.by_name[name] = [child]
            else:
                found.append(child)

    @property
    def first(self) -> Block:
        return self

    @property
    def source(self) -> SourceText | None:
        return None if self.directive is None else self.directive.source

    @property
    def likeness(self) -> Likeness | None:
        return None

    @property
    def name(self) -> str:
        return "" if self.directive is None else self.directive.name

    @property
    def args(self) -> tuple[str, ...]:
        return () if self.directive is None else self.directive.args

    def in_order(self, names: frozenset[str]) -> list[Directive | Block]:
        """What is called one of ``names`` in this block itself, in order: found once, for a block is asked for every request."""
        if self._in_order is None:
            self._in_order = {}
        found = self._in_order.get(names)
        if found is None:
            found = self._in_order[names] = [child for child in self.children if child.name in names]
        return found

    def all(self, name: str) -> Iterator[Directive]:
        """The directives called ``name`` written in this block itself, blocks among them left out."""
        for child in self.by_name.get(name, ()):
            if isinstance(child, Directive):
                yield child

    def last(self, name: str) -> Directive | None:
        """The last directive called ``name`` written in this block itself."""
        for child in reversed(self.by_name.get(name, ())):
            if isinstance(child, Directive):
                return child
        return None

    def blocks(self, *names: str) -> Iterator[Block]:
        """The blocks called one of ``names`` inside this one, in order."""
        for name in names:
            for child in self.by_name.get(name, ()):
                if isinstance(child, Block):
                    yield child

    def provenance(self) -> Provenance:
        if self.directive is None:
            return Provenance("explicit")
        return self.directive.provenance()


def blocks_of_each_kind(top: Block) -> Iterator[Block]:
    """``top`` and the blocks in it, of those of one kind the first."""
    waiting, known = [top], {id(top)}
    while waiting:
        block = waiting.pop()
        yield block
        for child in block.children:
            if isinstance(child, Block) and id(child.first) not in known:
                known.add(id(child.first))
                waiting.append(child.first)
