"""Connections to a listener: opened within limits, counted, and bounded in number and time. The only sockets of the sweep."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Callable
from typing import Final, Literal

from msgspec import Struct

from rupex.wire.codec.octets import WireError
from rupex.wire.codec.records import Flight

Failure = Literal["refused", "unreachable", "timeout", "closed", "broken", "unasked"]
"""Why there is no answer: nobody listens, no way there, too slow, the connection was closed, what came is nonsense, or the
question was not asked, since all connections that one probe may make are made."""


class ListenerError(Exception):
    """No answer. ``kind`` and ``why``, in a few words for a person."""

    def __init__(self, kind: Failure, why: str) -> None:
        super().__init__(kind, why)
        self.kind, self.why = kind, why

    def __str__(self) -> str:
        return self.why


class ProbeLimits(Struct, frozen=True):
    """How a probe behaves. ``at_once``: connections to one listener at a time; ``overall``: to all; ``pause_seconds``:
    between two connections to one listener; ``step_seconds``: for one connection or answer; ``host_seconds``: for one
    name and port."""

    at_once: int = 16
    overall: int = 128
    pause_seconds: float = 0.0
    step_seconds: float = 8.0
    host_seconds: float = 90.0


SLOW_LIMITS: Final = ProbeLimits(at_once=1, overall=16, pause_seconds=0.25, step_seconds=20.0, host_seconds=600.0)
"""For devices that fall over when asked much at once."""

SPARE_CONNECTIONS: Final = 40
"""Connections that a probe may make beside those that :class:`Listener` counts as paid for."""
MOST_CONNECTIONS: Final = 500
"""Connections that a probe makes, whatever the peer accepts. OpenSSL 1.0.2 knows 138 suites, 97 of them also in TLS 1.1, TLS 1.0
and SSL 3.0: a server that accepts them all has 429 pairs."""

_CHUNK: Final = 1 << 14


class Listener:
    """One address and port to ask. ``connections`` and ``round_trips`` count what was asked of it so far: a round trip
    for each connection made, and one for each answer waited for. ``has_answered``: whether TLS came back to a hello;
    ``pairs``: of a version and a suite, by number, that are known to be taken; ``closes``: whether the server keeps no
    connection open after a page; ``pages``: asked since then. Each pair and each page pays for one connection.

    ``overall``: what all listeners share. The clock is the event loop's.
    """

    def __init__(self, address: str, port: int, probe_limits: ProbeLimits, overall: asyncio.Semaphore) -> None:
        self.address, self.port, self.probe_limits = address, port, probe_limits
        self.connections = self.round_trips = 0
        self.has_answered = False
        self.pairs: set[tuple[int, int]] = set()
        self.closes = False
        self.pages = self._waiting = 0
        self._overall = overall
        self._own = asyncio.Semaphore(probe_limits.at_once)
        self._deadline = asyncio.get_running_loop().time() + probe_limits.host_seconds

    @property
    def seconds_left(self) -> float:
        """What is left for this listener, none below zero."""
        return max(0.0, self._deadline - asyncio.get_running_loop().time())

    def step_seconds(self) -> float:
        return min(self.probe_limits.step_seconds, self.seconds_left)

    @property
    def allowed(self) -> int:
        """How many connections may be made in all, by what is known so far."""
        return min(MOST_CONNECTIONS, SPARE_CONNECTIONS + len(self.pairs) + self.pages)

    @property
    def room(self) -> int:
        """How many connections may still be made, less one for whoever waits to ask something."""
        return self.allowed - self.connections - self._waiting

    def count(self) -> None:
        """Count a connection that is about to be made. Raises :class:`ListenerError` when it would be one too many."""
        if self.connections >= self.allowed:
            raise ListenerError("unasked", "it was not asked, so that connections stay few")
        self.connections += 1

    @contextlib.asynccontextmanager
    async def place(self) -> AsyncIterator[None]:
        """Wait for the right to ask something more. Raises :class:`ListenerError` when the time is over."""
        async with contextlib.AsyncExitStack() as stack:
            self._waiting += 1
            try:
                await stack.enter_async_context(self._own)
                await stack.enter_async_context(self._overall)
                if self.seconds_left <= 0:
                    raise ListenerError(
                        "timeout", f"the time for one host ({self.probe_limits.host_seconds:g} s) is over"
                    )
                if self.connections and self.probe_limits.pause_seconds:
                    await asyncio.sleep(self.probe_limits.pause_seconds)
            finally:
                self._waiting -= 1
            yield

    @contextlib.asynccontextmanager
    async def open(self) -> AsyncIterator[Wire]:
        """A new connection. Raises :class:`ListenerError`."""
        async with self.place():
            wire = await self._connect()
            try:
                yield wire
            finally:
                wire.close()

    async def _connect(self) -> Wire:
        self.count()
        try:
            async with asyncio.timeout(self.step_seconds()):
                reader, writer = await asyncio.open_connection(self.address, self.port)
        except TimeoutError:
            raise ListenerError("timeout", f"no connection within {self.probe_limits.step_seconds:g} s") from None
        except ConnectionRefusedError:
            raise ListenerError("refused", "the port is closed") from None
        except ConnectionError as error:
            raise ListenerError("closed", f"the connection was not taken ({error.strerror or 'reset'})") from None
        except OSError as error:
            raise ListenerError("unreachable", f"no way there ({error.strerror or 'unreachable'})") from None
        self.round_trips += 1
        return Wire(self, reader, writer)


class Wire:
    """An open connection."""

    def __init__(self, listener: Listener, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self.listener, self._reader, self._writer = listener, reader, writer

    async def send(self, data: bytes) -> None:
        try:
            self._writer.write(data)
            async with asyncio.timeout(self.listener.step_seconds()):
                await self._writer.drain()
        except TimeoutError:
            raise ListenerError("timeout", "what was sent was not taken") from None
        except OSError:
            raise ListenerError("closed", "the connection was reset") from None

    async def receive(self) -> bytes:
        """The next bytes, none when the peer has closed. Raises :class:`ListenerError`."""
        try:
            return await self._reader.read(_CHUNK)
        except OSError:
            raise ListenerError("closed", "the connection was reset") from None

    async def collect(self, flight: Flight, is_done: Callable[[Flight], bool], *, share: float = 1.0) -> None:
        """Feed ``flight`` until ``is_done`` with it; ``share``: of the time for one answer. Raises :class:`ListenerError` when
        it ends or takes too long before."""
        self.listener.round_trips += 1
        try:
            async with asyncio.timeout(self.listener.step_seconds() * share):
                while not is_done(flight):
                    data = await self.receive()
                    if not data:
                        raise ListenerError("closed", "the connection was closed without an answer")
                    flight.feed(data)
                    self.listener.has_answered |= not flight.text
        except TimeoutError:
            raise ListenerError(
                "timeout", f"no whole answer within {self.listener.probe_limits.step_seconds:g} s"
            ) from None
        except WireError as error:
            raise ListenerError("broken", str(error)) from None

    def close(self) -> None:
        with contextlib.suppress(OSError):
            self._writer.close()
