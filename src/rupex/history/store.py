"""The database of runs: SQLite in a file, or PostgreSQL by its URL. Runs are stored whole, and indexed by host and control.

A run is one transaction: a process that is killed, or a disk that is full, leaves none of it. The document is msgpack, compressed
(zstd); beside it stand the figures that trends are made of, so that a trend opens no document.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any, Final, NamedTuple, TypeVar

import msgspec
import zstandard
from msgspec import Struct
from sqlalchemy import (
    Column,
    Connection,
    Engine,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    create_engine,
    delete,
    event,
    func,
    insert,
    inspect,
    select,
)
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, SQLAlchemyError
from sqlalchemy.pool import NullPool

from rupex.documents.encoding import encodable
from rupex.documents.run import HostDocument, Points, Run, Weight, is_time
from rupex.model import RupexError
from rupex.user_files import PRIVATE

T = TypeVar("T")

FORMAT: Final = 1
"""Of the tables below; a database of a later one is left alone."""
_BUSY_SECONDS: Final = 60
"""How long one run waits for another that writes; a run of a thousand hosts is written in a few seconds."""
_MOST_DOCUMENT_BYTES: Final = 1 << 30
"""A run of a thousand large hosts with everything listed has about 300 MB."""
_LARGEST_WINDOW: Final = 1 << 27

_METADATA = MetaData()
_FORMAT = Table("rupex_format", _METADATA, Column("format", Integer, primary_key=True))
_RUNS = Table(
    "rupex_runs",
    _METADATA,
    Column("id", Integer, primary_key=True, autoincrement=True),
    Column("started", String(20), nullable=False),
    Column("baseline", String(200), nullable=False),
    Column("hosts", Integer, nullable=False),
    Column("fleet", String(1000)),
    Column("mean", Float),
    Column("document", LargeBinary, nullable=False),
    Index("rupex_runs_started", "started"),
    sqlite_autoincrement=True,
)
_HOSTS = Table(
    "rupex_hosts",
    _METADATA,
    Column("run", Integer, ForeignKey("rupex_runs.id", ondelete="CASCADE"), primary_key=True),
    Column("name", String(1000), primary_key=True),
    Column("value", Float),
    Column("low", Float, nullable=False),
    Column("high", Float, nullable=False),
    Column("coverage", Float, nullable=False),
    Column("held_by", String(100)),
    Column("weight", Float, nullable=False),
    Index("rupex_hosts_name", "name", "run"),
)
_COSTS = Table(
    "rupex_costs",
    _METADATA,
    Column("run", Integer, ForeignKey("rupex_runs.id", ondelete="CASCADE"), primary_key=True),
    Column("control", String(100), primary_key=True),
    Column("failing", Integer, nullable=False),
    Column("places", Integer, nullable=False),
    Column("lost", Float, nullable=False),
    Index("rupex_costs_control", "control", "run"),
)
_FAILURES = Table(
    "rupex_failures",
    _METADATA,
    Column("run", Integer, ForeignKey("rupex_runs.id", ondelete="CASCADE"), primary_key=True),
    Column("name", String(1000), primary_key=True),
    Column("failing", LargeBinary, nullable=False),
)
"""By host, what fails there: msgpack of control to (places, points)."""
_TICKETS = Table(
    "rupex_tickets",
    _METADATA,
    Column("run", Integer, ForeignKey("rupex_runs.id", ondelete="CASCADE"), primary_key=True),
    Column("endpoint", String(1000), primary_key=True),
    Column("key", String(64), nullable=False),
    Index("rupex_tickets_key", "key", "endpoint"),
)


class StoredRun(Struct, frozen=True):
    """A run without its document. ``fleet``: the inventory that it was of, None for single hosts."""

    id: int
    started: str
    baseline: str
    hosts: int
    fleet: str | None
    mean: Points | None


class HostFigures(NamedTuple):
    """A host in one run. ``held_by``: the control whose ceiling holds its score."""

    run: int
    name: str
    value: Points | None
    low: Points
    high: Points
    held_by: str | None
    weight: Weight


class History:
    """One database, made when it is not there. Raises :class:`~rupex.model.RupexError` for what is none, or of a later format."""

    def __init__(self, where: str) -> None:
        self.where = _without_password(where)
        self._engine = _engine(where)
        self._writer = self._engine.execution_options(writes=True)
        with self._reported():
            if not inspect(self._engine).has_table(_FORMAT.name):
                with self._writer.begin() as connection:
                    _METADATA.create_all(connection)
                    if connection.execute(select(_FORMAT.c.format)).first() is None:
                        connection.execute(insert(_FORMAT).values(format=FORMAT))
            with self._engine.connect() as connection:
                found = connection.execute(select(func.max(_FORMAT.c.format))).scalar() or 0
        if found > FORMAT:
            raise RupexError(
                f"history {self.where}: made by a later release of Rupex (format {found}; this one knows {FORMAT})"
            )

    @contextmanager
    def _reported(self) -> Iterator[None]:
        """Errors of the database, in its own words, as ours."""
        try:
            yield
        except DBAPIError as error:
            raise RupexError(f"history {self.where}: {_words(error)}") from None
        except SQLAlchemyError as error:
            raise RupexError(f"history {self.where}: {str(error).splitlines()[0][:200]}") from None

    def _sound(self, rows: object, kind: type[T]) -> T:
        """Rows as what they must be: who writes the file may have been anybody."""
        try:
            return msgspec.convert(rows, kind)
        except msgspec.ValidationError as error:
            raise RupexError(f"history {self.where}: invalid row ({error})") from None

    def close(self) -> None:
        self._engine.dispose()

    def add(self, run: Run) -> int:
        """Store ``run`` whole, and return its number."""
        run = encodable(run)
        compressed = zstandard.ZstdCompressor(level=3).compress(msgspec.msgpack.encode(run))
        fleet = run.fleet if run.fleet else None
        with self._reported(), self._writer.begin() as connection:
            row = insert(_RUNS).values(
                started=run.started, baseline=f"{run.baseline.name} {run.baseline.version}", hosts=len(run.hosts),
                fleet=None if fleet is None else fleet.inventory, mean=_mean(run), document=compressed,
            )  # fmt: skip
            key = connection.execute(row).inserted_primary_key
            assert key is not None
            number = int(key[0])
            for table, rows in _rows(number, run):
                if rows:
                    connection.execute(insert(table), rows)
        return number

    def runs(self, host: str | None = None) -> list[StoredRun]:
        """The runs that are stored, oldest first; with ``host``, those that have it."""
        columns = (_RUNS.c.id, _RUNS.c.started, _RUNS.c.baseline, _RUNS.c.hosts, _RUNS.c.fleet, _RUNS.c.mean)
        query = select(*columns).order_by(_RUNS.c.started, _RUNS.c.id)
        if host is not None:
            query = query.where(_RUNS.c.id.in_(select(_HOSTS.c.run).where(_HOSTS.c.name == host)))
        with self._reported(), self._engine.connect() as connection:
            found = [dict(zip(StoredRun.__struct_fields__, row, strict=True)) for row in connection.execute(query)]
        runs = self._sound(found, list[StoredRun])
        for run in runs:
            if not is_time(run.started):
                raise RupexError(f"history {self.where}: run {run.id} has an invalid start time")
        return runs

    def run(self, number: int) -> Run:
        """A run as it was stored."""
        with self._reported(), self._engine.connect() as connection:
            found = connection.execute(select(_RUNS.c.document).where(_RUNS.c.id == number)).scalar()
        if found is None:
            raise RupexError(f"history {self.where}: there is no run {number}; see: rupex history list")
        try:
            with zstandard.ZstdDecompressor(max_window_size=_LARGEST_WINDOW).stream_reader(found) as stream:
                content = stream.read(_MOST_DOCUMENT_BYTES + 1)
            if len(content) > _MOST_DOCUMENT_BYTES:
                raise RupexError(f"history {self.where}: run {number} is larger than {_MOST_DOCUMENT_BYTES} bytes")
            return msgspec.msgpack.decode(content, type=Run)
        except (zstandard.ZstdError, msgspec.MsgspecError, TypeError, RecursionError) as error:
            raise RupexError(f"history {self.where}: run {number} cannot be read ({error})") from None

    def named(self, reference: str) -> Run:
        """The run that ``12``, ``last`` or ``last-1`` names."""
        runs = self.runs()
        if reference.isdecimal():
            return self.run(int(reference))
        word, _, back = reference.partition("-")
        if word != "last" or not (back == "" or back.isdecimal()):
            raise RupexError(f"run:{reference}: a number, last, or last-1 is expected")
        steps = int(back or 0)
        if steps >= len(runs):
            raise RupexError(f"history {self.where}: it has {len(runs)} runs, so there is no run:{reference}")
        return self.run(runs[-1 - steps].id)

    def hosts_of(self, runs: Sequence[int], name: str | None = None) -> list[HostFigures]:
        """The figures of the hosts of ``runs``, or of one of them in each."""
        query = select(*(_HOSTS.c[field] for field in HostFigures._fields)).order_by(_HOSTS.c.run)
        if name is not None:
            query = query.where(_HOSTS.c.name == name)
        numbers = set(runs)
        with self._reported(), self._engine.connect() as connection:
            found = [tuple(row) for row in connection.execute(query) if row[0] in numbers]
        return self._sound(found, list[HostFigures])

    def costs_of(self, control: str) -> dict[int, tuple[int, int, float]]:
        """By run, at how many hosts and places a control fails, and the points that costs them together."""
        query = select(_COSTS).where(_COSTS.c.control == control)
        with self._reported(), self._engine.connect() as connection:
            rows = connection.execute(query).mappings().all()
        found = {row["run"]: (row["failing"], row["places"], row["lost"]) for row in rows}
        return self._sound(found, dict[int, tuple[int, int, Points]])

    def failures_of(self, name: str) -> dict[int, dict[str, tuple[int, float]]]:
        """By run, what fails at a host: at how many places, and the points that costs."""
        query = select(_FAILURES.c.run, _FAILURES.c.failing).where(_FAILURES.c.name == name)
        with self._reported(), self._engine.connect() as connection:
            rows = connection.execute(query).all()
        try:
            return {run: msgspec.msgpack.decode(failing, type=dict[str, tuple[int, Points]]) for run, failing in rows}
        except (msgspec.MsgspecError, TypeError) as error:
            raise RupexError(f"history {self.where}: what failed at {name} cannot be read ({error})") from None

    def first_seen(self, keys: Sequence[tuple[str, str]]) -> dict[tuple[str, str], datetime]:
        """When the ticket key of an endpoint was seen first, for each (endpoint, key) that was."""
        found: dict[tuple[str, str], datetime] = {}
        with self._reported(), self._engine.connect() as connection:
            for endpoint, key in keys:
                query = (
                    select(func.min(_RUNS.c.started))
                    .select_from(_TICKETS.join(_RUNS))
                    .where(_TICKETS.c.endpoint == endpoint, _TICKETS.c.key == key)
                )
                started = connection.execute(query).scalar()
                if isinstance(started, str) and is_time(started):
                    found[endpoint, key] = datetime.fromisoformat(started)
        return found

    def prune(self, *, keep: int | None = None, before: str | None = None) -> int:
        """Delete runs, and return how many: all but the ``keep`` youngest, or those that started ``before``."""
        runs = self.runs()
        old = [run.id for run in runs if before is not None and run.started < before]
        if keep is not None:
            old += [run.id for run in runs[: max(0, len(runs) - keep)]]
        gone = sorted(set(old))
        with self._reported(), self._writer.begin() as connection:
            for start in range(0, len(gone), 500):
                some = gone[start : start + 500]
                for table in (_TICKETS, _FAILURES, _COSTS, _HOSTS):
                    connection.execute(delete(table).where(table.c.run.in_(some)))
                connection.execute(delete(_RUNS).where(_RUNS.c.id.in_(some)))
        return len(gone)


def _engine(where: str) -> Engine:
    if "://" in where:
        url = where
        for short in ("postgresql://", "postgres://"):
            if where.startswith(short):
                url = "postgresql+psycopg://" + where.removeprefix(short)
    else:
        path = Path(where).absolute()
        try:
            _make_private(path)
        except (OSError, ValueError) as error:
            reason = error.strerror if isinstance(error, OSError) else "not a file name"
            raise RupexError(f"history {where}: {reason}") from None
        url = f"sqlite:///{path}"
    try:
        # No connection outlives its use: the process may fork, or run for hours.
        engine = create_engine(
            url, poolclass=NullPool, connect_args={"timeout": _BUSY_SECONDS} if url.startswith("sqlite") else {}
        )
    except (ArgumentError, NoSuchModuleError, ModuleNotFoundError):
        raise RupexError(
            f"history {_without_password(where)}: a file, or a URL such as postgresql://…/rupex (pip install 'rupex[postgresql]')"
        ) from None
    if url.startswith("sqlite"):
        event.listen(engine, "connect", _prepare_sqlite)
        event.listen(engine, "begin", _begin_at_once)
    return engine


def _make_private(path: Path) -> None:
    """Make the database's file, which only its owner can read; SQLite gives the files that it puts beside it the same mode."""
    path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    status = path.stat() if path.exists() else None
    if status is None:
        os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, PRIVATE))
    elif not stat.S_ISREG(status.st_mode):
        raise OSError(errno.EINVAL, "it is not a regular file")


def _prepare_sqlite(connection: Any, _: object) -> None:
    connection.isolation_level = None  # transactions are begun by us, see below
    connection.execute("PRAGMA foreign_keys = ON")
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA synchronous = NORMAL")


def _begin_at_once(connection: Connection) -> None:
    """A writer takes its turn when it begins: two that first read and then write would refuse each other."""
    connection.exec_driver_sql("BEGIN IMMEDIATE" if connection.get_execution_options().get("writes") else "BEGIN")


def _without_password(where: str) -> str:
    """A database's URL as it may be shown: without the account, and without what stands behind a question mark."""
    head, mark, rest = where.partition("://")
    return f"{head}{mark}{rest.partition('?')[0].rpartition('@')[2]}" if mark else where


def _words(error: DBAPIError) -> str:
    text = " ".join(str(error.orig).split())
    hints = (
        ("disk I/O", "the disk may be full"),
        ("disk is full", "the disk is full"),
        ("not a database", "no history of Rupex"),
    )
    hint = next((words for part, words in hints if part in text), "")
    return f"{text[:200]}" + (f" ({hint})" if hint else "")


def _weight(host: HostDocument) -> float:
    return host.inventory.weight if host.inventory else 1.0


def _mean(run: Run) -> float | None:
    if run.fleet:
        return run.fleet.mean
    values = [host.score.value for host in run.hosts if host.score.value is not None]
    return sum(values) / len(values) if values else None


def _rows(number: int, run: Run) -> Iterator[tuple[Table, list[dict[str, Any]]]]:
    hosts, failures, tickets = [], [], []
    costs: dict[str, list[float]] = {}
    for host in {host.name: host for host in run.hosts}.values():
        score = host.score
        hosts.append(
            {"run": number, "name": host.name, "value": score.value, "low": score.low, "high": score.high,
             "coverage": score.coverage, "held_by": score.ceiling.control if score.ceiling else None,
             "weight": _weight(host)}
        )  # fmt: skip
        failing = {check.control: (check.counts.fail, check.lost) for check in host.checks if check.counts.fail}
        failures.append({"run": number, "name": host.name, "failing": msgspec.msgpack.encode(failing)})
        for control, (places, lost) in failing.items():
            cost = costs.setdefault(control, [0, 0, 0.0])
            cost[0], cost[1], cost[2] = cost[0] + 1, cost[1] + places, cost[2] + lost
        tickets += [
            {"run": number, "endpoint": endpoint.id, "key": endpoint.wire.ticket_key}
            for endpoint in host.endpoints
            if endpoint.wire is not None and endpoint.wire.ticket_key
        ]
    yield _HOSTS, hosts
    yield _FAILURES, failures
    yield (
        _COSTS,
        [
            {"run": number, "control": control, "failing": int(failing), "places": int(places), "lost": lost}
            for control, (failing, places, lost) in costs.items()
        ],
    )
    yield _TICKETS, list({(row["endpoint"]): row for row in tickets}.values())
