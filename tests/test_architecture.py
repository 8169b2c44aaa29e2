"""The floors of the house: imports go down only, as docs/architecture.md says."""

from __future__ import annotations

import ast
import re
import unittest
from pathlib import Path

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


def imports(file: Path) -> set[str]:
    """The rooms that a file imports from, also inside its functions; what is imported for types only does not count."""
    tree = ast.parse(file.read_text())
    typing_only = {
        id(node)
        for branch in ast.walk(tree)
        if isinstance(branch, ast.If) and isinstance(branch.test, ast.Name) and branch.test.id == "TYPE_CHECKING"
        for node in ast.walk(branch)
    }
    names = []
    for node in ast.walk(tree):
        if id(node) in typing_only:
            continue
        if isinstance(node, ast.ImportFrom) and node.module:
            names += [f"{node.module}.{alias.name}" if node.module == "rupex" else node.module for alias in node.names]
        elif isinstance(node, ast.Import):
            names += [alias.name for alias in node.names]
    return {parts[1] for name in names if (parts := name.split("."))[0] == "rupex" and len(parts) > 1}


class FloorsTest(unittest.TestCase):
    def test_every_room_has_a_floor(self) -> None:
        known = floors()
        rooms = {entry.stem for entry in SOURCE.iterdir() if entry.suffix == ".py" or (entry / "__init__.py").is_file()}
        self.assertEqual(rooms - set(known) - {"__init__"}, set())

    def test_imports_go_down_only(self) -> None:
        known = floors()
        for file in sorted(SOURCE.rglob("*.py")):
            room = file.relative_to(SOURCE).parts[0].removesuffix(".py")
            for other in imports(file) & set(known):
                with self.subTest(f"{file.relative_to(SOURCE)} imports {other}"):
                    self.assertLessEqual(known[other], known.get(room, 0))
