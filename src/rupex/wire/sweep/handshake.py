"""One whole TLS 1.3 handshake, for what the server says only under protection: certificates, the protocol it chose, the
request for a client certificate, tickets. No certificate is trusted here: it is looked at.
"""

from __future__ import annotations

import os

from msgspec import Struct

from rupex.wire.codec import codepoints
from rupex.wire.codec.answers import (
    SentCertificates,
    ServerHello,
    Ticket,
    decode_extensions,
    decode_newest_certificates,
    decode_protocol,
    decode_server_hello,
    decode_ticket,
)
from rupex.wire.codec.hello import Offer, client_hello, hello_records
from rupex.wire.codec.octets import Reader, WireError
from rupex.wire.codec.record_protection import (
    AGREEABLE_GROUPS,
    READABLE_SUITES,
    Direction,
    Opened,
    Schedule,
    Secret,
    agree,
    hash_of_first,
    new_secret,
)
from rupex.wire.codec.records import Flight, Message
from rupex.wire.connection.connection import Listener, ListenerError, Wire

_TICKET_PATIENCE = 0.25
"""Share of the time for one answer that is waited for a ticket, which many servers never send."""


class Tls13Handshake(Struct):
    """What a whole handshake told; None: it was not seen. ``ticket``: the first one, None when none came."""

    certificates: SentCertificates | None = None
    protocol: str | None = None
    scheme: int | None = None
    asks_for_certificate: bool = False
    ticket: Ticket | None = None
    is_finished: bool = False


async def converse(
    listener: Listener,
    name: str | None,
    schemes: tuple[int, ...],
    alpn: tuple[bytes, ...],
) -> Tls13Handshake | str:
    """Shake hands in TLS 1.3 with signatures by one of ``schemes``; or why it did not come about."""
    try:
        async with listener.open() as wire:
            return await _Talk(wire, name, schemes, alpn).run()
    except ListenerError as error:
        return error.why
    except WireError as error:
        return str(error)


class _Talk:
    def __init__(self, wire: Wire, name: str | None, schemes: tuple[int, ...], alpn: tuple[bytes, ...]) -> None:
        self.wire, self.name, self.schemes, self.alpn = wire, name, schemes, alpn
        self.secrets: dict[int, Secret] = {}
        self.flight = Flight()
        self.found = Tls13Handshake()

    def _hello(self, groups: tuple[int, ...], cookie: bytes | None, random: bytes) -> Message:
        shares = []
        for group in groups:
            secret = self.secrets[group] = self.secrets.get(group) or _secret(group)
            shares.append((group, secret.public))
        offer = Offer(
            version="TLSv1.3", suites=READABLE_SUITES, name=self.name, groups=AGREEABLE_GROUPS, schemes=self.schemes,
            shares=tuple(shares), alpn=self.alpn, cookie=cookie,
        )  # fmt: skip
        return client_hello(offer, random)

    async def run(self) -> Tls13Handshake | str:
        random = os.urandom(32)
        first = self._hello(AGREEABLE_GROUPS[:2], None, random)
        await self.wire.send(hello_records(first, "TLSv1.3"))
        hello = await self._server_hello(1)
        if isinstance(hello, str):
            return hello
        before = first.whole
        if hello.is_retry:
            if hello.group not in AGREEABLE_GROUPS:
                return "it asks for a group that was not offered"
            retry = self.flight.messages[0]
            cookie = hello.extensions.get(codepoints.COOKIE)
            second = self._hello((hello.group,), None if cookie is None else Reader(cookie).vector(2), random)
            await self.wire.send(hello_records(second, "TLSv1.2"))
            before = hash_of_first(first, hello.suite) + retry.whole + second.whole
            again = await self._server_hello(2)
            if isinstance(again, str):
                return again
            if again.is_retry or again.suite != hello.suite:
                return "it answers a second hello with another wish"
            hello = again
        return await self._protected(hello, before + self.flight.messages[-1].whole)

    async def _server_hello(self, count: int) -> ServerHello | str:
        await self.wire.collect(self.flight, lambda f: len(f.messages) >= count or f.alert is not None or bool(f.text))
        if len(self.flight.messages) < count:
            return f"refused with {self.flight.alert.name}" if self.flight.alert is not None else "the answer is no TLS"
        message = self.flight.messages[count - 1]
        if message.type != codepoints.SERVER_HELLO or len(self.flight.messages) > count:
            return "what came is no ServerHello"
        hello = decode_server_hello(message.body)
        if hello.version != codepoints.VERSION_NUMBERS["TLSv1.3"] or hello.suite not in READABLE_SUITES:
            return "it chose what was not offered"
        return hello

    async def _protected(self, hello: ServerHello, hellos: bytes) -> Tls13Handshake | str:
        secret = self.secrets.get(hello.group or 0)
        if secret is None:
            return "it answers with a group that was not offered"
        schedule = Schedule(hello.suite, agree(secret, hello.share), hellos)
        opened = Opened(schedule.server)
        position = 0
        finished = False
        while not finished:
            await self._more_sealed(position)
            if len(self.flight.sealed) == position:
                return "refused in the middle of the handshake"
            while position < len(self.flight.sealed) and not finished:
                for message in opened.feed(self.flight.sealed[position]):
                    self._take(message)
                    schedule.transcript += message.whole
                    finished = finished or message.type == codepoints.FINISHED
                position += 1
            if opened.alert is not None:
                return f"refused with {codepoints.ALERT_NAMES.get(opened.alert[1], 'an alert')}"
        self.found.is_finished = True
        await self._finish(schedule, position)
        return self.found

    async def _more_sealed(self, at: int, *, share: float = 1.0) -> None:
        """Wait for a protected record behind the first ``at``, or for an alert in clear."""
        await self.wire.collect(self.flight, lambda f: len(f.sealed) > at or f.alert is not None, share=share)

    def _take(self, message: Message) -> None:
        found = self.found
        match message.type:
            case codepoints.ENCRYPTED_EXTENSIONS:
                chosen = decode_extensions(message.body).get(codepoints.ALPN)
                found.protocol = None if chosen is None else decode_protocol(chosen)
            case codepoints.CERTIFICATE_REQUEST:
                found.asks_for_certificate = True
            case codepoints.CERTIFICATE:
                found.certificates = decode_newest_certificates(message.body)
            case codepoints.CERTIFICATE_VERIFY:
                found.scheme = Reader(message.body).number(2)

    async def _finish(self, schedule: Schedule, at: int) -> None:
        """The client's half, and then what tickets come. A server that ends it here has told all the same."""
        _, incoming = schedule.application()
        answer = b""
        if self.found.asks_for_certificate:
            none_to_give = Message(codepoints.CERTIFICATE, b"\x00\x00\x00\x00")
            answer += schedule.client.seal(codepoints.HANDSHAKE, none_to_give.whole)
            schedule.transcript += none_to_give.whole
        done = Message(codepoints.FINISHED, schedule.finished(schedule.client))
        answer += schedule.client.seal(codepoints.HANDSHAKE, done.whole)
        try:
            await self.wire.send(answer)
            await self._tickets(incoming, at)
        except (ListenerError, WireError):
            return

    async def _tickets(self, incoming: Direction, at: int) -> None:
        opened = Opened(incoming)
        while self.found.ticket is None:
            await self._more_sealed(at, share=_TICKET_PATIENCE)
            if len(self.flight.sealed) == at:
                return
            while at < len(self.flight.sealed):
                for message in opened.feed(self.flight.sealed[at]):
                    if message.type == codepoints.NEW_SESSION_TICKET and self.found.ticket is None:
                        self.found.ticket = decode_ticket(message.body)
                at += 1
            if opened.alert is not None:
                return


def _secret(group: int) -> Secret:
    secret = new_secret(group)
    assert secret is not None
    return secret
