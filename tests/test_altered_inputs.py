"""Run documents and databases of runs that somebody altered: told to be unsound or read as they are, never an error of our own,
and nothing in them reaches a terminal or a page as more than text."""

from __future__ import annotations

import contextlib
import copy
import io
import json
import random
import sqlite3
import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Final
from unittest import mock

import zstandard

from rupex.cli.main import main
from rupex.demo.scenario import build_scenario
from tests.support import written_out_document

Way = tuple[str | int, ...]

GONE: Final = object()
VALUES: Final[tuple[Any, ...]] = (
    None, True, -1, 0.5, 10**15, 10**30, 1e308, -1e308, "", "\u202e", "x\x1b[31m<b>&\"'", "=1+1", "](javascript:x)",
    "9999-99-99T00:00:00Z", "0001-01-01T00:00:00Z", "2026-13-01", "2026-11-24T09:30:00+01:00", "a" * 100_000, [], {}, [[]],
    GONE,
)  # fmt: skip
FORMS: Final = ("text", "html", "markdown", "csv", "sarif", "junit", "cyclonedx", "openmetrics", "json")
ALTERATIONS: Final = 250


def run(*arguments: str | Path) -> tuple[int, str, str]:
    """Status, output and errors of a command, run in this process: a process each would take a minute."""
    output, errors = io.TextIOWrapper(io.BytesIO(), "utf-8", newline=""), io.StringIO()
    with contextlib.redirect_stdout(output), contextlib.redirect_stderr(errors):
        try:
            status = main(list(map(str, arguments)))
        except SystemExit as ended:
            status = int(ended.code or 0)
    output.flush()
    assert isinstance(output.buffer, io.BytesIO)
    return status, output.buffer.getvalue().decode(), errors.getvalue()


def ways(value: Any, way: Way = ()) -> Iterator[Way]:
    """The way to each part of a document, of lists to the first parts only."""
    if way:
        yield way
    items = value.items() if isinstance(value, dict) else enumerate(value[:3]) if isinstance(value, list) else ()
    for key, part in items:
        yield from ways(part, (*way, key))


def altered(document: Any, way: Way, value: Any) -> Any:
    document = copy.deepcopy(document)
    part = document
    for key in way[:-1]:
        part = part[key]
    if value is GONE:
        del part[way[-1]]
    else:
        part[way[-1]] = value
    return document


class AlteredTest(unittest.TestCase):
    folder: Path
    base: Path
    history: Path

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        build_scenario(cls.folder / "demo")
        cls.base, cls.history = cls.folder / "base.json", cls.folder / "runs.db"
        booking = next(
            path.parent for path in sorted((cls.folder / "demo").rglob("etc")) if path.parent.name == "booking"
        )
        status, text, _ = run("audit", booking, "--format", "json", "--history", cls.history)
        assert status in (0, 3)
        cls.base.write_text(text)
        run("audit", booking, "--quiet", "--history", cls.history)

    def check(self, *arguments: str | Path) -> None:
        status, output, errors = run(*arguments)
        self.assertIn(status, (0, 1, 2, 3), errors)
        self.assertNotIn("Traceback", errors)
        self.assertNotRegex(output + errors, "\x1b")
        if arguments[-1] in ("html", "junit", "markdown"):
            self.assertNotIn('<b>&"', output)
        if arguments[-1] != "json":
            self.assertNotIn("\u202e", output)

    def test_documents(self) -> None:
        for document in (written_out_document(self.base.read_text()), json.loads(self.base.read_text())):
            with self.subTest(document["schema"]):
                self._alter(document)

    def _alter(self, document: Any) -> None:
        host = document["hosts"][0]
        host["endpoints"], host["excerpts"] = host["endpoints"][:2], host["excerpts"][:3]
        chosen = random.Random(16)
        every = list(ways(document))
        always: list[tuple[Way, Any]] = [
            (("started",), "2026-13-01"), (("started",), 'x"/><script>'), (("hosts",), []), (("hosts", 0), None),
            (("hosts", 0, "score", "value"), -1e308), (("hosts", 0, "score", "band"), None),
            (("hosts", 0, "certificates", 0, "not_after"), ""), (("baseline", "minimum_coverage"), 1e308),
        ]  # fmt: skip
        file = self.folder / "altered.json"
        for way, value in [*always, *((chosen.choice(every), chosen.choice(VALUES)) for _ in range(ALTERATIONS // 2))]:
            with self.subTest(way=way, value=str(value)[:40]):
                file.write_text(json.dumps(altered(document, way, value)))
                self.check("report", file, "--format", chosen.choice(FORMS))
                self.check("compare", file, self.base, "--format", chosen.choice(("text", "html", "markdown", "json")))
                self.check("compare", self.base, file)
                self.check("trend", file, self.base)

    def test_databases(self) -> None:
        with contextlib.closing(sqlite3.connect(self.history)) as database:
            tables = [name for (name,) in database.execute("select name from sqlite_master where type = 'table'")]
            columns = [
                (t, row[1])
                for t in tables
                if t.startswith("rupex")
                for row in database.execute(f"pragma table_info({t})")
            ]
            original = database.serialize()
        chosen = random.Random(16)
        for table, column in columns:
            for value in (
                None,
                chosen.choice((-1, 10**17, 1e308)),
                chosen.choice(("", "\x1b[31m\u202e", b"\xff", "2026-13-01")),
            ):
                with self.subTest(table=table, column=column, value=value):
                    file = self.folder / "altered.db"
                    file.write_bytes(original)
                    with (
                        contextlib.closing(sqlite3.connect(file)) as database,
                        contextlib.suppress(sqlite3.IntegrityError),
                    ):
                        database.execute(f"update {table} set {column} = ?", (value,))
                        database.commit()
                    self.check("trend", "--history", file)
                    self.check("report", "run:last", "--history", file)
                    self.check("compare", "run:1", "run:last", "--history", file)

    def test_a_document_that_unpacks_to_more_than_it_should(self) -> None:
        bomb = zstandard.ZstdCompressor().compress(bytes(64 << 20))
        with contextlib.closing(sqlite3.connect(self.history)) as database:
            original = database.serialize()
        file = self.folder / "bomb.db"
        file.write_bytes(original)
        with contextlib.closing(sqlite3.connect(file)) as database:
            database.execute("update rupex_runs set document = ?", (bomb,))
            database.commit()
        with mock.patch("rupex.history.store._MOST_DOCUMENT_BYTES", 1 << 20):
            status, _, errors = run("report", "run:1", "--history", file)
        self.assertEqual(status, 2)
        self.assertIn("is larger than", errors)
