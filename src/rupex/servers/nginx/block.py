"""A configuration as blocks: includes in place, directives found by name."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from rupex.model import Provenance, Words
from rupex.servers.nginx.syntax import Directive


class Block:
    """A block with what its includes bring, in the order nginx reads it. ``directive`` is None for the whole file.

    ``model``: the same block of the template that its file is written from, itself in a file of none.
    ``words``: what the file has for the template's stand-ins, None in a file of no template.
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
    def model(self) -> Block:
        return self

    @property
    def words(self) -> Words | None:
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
        found = self.by_name.get(name)
        if found is None:
            return None
        return next((child for child in reversed(found) if isinstance(child, Directive)), None)

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


class InstanceBlock(Block):
    """A server block of a file that is written from a template. What is in it is read when somebody asks for it, by ``read``:
    most of what anybody asks is found by what the ``model`` has."""

    __slots__ = ("_model", "_read", "_words")

    def __init__(self, model: Block, words: Words, read: Callable[[], Block]) -> None:
        self._model, self._words, self._read = model, words, read

    def __getattr__(self, name: str) -> Any:
        if name not in Block.__slots__:
            raise AttributeError(name)
        own = self._read()
        for slot in Block.__slots__:
            setattr(self, slot, getattr(own, slot))
        return getattr(self, name)

    @property
    def model(self) -> Block:
        return self._model

    @property
    def words(self) -> Words:
        return self._words

    @property
    def name(self) -> str:
        return self._model.name

    def provenance(self) -> Provenance:
        return self._words.put_in(self._model.provenance())


def models_in(top: Block) -> Iterator[Block]:
    """``top`` and the blocks in it, of those of one template the model alone."""
    waiting, known = [top], {id(top)}
    while waiting:
        block = waiting.pop()
        yield block
        for child in block.children:
            if isinstance(child, Block) and id(child.model) not in known:
                known.add(id(child.model))
                waiting.append(child.model)
