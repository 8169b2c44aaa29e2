"""A forwarder that holds back whatever goes through it, as a long way would: half the round trip each way."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Coroutine
from typing import Any


class Delayed:
    """Forwards connections from ``port`` on loopback to ``there``, with ``round_trip`` seconds on the way. ``connections``
    counts them. Accepting a connection takes a round trip too, as a handshake of TCP would."""

    def __init__(self, there: int, round_trip: float) -> None:
        self.there, self.half = there, round_trip / 2
        self.connections = 0
        self.port = 0
        self._loop = asyncio.new_event_loop()
        self._started = threading.Event()
        self._tasks: set[asyncio.Task[None]] = set()
        threading.Thread(target=self._run, daemon=True).start()
        self._started.wait()

    def _run(self) -> None:
        async def serve() -> None:
            server = await asyncio.start_server(self._accept, "127.0.0.1", 0, backlog=512)
            self.port = server.sockets[0].getsockname()[1]
            self._started.set()

        self._loop.run_until_complete(serve())
        self._loop.run_forever()

    def _keep(self, work: Coroutine[Any, Any, None]) -> None:
        task = self._loop.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _accept(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self.connections += 1
        there_reader, there_writer = await asyncio.open_connection("127.0.0.1", self.there)
        # The client believes itself connected at once: what it sends is held back for the handshake's round trip as well.
        self._keep(self._pump(reader, there_writer, 2 * self.half))
        self._keep(self._pump(there_reader, writer, 0.0))

    async def _pump(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, first: float) -> None:
        queue: asyncio.Queue[tuple[float, bytes]] = asyncio.Queue()

        async def drain() -> None:
            while True:
                due, data = await queue.get()
                await asyncio.sleep(max(0.0, due - self._loop.time()))
                if not data:
                    writer.close()
                    return
                writer.write(data)

        self._keep(drain())
        opened = self._loop.time() + first
        while True:
            try:
                data = await reader.read(1 << 16)
            except OSError:
                data = b""
            queue.put_nowait((max(self._loop.time(), opened) + self.half, data))
            if not data:
                return
