"""A run over a fleet: the network first, many hosts at a time, then trees and judgement, one process a host on every core.

Hosts go in batches. Each finished host is kept at once, so that a run that was interrupted goes on where it was; and each is
worked on in a process of its own, so that one that takes too long, or breaks, costs itself and no other.
"""

from __future__ import annotations

import asyncio
import gc
import multiprocessing
import os
import signal
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from importlib import import_module
from multiprocessing.connection import wait
from pathlib import Path
from pkgutil import walk_packages
from typing import Any, Final

import msgspec
from msgspec import Struct, structs

import rupex.pki
import rupex.servers
from rupex.audit.assess import assess, gather, revised, with_file_digests
from rupex.audit.join import join, merge_observations
from rupex.audit.judge import judge
from rupex.audit.probe import observe_all
from rupex.baseline import Baseline, Waivers
from rupex.documents.encoding import encode_msgpack
from rupex.documents.run import BaselineUsed, HostDocument, InventoryRow
from rupex.fleet.inventory import Entry, Inventory
from rupex.fleet.kept import Kept, evidence_key
from rupex.fleet.summary import shared_keys
from rupex.host import open_tree
from rupex.http.names import is_address
from rupex.model import Host, Problem, ProblemKind, RupexError, SharedKey
from rupex.parallel import HELD, end_with_parent, run_loop, signals_held
from rupex.wire.connection.connection import ProbeLimits
from rupex.wire.observe.observe import Connect

_BATCH: Final = 64
"""Hosts whose listeners are looked at before they are judged: an interruption costs no more than these."""
HOST_SECONDS: Final = 300.0
"""For one host's tree and judgement; ten thousand sites take about fifteen."""


class Work(Struct, frozen=True):
    """How a fleet is worked on. ``baselines``: by name as the inventory has them, None for the usual one; ``known``: adds to
    what was seen of a host what earlier runs tell of it."""

    baselines: Mapping[str | None, Baseline]
    waivers: Waivers | None
    now: datetime
    probe_limits: ProbeLimits
    skip_paths: bool = False
    jobs: int = 2
    host_seconds: float = HOST_SECONDS
    keep_all: bool = False
    known: Callable[[Host], Host] = lambda host: host


Progress = Callable[[HostDocument], None]


def run_fleet(inventory: Inventory, work: Work, kept: Kept | None, progress: Progress) -> list[HostDocument]:
    """Every host's document, in the order of the inventory. ``progress`` is called for each as it is done. What goes wrong with a
    host becomes a problem of that host. A host that ``kept`` has, and whose evidence is unchanged, is taken over, and its
    document says so."""
    earlier = {} if kept is None else kept.read()
    done: dict[str, HostDocument] = {}
    for entry in inventory.entries:
        key = evidence_key(entry) if earlier else None
        if key is not None and key in earlier:
            done[entry.name] = structs.replace(earlier[key], taken_over=True)
            progress(done[entry.name])
    waiting = [entry for entry in inventory.entries if entry.name not in done]
    for start in range(0, len(waiting), _BATCH):
        batch = waiting[start : start + _BATCH]
        # What a host is kept under is taken before its files are read: a change in between makes it be done again.
        keys = {entry.name: None if kept is None else evidence_key(entry) for entry in batch}
        observations = run_loop(_observe(batch, work))
        for entry, document in _judged(batch, observations, work):
            done[entry.name] = document
            key = keys[entry.name]
            if kept is not None and key is not None:
                kept.add(key, document)
            progress(document)
    hosts = [done[entry.name] for entry in inventory.entries]
    return _with_shared_keys(hosts, inventory, work)


async def _observe(batch: Sequence[Entry], work: Work) -> list[list[Host]]:
    """What is seen of each host's listeners, at the same time; what all may open together is bounded by the limits."""

    async def one(entry: Entry) -> list[Host]:
        if not entry.targets:
            return []
        observations = await observe_all(
            entry.targets, probe_limits=work.probe_limits, connect=_connect(entry), skip_paths=work.skip_paths
        )
        return [work.known(host) for host in observations]

    return list(await asyncio.gather(*(one(entry) for entry in batch)))


def _connect(entry: Entry) -> Connect | None:
    """The way to an entry's listeners: one address, and a port for each port that is asked."""
    if not entry.connect:
        return None
    first = entry.connect[0]
    ports = [one.ports[0] for one in entry.connect if one.chosen]
    if len(ports) < 2:
        return Connect(first.name, ports[0] if ports else None)
    return Connect(first.name, None, dict(zip(entry.targets[0].ports, ports, strict=False)))


# One host, in a process of its own


def _assess(entry: Entry, observations: Sequence[Host], work: Work) -> HostDocument:
    baseline = work.baselines[entry.baseline]
    tree = None
    if entry.tree is not None:
        located = open_tree(entry.tree, manifest=entry.manifest)
        tree = located.tree
        evidence = gather(tree, located.start, name=entry.name, family=entry.family, assumed=entry.assume)
        host = join(evidence, tree, observations) if observations else evidence.host
    else:
        host = merge_observations(observations)
    required = tuple(target.name for target in entry.targets if not is_address(target.name))
    host = structs.replace(host, name=entry.name, behind=entry.behind, required=required)
    document = assess(host, baseline, work.now, keep_all=work.keep_all, waivers=work.waivers)
    return document if tree is None else with_file_digests(document, tree)


def _broken(entry: Entry, work: Work, kind: ProblemKind, words: str) -> HostDocument:
    where = None if entry.tree is None else str(entry.tree)
    host = Host(name=entry.name, sources=(), problems=(Problem(kind, where, None, words, True),))
    return assess(host, work.baselines[entry.baseline], work.now)


def _completed(entry: Entry, document: HostDocument, work: Work) -> HostDocument:
    baseline = work.baselines[entry.baseline]
    used = BaselineUsed(baseline.name, baseline.version, baseline.digest, baseline.minimum_coverage)
    row = InventoryRow(entry.owner, entry.tags, entry.weight, entry.behind)
    return structs.replace(document, inventory=row, baseline=used)


class _Worker:
    """A child that works on one host of the batch after the other, each when it is told to."""

    def __init__(
        self, batch: Sequence[tuple[Entry, Sequence[Host]]], work: Work, others: Sequence[_Worker] = ()
    ) -> None:
        context = multiprocessing.get_context("fork" if hasattr(os, "fork") else None)
        self.pipe, child_end = context.Pipe()
        # A forked child has a copy of every open end, also of its own pipe's: as long as it keeps them, it would not
        # notice that the parent ended.
        inherited = [*(worker.pipe for worker in others), self.pipe]
        self.process = context.Process(target=_work, args=(child_end, batch, work, os.getpid(), inherited))
        with signals_held():
            self.process.start()
        child_end.close()
        self.at: int | None = None
        self.until = 0.0

    def begin(self, at: int, seconds: float) -> None:
        self.at, self.until = at, time.monotonic() + seconds
        self.pipe.send(at)

    def stop(self) -> None:
        self.process.kill()
        self.process.join()
        self.pipe.close()


def _judged(
    batch: Sequence[Entry], observations: Sequence[Sequence[Host]], work: Work
) -> Iterator[tuple[Entry, HostDocument]]:
    """The hosts of a batch as they are done, by ``work.jobs`` children; one that breaks or takes too long is replaced."""
    _warm(work)
    pairs = list(zip(batch, observations, strict=True))
    waiting = list(range(len(pairs)))[::-1]
    workers: list[_Worker] = []
    try:
        while waiting or any(worker.at is not None for worker in workers):
            idle = [worker for worker in workers if worker.at is None]
            while waiting and (idle or len(workers) < max(1, work.jobs)):
                if not idle:
                    workers.append(_Worker(pairs, work, workers))
                    idle.append(workers[-1])
                idle.pop().begin(waiting.pop(), work.host_seconds)
            busy = [worker for worker in workers if worker.at is not None]
            soonest = min(worker.until for worker in busy)
            ready = wait([worker.pipe for worker in busy], timeout=max(0.0, soonest - time.monotonic()))
            for worker in [worker for worker in busy if worker.pipe in ready]:
                yield _received(worker, workers, batch, work)
            for worker in [worker for worker in workers if worker.at is not None and worker.until <= time.monotonic()]:
                entry = batch[worker.at or 0]
                workers.remove(worker)
                worker.stop()
                words = f"not done within {work.host_seconds:g} s, and left"
                yield entry, _completed(entry, _broken(entry, work, "timeout", words), work)
    finally:
        for worker in workers:
            worker.stop()


def _received(
    worker: _Worker, workers: list[_Worker], batch: Sequence[Entry], work: Work
) -> tuple[Entry, HostDocument]:
    entry = batch[worker.at or 0]
    worker.at = None
    try:
        answer = worker.pipe.recv_bytes()
    except (EOFError, OSError):  # the child ended before it answered
        workers.remove(worker)
        worker.stop()
        answer = b"!the process ended"
    message = answer[1:].decode("utf-8", "replace") if answer[:1] != b"+" else ""
    match answer[:1]:
        case b"-":
            return entry, _completed(entry, _broken(entry, work, "missing", message), work)
        case b"!":
            words = f"an error of our own ended the work on this host ({message}); please report it"
            return entry, _completed(entry, _broken(entry, work, "internal", words), work)
    return entry, _completed(entry, msgspec.msgpack.decode(answer[1:], type=HostDocument), work)


def _warm(work: Work) -> None:
    """Load what every child would load for itself, before there are any."""
    for package in (rupex.pki, rupex.servers):
        for module in walk_packages(package.__path__, f"{package.__name__}."):
            import_module(module.name)
    with tempfile.TemporaryDirectory() as empty:
        tree = open_tree(Path(empty)).tree
        assess(gather(tree, "", name="nothing").host, work.baselines[None], work.now)


def _work(
    pipe: Any, batch: Sequence[tuple[Entry, Sequence[Host]]], work: Work, parent: int, inherited: Sequence[Any]
) -> None:
    """In the child: the hosts that the parent names by their place, as bytes; an error as its text. An interruption is for
    the parent, which ends its children; ``inherited``: ends of pipes that are the parent's."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_DFL)
    signal.pthread_sigmask(signal.SIG_UNBLOCK, HELD)
    end_with_parent(parent)
    for end in inherited:
        end.close()
    gc.disable()  # a batch is small, and the child ends with it
    while True:
        try:
            at = pipe.recv()
        except EOFError:
            return
        entry, observations = batch[at]
        try:
            answer = b"+" + encode_msgpack(_assess(entry, observations, work))
        except RupexError as error:
            answer = b"-" + str(error).encode("utf-8", "replace")
        except Exception as error:  # noqa: BLE001  one host's error of ours is no other host's business
            answer = b"!" + f"{type(error).__name__}: {error}".encode("utf-8", "replace")
        pipe.send_bytes(answer)


# What only the fleet can tell


def _with_shared_keys(hosts: list[HostDocument], inventory: Inventory, work: Work) -> list[HostDocument]:
    shared = shared_keys(hosts)
    found = []
    for entry, host in zip(inventory.entries, hosts, strict=True):
        keys: tuple[SharedKey, ...] | None = shared.get(host.name, ()) if host.certificates else None
        found.append(_with_key_shared(host, keys, work.baselines[entry.baseline], work))
    return found


def _with_key_shared(
    host: HostDocument, keys: tuple[SharedKey, ...] | None, baseline: Baseline, work: Work
) -> HostDocument:
    name = "cert.key-shared"
    rule = baseline.rules.get(name)
    if rule is None or rule.off is not None or keys is None:
        return host
    alone = structs.replace(baseline, rules={name: rule})
    judged = judge(Host(name=host.name, sources=host.sources, shared=keys), alone, work.now, waivers=work.waivers)
    return revised(host, baseline, judged, work.now)
