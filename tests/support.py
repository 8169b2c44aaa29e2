"""What several tests need: host trees from texts, the built command, documents checked against their schemas."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

import jsonschema

from rupex.audit.assess import Evidence, assess, gather
from rupex.baseline import load_baseline
from rupex.demo.mint import Authority, PrivateKey, new_key, write_chain, write_key
from rupex.documents.encoding import encode_json
from rupex.documents.run import CheckDocument, HostDocument
from rupex.host import open_tree
from rupex.reports.read import decode_run
from rupex.servers.common.inventory import EFFECTS

NOW = datetime(2026, 11, 24, 9, 30, tzinfo=UTC)
RUPEX = str(Path(sys.executable).with_name("rupex"))


class TreeTest(unittest.TestCase):
    """A test with a temporary folder ``self.root`` for a host tree."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="rupex-test-")
        self.addCleanup(holder.cleanup)
        self.root = Path(holder.name) / "host"
        self.root.mkdir()

    def write(self, files: Mapping[str, str]) -> None:
        for path, text in files.items():
            file = self.root / path
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(text)

    def write_nginx(self, http: str, **files: str) -> None:
        """``http``: what the http block holds; ``files``: more files in etc/nginx (``__`` for a dot)."""
        self.write({"etc/nginx/nginx.conf": f"user www-data;\nhttp {{\n{http}\n}}\n"})
        self.write({f"etc/nginx/{name.replace('__', '.')}": text for name, text in files.items()})

    def mint(self, names: list[str], *, days_old: int = 10, lifetime: int = 90, mode: int = 0o600) -> PrivateKey:
        """``etc/ssl/site.pem`` and ``site.key`` for ``names``."""
        folder = self.root / "etc/ssl"
        folder.mkdir(parents=True, exist_ok=True)
        key = new_key()
        start = NOW - timedelta(days=days_old)
        authority = Authority("Ternholm Test CA", NOW)
        write_chain(folder / "site.pem", authority.issue(names, key, start, start + timedelta(days=lifetime)))
        write_key(folder / "site.key", key, mode)
        return key

    def gather(self, **assumed: str) -> Evidence:
        return gather(open_tree(self.root).tree, "", name="host", assumed=assumed)

    def assess(self, **assumed: str) -> HostDocument:
        return assess(self.gather(**assumed).host, load_baseline("public-web"), NOW, keep_all=True)

    def check(self, control: str, **assumed: str) -> CheckDocument:
        return next(check for check in self.assess(**assumed).checks if check.control == control)


class InventoryRows(unittest.TestCase):
    """What holds for the rows of each family's inventory of directives."""

    def assert_rows_say_what_they_are_about(self, rows: Mapping[Any, Any]) -> None:
        for name, row in rows.items():
            with self.subTest(name):
                self.assertEqual(bool(row.note), row.kind != "modelled")
                self.assertEqual(bool(row.effects), row.kind == "unmodelled")
                self.assertLessEqual(row.effects, EFFECTS)


def rupex(*arguments: str | Path, cwd: Path | None = None, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run the built command as a process."""
    return subprocess.run(
        [RUPEX, *map(str, arguments)], capture_output=True, text=True, cwd=cwd, env=os.environ | environment, timeout=60
    )


@cache
def schema(name: str) -> Any:
    return json.loads(resources.files("rupex.documents.schemas").joinpath(f"{name}.schema.json").read_text())


def valid_document(text: str) -> Any:
    """The JSON document in ``text``, checked against the shipped schema that it names; a run with everything written out."""
    document = json.loads(text)
    jsonschema.validate(document, schema(document["schema"].split("/")[0].removeprefix("rupex.")))
    return written_out_document(text)


def written_out_document(text: str | bytes) -> Any:
    """The JSON document in ``text``; a run with everything written out, as ``rupex.run/1`` had it."""
    document = json.loads(text)
    if isinstance(document, dict) and document.get("schema") == "rupex.run/2":
        return json.loads(encode_json(decode_run(text.encode() if isinstance(text, str) else text, "run")))
    return document
