"""Every directive that nginx and its modules accept, and what Rupex makes of it: the table ``directives.tsv`` beside this file,
which tests/test_nginx_inventory.py holds against the servers' own tables.

A directive that Rupex does not model is not passed over: where it is in force, what it can change is unknown.
"""

from __future__ import annotations

from functools import cache
from typing import Final

from rupex.package_files import table_of
from rupex.servers.common.inventory import EFFECTS, Known, Unmodelled, class_of, effects_and_note
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.syntax import Directive


@cache
def directives() -> dict[tuple[str, str], Known]:
    """The table, by the block at the top that a directive is written in (``main`` outside of any) and its name."""
    found: dict[tuple[str, str], Known] = {}
    for line in table_of(__package__, "directives.tsv").splitlines():
        if line.startswith("#"):
            continue
        where, module, kind, words, text = line.split("\t")
        effects, note = effects_and_note(kind, text)
        for word in words.split():
            before = found.get((where, word))
            modules = (module,) if before is None else (*before.modules, module)
            found[where, word] = Known(class_of(kind), effects, note, modules)
    return found


_ANYTHING: Final = Known("unmodelled", EFFECTS, "no known module accepts it")
_OFF: Final = (("off",), ("none",))


def known(name: str, where: str = "http") -> Known:
    """What is known of a directive; one that no known module accepts may change anything."""
    return directives().get((where, name), _ANYTHING)


def directives_of(module: str) -> frozenset[str]:
    """The directives by which a module is used, as its file is called without ``ngx_`` and ``_module``: its block where it has
    one at the main level. None for a module that is not known, or only serves others."""
    own = {(where, name) for (where, name), found in directives().items() if module in found.modules}
    blocks = frozenset(name for where, name in own if where == "main")
    return frozenset() if module == "ndk_http" else blocks or frozenset(name for _, name in own)


@cache
def setters() -> frozenset[str]:
    """The known directives of ``http`` that give the variable in their first argument a value that is not worked out."""
    return frozenset(
        name for (where, name), found in directives().items() if where == "http" and "variables" in found.effects
    )


def may_come_first(one: Unmodelled) -> bool:
    """Whether a directive may decide before the rewrite directives do."""
    return one.effects == EFFECTS or one.name.startswith("server_rewrite_")


def comes_before_access(one: Unmodelled) -> bool:
    """Whether a directive decides before the rules of access do, and behind the rewrite directives."""
    return one.name.startswith("rewrite_by_")


class InventoryReader:
    """Finds the directives that are not modelled in blocks under ``where``; each block is looked through once."""

    def __init__(self, where: str = "http") -> None:
        self.where = where
        self._names: dict[int, tuple[Block, tuple[str, ...]]] = {}

    def of(self, chain: tuple[Block, ...]) -> tuple[Unmodelled, ...]:
        """Those in force in the innermost block of ``chain``: of each name the innermost, unless it is switched off."""
        if not any(self._names_of(block) for block in chain):
            return ()
        innermost = {name: block.by_name[name][-1] for block in chain for name in self._names_of(block)}
        return tuple(self._found(name, found) for name, found in innermost.items() if found.args not in _OFF)

    def _found(self, name: str, found: Directive | Block) -> Unmodelled:
        entry = known(name, self.where)
        return Unmodelled(name, entry.effects, entry.note, found.provenance())

    def _names_of(self, block: Block) -> tuple[str, ...]:
        """The names in a block itself that are not modelled. The block is kept, so that no other gets its identity."""
        model = block.model
        found = self._names.get(id(model))
        if found is None:
            names = tuple(name for name in model.by_name if known(name, self.where).effects)
            found = self._names[id(model)] = model, names
        return found[1]
