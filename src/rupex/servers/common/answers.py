"""The parts of an answer to one request that are the same for every family."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable
from typing import Protocol, TypeVar

from rupex.model import Dropped, Header, Provenance
from rupex.servers.contract import Answer, Because, Request, UncertainHeader


class Listening(Protocol):
    """What accepts connections at an address and a port."""

    @property
    def address(self) -> str: ...

    @property
    def port(self) -> int | None: ...


_ADDRESS = re.compile(r"[0-9]{1,3}(?:\.[0-9]{1,3}){3}|\[[0-9A-Fa-f:.]+\]")

L = TypeVar("L", bound=Listening)


class AnswerBuilder:
    """Collects what one request gets, with the line that decided each step."""

    def __init__(self, endpoint: str, *, is_tls: bool) -> None:
        """``endpoint``: the id of the one that answers; ``is_tls``: whether its listener expects a TLS handshake."""
        self.endpoint = endpoint
        self.is_tls = is_tls
        self.steps: list[Because] = []
        self.headers: list[tuple[str, str]] = []
        """Names and values of the header lines, in order."""
        self.uncertain: list[UncertainHeader] = []

    def step(self, message: str, place: Provenance) -> None:
        """Add a step to the explanation."""
        self.steps.append(Because(message, place))

    def has_other_scheme(self, request: Request, place: Provenance) -> bool:
        """Whether the URL says ``http`` where the listener expects TLS, or the reverse; then a step says so."""
        if self.is_tls == (request.scheme == "https"):
            return False
        spoken = "TLS" if self.is_tls else "plain HTTP"
        self.step(f"this listener speaks {spoken}, the URL says {request.scheme}", place)
        return True

    def send(self, name: str, value: str, place: Provenance | None = None) -> None:
        """Add a header line; with ``place``, a step names the line that sets it."""
        self.headers.append((name, value))
        if place is not None:
            self.step(f"{name}: {value}", place)

    def doubt(self, name: str, value: str, why: str, place: Provenance) -> None:
        """Add a header line that may be sent, and a step that says so."""
        self.uncertain.append(UncertainHeader(name, value, why))
        self.step(f"{name} is not certain: {why}", place)

    def omit(self, header: Header, reason: str) -> None:
        """Tell why a header of the configuration is not in this answer."""
        self.step(f"{header.name} {reason}", header.provenance)

    def drop(self, headers: Iterable[Dropped]) -> None:
        """Tell which headers are written down and never sent."""
        for lost in headers:
            self.step(f"{lost.name} is dropped: {lost.because}", lost.provenance)

    def closed(self, scope: str = "", *, location: str | None = None, unknown: str | None = None) -> Answer:
        """The connection is closed without an answer. ``scope``: the one that decides so, empty where none is reached."""
        return Answer(
            endpoint=self.endpoint, scope=scope, transport=self._transport, location=location, closed=True,
            why=tuple(self.steps), unknown=unknown,
        )  # fmt: skip

    def answer(
        self, scope: str, status: int | None, *, location: str | None = None, unknown: str | None = None
    ) -> Answer:
        """The answer of a scope. ``status`` None: content decides it; ``unknown``: why the answer is not known further."""
        return Answer(
            endpoint=self.endpoint, scope=scope, transport=self._transport, status=status, location=location,
            headers=tuple(self.headers), uncertain=tuple(self.uncertain), why=tuple(self.steps), unknown=unknown,
        )  # fmt: skip

    @property
    def _transport(self) -> str:
        return "tls" if self.is_tls else "plain"


def listeners_for(request: Request, listeners: Iterable[L], every: tuple[str, ...]) -> list[L]:
    """The listeners that take a request, best first: those of its very address, else those of every address. ``every``: the
    addresses that stand for all, those of IPv4 first. A request without an address, whose URL names none either, prefers them in
    that order."""
    found = [listener for listener in listeners if listener.port == request.port]
    address = request.address or (request.name if _ADDRESS.fullmatch(request.name) else None)
    if address is not None:
        exact = [listener for listener in found if listener.address == address]
        found = exact or [listener for listener in found if _takes(listener.address, address, every)]
    return sorted(found, key=lambda listener: (listener.address.startswith("["), listener.address not in every))


def _takes(listening: str, address: str, every: tuple[str, ...]) -> bool:
    """Whether a listener at every address takes connections to ``address``: of the same kind, IPv4 or IPv6, if there are two."""
    if len(every) > 1 and listening.startswith("[") != address.startswith("["):
        return False
    return listening in every


def climbs(path: str) -> bool:
    """Whether a decoded path leads above the root, which nginx and httpd refuse with 400."""
    depth = 0
    for part in path.split("/"):
        depth += -1 if part == ".." else 0 if part in ("", ".") else 1
        if depth < 0:
            return True
    return False


def without_dots(path: str) -> str:
    """A decoded path with dots and repeated slashes resolved, as servers look it up: it keeps the slash at its end."""
    resolved = posixpath.normpath(path)
    if path.endswith(("/", "/.", "/..")) and not resolved.endswith("/"):
        resolved += "/"
    return "/" + resolved.lstrip("/")
