"""The floors of the house: imports go down only, as docs/architecture.md says."""

from __future__ import annotations

import ast
import re
import unittest
from collections.abc import Collection, Iterable
from pathlib import Path
from typing import Final

from rupex.controls import all_controls
from rupex.families import facts_of, packages, remedies
from rupex.servers.registry import load_families

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src/rupex"


def floors() -> dict[str, int]:
    """Each room of the table in the document with its floor: a package, or a module beside the packages."""
    page = (ROOT / "docs/architecture.md").read_text()
    found = {}
    for floor, rooms in re.findall(r"^\| (\d+) \| ([^|]+) \|", page, re.MULTILINE):
        for room in re.findall(r"`([\w.]+)/?`", rooms):
            found[room.removesuffix(".py")] = int(floor)
    return found


Arrows = dict[str, set[str]]
"""By module, the modules that it imports."""

NEVER: Final = """
servers controls, servers wire, servers reports, controls servers, controls host, controls wire, controls
baseline, controls masking, host servers, host controls, host wire, host masking, wire servers, wire controls,
wire host, masking servers, masking host, masking model, http model, http host, http servers, http tls, tls
host, tls servers, tls pki, pki host, pki servers, pki tls, model tls, model pki, model host, baseline
servers, baseline host, baseline wire, reports servers, reports controls, reports host, reports wire, reports
baseline, history reports, history baseline, history servers, scoring model, redaction reports, fleet reports,
snapshot reports, snapshot controls
"""
"""Pairs of rooms of which the first never imports the second, whatever their floors."""


def arrows(source: Path) -> Arrows:
    """Which module of the package imports which, also inside functions; what is imported for types only does not count."""
    names = {}
    for file in source.rglob("*.py"):
        parts = file.relative_to(source.parent).with_suffix("").parts
        names[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = file
    return {name: imports(file, names.keys()) - {name} for name, file in names.items()}


def imports(file: Path, known: Collection[str]) -> set[str]:
    tree = ast.parse(file.read_text())
    typing_only = {
        id(node)
        for branch in ast.walk(tree)
        if isinstance(branch, ast.If) and isinstance(branch.test, ast.Name) and branch.test.id == "TYPE_CHECKING"
        for node in ast.walk(branch)
    }
    found = set()
    for node in ast.walk(tree):
        if id(node) in typing_only:
            continue
        if isinstance(node, ast.ImportFrom) and node.module:
            wholes = [f"{node.module}.{alias.name}" for alias in node.names]
            found |= {whole if whole in known else node.module for whole in wholes}
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
    return found & set(known)


def room(module: str) -> str:
    return [*module.split("."), ""][1]


def circles(arrows: Arrows) -> list[list[str]]:
    """Modules that import each other, directly or on a way: each group of them once (Tarjan's strongly connected components)."""
    order: dict[str, int] = {}
    lowest: dict[str, int] = {}
    open_, found = list[str](), list[list[str]]()

    def visit(module: str) -> None:
        order[module] = lowest[module] = len(order)
        open_.append(module)
        for other in sorted(arrows[module]):
            if other not in order:
                visit(other)
                lowest[module] = min(lowest[module], lowest[other])
            elif other in open_:
                lowest[module] = min(lowest[module], order[other])
        if lowest[module] == order[module]:
            at = open_.index(module)
            group = open_[at:]
            del open_[at:]
            if len(group) > 1:
                found.append(sorted(group))

    for module in sorted(arrows):
        if module not in order:
            visit(module)
    return found


def forbidden(arrows: Arrows) -> list[str]:
    """The arrows between rooms that may not be."""
    pairs = {tuple(pair.split()) for pair in NEVER.replace("\n", " ").split(",")}
    return [
        f"{module} imports {other}"
        for module, others in sorted(arrows.items())
        for other in sorted(others)
        if (room(module), room(other)) in pairs
    ]


class FloorsTest(unittest.TestCase):
    def test_every_room_has_a_floor(self) -> None:
        known = floors()
        rooms = {entry.stem for entry in SOURCE.iterdir() if entry.suffix == ".py" or (entry / "__init__.py").is_file()}
        self.assertEqual(rooms - set(known) - {"__init__"}, set())

    def test_imports_go_down_only(self) -> None:
        known = floors()
        for module, others in arrows(SOURCE).items():
            for other in others:
                with self.subTest(f"{module} imports {other}"):
                    self.assertLessEqual(known.get(room(other), 0), known.get(room(module), 0))


PROGRAMS: Final = ("httpd", "haproxy", "caddy", "lighttpd", "traefik", "iis")
"""Servers beside the families that are there."""


def named_families(rooms: Iterable[str], source: Path) -> list[str]:
    """Lines of ``rooms`` in which a family is named. The script of a snapshot is left out: it reads the languages itself."""
    words = re.compile(rf"\b(?:{'|'.join((*packages(), *PROGRAMS))})\b", re.IGNORECASE)
    return [
        f"{file.relative_to(source)}:{number}: {line.strip()}"
        for room in rooms
        for file in sorted((source / room).rglob("*"))
        if file.suffix in (".py", ".tsv", ".toml")
        for number, line in enumerate(file.read_text().splitlines(), 1)
        if words.search(line)
    ]


class FamiliesTest(unittest.TestCase):
    def test_what_a_family_says_of_itself_stands_in_its_package(self) -> None:
        self.assertEqual(named_families(("controls", "host", "snapshot", "http"), SOURCE), [])
        self.assertIn('servers/nginx/facts.toml:1: name = "nginx"', named_families(("servers",), SOURCE))

    def test_every_family_says_what_it_is(self) -> None:
        self.assertEqual(set(packages()), set(load_families()))
        for family in packages():
            self.assertTrue(facts_of(family).processes and facts_of(family).products and remedies(family), family)
        unknown = {control for family in packages() for control in remedies(family)} - set(all_controls())
        self.assertEqual(unknown, set())


class ArrowsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.arrows = arrows(SOURCE)

    def test_no_modules_import_each_other(self) -> None:
        self.assertEqual(circles(self.arrows), [])
        self.arrows["rupex.model.bounds"].add("rupex.servers.nginx.resolve")  # on a long way
        self.assertIn("rupex.servers.nginx.resolve", circles(self.arrows)[0])

    def test_rooms_that_know_nothing_of_each_other(self) -> None:
        self.assertEqual(forbidden(self.arrows), [])
        self.arrows["rupex.servers.nginx.resolve"].add("rupex.controls.keys")
        self.assertEqual(forbidden(self.arrows), ["rupex.servers.nginx.resolve imports rupex.controls.keys"])

    def test_nothing_but_the_command_knows_the_command(self) -> None:
        self.assertEqual({m for m, others in self.arrows.items() if any(room(o) == "cli" for o in others)} - {
            m for m in self.arrows if room(m) == "cli"}, set())  # fmt: skip
