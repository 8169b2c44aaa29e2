"""Many names probed: observed at the same time, judged one by one, each handed on as soon as it is done."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Sequence
from datetime import datetime
from typing import Final

from msgspec import structs

from rupex.audit.assess import assess
from rupex.baseline import Baseline, Waivers
from rupex.documents.run import HostDocument
from rupex.model import Host
from rupex.wire.connection.connection import ProbeLimits
from rupex.wire.connection.targets import Target
from rupex.wire.observe.observe import Connect, ProbeSession, observe

_AT_ONCE: Final = 24
"""Names that are looked at at the same time; the connections have a bound of their own."""


async def observe_all(
    targets: Sequence[Target], *, probe_limits: ProbeLimits, connect: Connect | None = None, skip_paths: bool = False
) -> list[Host]:
    """What is seen of each target, at the same time."""
    session = ProbeSession(list(targets), probe_limits, connect, skip_paths=skip_paths)
    return list(await asyncio.gather(*(observe(target, session) for target in targets)))


async def probe(
    targets: Sequence[Target],
    baseline: Baseline,
    now: datetime,
    *,
    probe_limits: ProbeLimits,
    connect: Connect | None = None,
    skip_paths: bool = False,
    keep_all: bool = False,
    endpoints: bool = True,
    waivers: Waivers | None = None,
    enrich: Callable[[Host], Host] = lambda host: host,
) -> AsyncIterator[tuple[int, HostDocument]]:
    """Each target's place in ``targets`` with its document, in the order in which they are done.

    ``endpoints``: whether the documents have them; ``enrich``: adds to a host what earlier runs tell of it.
    """
    session = ProbeSession(list(targets), probe_limits, connect, skip_paths=skip_paths)
    waiting = iter(enumerate(targets))
    running: dict[asyncio.Task[HostDocument], int] = {}

    async def one(target: Target) -> HostDocument:
        document = assess(enrich(await observe(target, session)), baseline, now, keep_all=keep_all, waivers=waivers)
        return document if endpoints else structs.replace(document, endpoints=())

    try:
        while True:
            while len(running) < _AT_ONCE and (following := next(waiting, None)) is not None:
                running[asyncio.create_task(one(following[1]))] = following[0]
            if not running:
                return
            done, _ = await asyncio.wait(running, return_when=asyncio.FIRST_COMPLETED)
            for task in done:
                yield running.pop(task), task.result()
    finally:
        for task in running:
            task.cancel()
