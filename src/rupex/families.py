"""What server families say of themselves, as data: the names of their programs, packages and processes, how they are reloaded,
the pages that come with them, and what to change in their words.

A family is a package with tables beside its code (``facts.toml``, ``remedies.toml``, ``evidence.tsv``, ``leaves.tsv``); they are
read here without importing that code, so that no other room has to know which families there are. Programs of which
Rupex reads no configuration yet stand in ``rupex.servers/facts.toml``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import cache
from importlib.util import find_spec
from pathlib import Path
from typing import Final

import msgspec
from msgspec import Struct

from rupex.package_files import folder_of, third_parties

GROUP: Final = "rupex.servers"
"""Entry points by which third parties add families."""


class Program(Struct, frozen=True):
    """A program that tells its version.

    ``path``: where distributions put it.
    ``arguments``: what it is called with.
    ``version``: a pattern for its answer, with the version in the first group.
    """

    path: str
    arguments: tuple[str, ...]
    version: str


class PackagedPage(Struct, frozen=True):
    """A page that comes with a package, known by words that stand in it and in no site of anybody's own.

    ``pattern``: of these words.
    ``title``: what it is, for a person.
    ``words``: the words themselves, which a snapshot takes in place of the page.
    """

    pattern: str
    title: str
    words: str


class FamilyFacts(Struct, frozen=True, kw_only=True):
    """What one family says of itself.

    ``name``: the family's.
    ``programs``: those that tell its version.
    ``processes``: names of its processes.
    ``packages``: a pattern for the names of the packages that it comes in.
    ``products``: patterns for what it is called where it names itself with a version.
    ``server_header``: what its Server header begins with, in lower case; empty where that is not known.
    ``reload``: how a person tests and reloads it.
    ``installers``: what clients of certificate authorities call it, where they reload it themselves.
    ``pages``: those that come with its packages.
    ``stores``: patterns, from the root of the tree, of the keys that it gets and keeps by itself.
    ``folders``: where deployment files for it lie.
    ``deployment_files``: patterns for the beginning of the names of such files.
    ``override_file``: the name of a file below document roots that changes what it answers there.
    """

    name: str
    programs: tuple[Program, ...] = ()
    processes: tuple[str, ...] = ()
    packages: str = ""
    products: tuple[str, ...] = ()
    server_header: str = ""
    reload: str = ""
    installers: tuple[str, ...] = ()
    pages: tuple[PackagedPage, ...] = ()
    stores: tuple[str, ...] = ()
    folders: tuple[str, ...] = ()
    deployment_files: tuple[str, ...] = ()
    override_file: str = ""


class _Others(Struct, frozen=True):
    others: tuple[FamilyFacts, ...]


@cache
def packages() -> Mapping[str, Path]:
    """The folder of each installed family's package, by the family's name."""
    shipped = folder_of("rupex.servers")
    found = {child.name: child for child in shipped.iterdir() if child.joinpath("facts.toml").is_file()}
    for entry in third_parties(GROUP):
        spec = find_spec(entry.module)
        if spec is not None and spec.origin is not None:
            found[entry.name] = Path(spec.origin).parent
    return dict(sorted(found.items()))


def tables(name: str) -> Iterator[str]:
    """The text of the table called ``name`` of each family that has one, then that for other programs."""
    for folder in (*packages().values(), folder_of("rupex.servers")):
        table = folder.joinpath(name)
        if table.is_file():
            yield table.read_text("utf-8")


@cache
def package_names() -> re.Pattern[str]:
    """The names of all packages that somebody says to be one of a server, or of what it depends on."""
    return re.compile("|".join(facts.packages for facts in all_facts() if facts.packages))


@cache
def all_facts() -> tuple[FamilyFacts, ...]:
    """What is known of each family, and of programs of which no configuration is read."""
    texts = (folder.joinpath("facts.toml").read_bytes() for folder in packages().values())
    known = [msgspec.toml.decode(text, type=FamilyFacts) for text in texts]
    others = folder_of("rupex.servers").joinpath("facts.toml").read_bytes()
    return (*known, *msgspec.toml.decode(others, type=_Others).others)


def facts_of(family: str | None) -> FamilyFacts:
    """What is known of ``family``; nothing where nobody says anything."""
    return next((facts for facts in all_facts() if facts.name == family), FamilyFacts(name=family or ""))


def remedies(family: str) -> Mapping[str, str]:
    """What to change in the words of ``family``, by control."""
    return _remedies(family).get("controls", {})


def blocks(family: str) -> Mapping[str, str]:
    """Blocks to paste in the language of ``family``, by the kind of change (:mod:`rupex.model.change`)."""
    return _remedies(family).get("blocks", {})


@cache
def _remedies(family: str) -> Mapping[str, Mapping[str, str]]:
    folder = packages().get(family)
    table = None if folder is None else folder.joinpath("remedies.toml")
    if table is None or not table.is_file():
        return {}
    return msgspec.toml.decode(table.read_bytes(), type=dict[str, dict[str, str]])
