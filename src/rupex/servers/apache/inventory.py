"""Every directive that httpd and its modules accept, and what Rupex makes of it: the table ``directives.tsv`` beside this file,
which tests/test_apache_inventory.py holds against the server's own list.

A directive that Rupex does not model is not passed over: where it is in force, what it can change is unknown.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from functools import cache
from typing import Final, NamedTuple

from rupex.package_files import table_of
from rupex.servers.apache.syntax import Block, Directive
from rupex.servers.common.inventory import EFFECTS, Class, class_of, effects_and_note, headers_in

_MPM: Final = ("mpm_event", "mpm_worker", "mpm_prefork")


class Known(NamedTuple):
    """What is known of a directive.

    ``modules``: those that accept it, by short name.
    ``kind``: what Rupex makes of it.
    ``override``: what AllowOverride must include, lower case, for it to stand in an override file; ``any`` for anything but
    None; empty where it may not.
    ``is_section``: it is written ``<Name …>``.
    ``effects``: what an unmodelled one can change; ``note``: what it is about.
    """

    modules: tuple[str, ...]
    kind: Class
    override: frozenset[str]
    is_section: bool
    effects: frozenset[str]
    note: str


@cache
def directives() -> dict[str, Known]:
    """The table, by directive in lower case."""
    found: dict[str, Known] = {}
    for line in table_of(__package__, "directives.tsv").splitlines():
        if line.startswith("#"):
            continue
        module, kind, override, words, note = line.split("\t")
        groups = frozenset() if override == "-" else frozenset(override.split(","))
        effects, about = effects_and_note(kind, note)
        for word in words.split():
            name = word.removeprefix("<")
            before = found.get(name)
            modules = (module,) if before is None else (*before.modules, module)
            found[name] = Known(modules, class_of(kind), groups, word != name, effects, about)
    return found


_WITHOUT: Final = (
    "asis authz_host authz_owner authz_user bucketeer data lbmethod_bybusyness lbmethod_byrequests lbmethod_bytraffic proxy_ajp"
    " proxy_balancer proxy_fdpass proxy_http proxy_http2 proxy_uwsgi ratelimit slotmem_plain slotmem_shm socache_dbm"
    " socache_shmcb status unique_id".split()
)
"""Modules that have no directive."""


@cache
def known_modules() -> frozenset[str]:
    """The modules whose directives are all in the table."""
    return frozenset((*_WITHOUT, *(module for found in directives().values() for module in found.modules)))


def known(directive: str) -> Known | None:
    """What is known of a directive (lower case), None for one that no known module accepts."""
    return directives().get(directive)


_AS_BY_DEFAULT: Final = {"mergeslashes": "on"}
_OFF: Final = ("off", "disabled", "none", "no", "0")
_NO_MODULES: Final = Known((), "unmodelled", frozenset(), False, EFFECTS, "no known module accepts it")


def effects_of(directive: Directive) -> frozenset[str]:
    """What a directive can change that Rupex does not model: nothing where it is modelled, inert or switched off; anything for
    a word that no known module accepts."""
    found = known(directive.key)
    if found is None:
        return EFFECTS
    if not found.effects or directive.word == _AS_BY_DEFAULT.get(directive.key):
        return frozenset()
    return frozenset() if directive.word in _OFF and directive.key not in _AS_BY_DEFAULT else found.effects


def unmodelled(block: Block, found: dict[int, tuple[Block, tuple[str, ...]]]) -> Sequence[Directive]:
    """The directives of a block that Rupex does not model. ``found`` keeps the names of them for each block's template, by its
    identity, and the template, so that no other block gets the same one."""
    model = block.model
    if id(model) not in found:
        found[id(model)] = model, tuple(key for key in model.names() if (known(key) or _NO_MODULES).effects)
    names = found[id(model)][1]
    return block.named(*names) if names else ()


def headers_changed_by(directive: Directive) -> tuple[str, ...]:
    """The headers that an unmodelled directive may send, as far as they are known."""
    if "headers" not in effects_of(directive):
        return ()
    found = known(directive.key) or _NO_MODULES
    return headers_in(found.note)


def owners(directive: str) -> tuple[str, ...]:
    """The modules that accept a directive (lower case); none for what no known module does."""
    found = known(directive)
    return () if found is None else found.modules


def is_of_core(directive: str) -> bool:
    """Whether a directive belongs to the core, whatever is loaded."""
    return "core" in owners(directive)


def missing_module(directive: str, loaded: Collection[str]) -> str | None:
    """The module without which the server refuses a directive (lower case), None where it accepts it or that is not known. Which
    module runs the processes need not be said: it may be built in."""
    modules = owners(directive)
    if not modules or any(module in loaded or module in _MPM for module in modules):
        return None
    return modules[0]
