"""One hello and its answer, as a value: taken, refused, or no answer."""

from __future__ import annotations

import os
from typing import Literal

from msgspec import Struct

from rupex.tls.suites import CipherSuite
from rupex.wire.codec import codepoints
from rupex.wire.codec.answers import (
    KeyExchange,
    SentCertificates,
    ServerHello,
    decode_certificate_status,
    decode_certificates,
    decode_key_exchange,
    decode_server_hello,
)
from rupex.wire.codec.hello import Offer, client_hello, hello_records
from rupex.wire.codec.octets import WireError
from rupex.wire.codec.records import Alert, Flight, Message
from rupex.wire.connection.connection import Listener, ListenerError


class Taken(Struct, frozen=True):
    """The server chose: its hello, and what else it sent in clear."""

    hello: ServerHello
    flight: Flight

    def certificates(self) -> SentCertificates | None:
        """The certificates of TLS 1.2 or older, with what is stapled. Raises :class:`WireError`."""
        body = self.flight.first(codepoints.CERTIFICATE)
        if body is None:
            return None
        status = self.flight.first(codepoints.CERTIFICATE_STATUS)
        sent = decode_certificates(body)
        return SentCertificates(sent.chain, None if status is None else decode_certificate_status(status))

    def key_exchange(self, suite: CipherSuite) -> KeyExchange | None:
        """The parameters sent for ``suite``. Raises :class:`WireError`."""
        body = self.flight.first(codepoints.SERVER_KEY_EXCHANGE)
        if body is None and self.is_whole and suite.key_exchange in ("ECDHE", "DHE"):
            raise WireError("it is missing, although the suite requires it")
        if body is None or suite.key_exchange not in ("ECDHE", "DHE", "RSA"):
            return None
        return decode_key_exchange(
            body,
            suite.key_exchange,
            signed=suite.authentication not in ("anon", "PSK"),
            has_scheme=self.hello.version == codepoints.VERSION_NUMBERS["TLSv1.2"],
            hint=suite.authentication == "PSK",
        )

    @property
    def is_whole(self) -> bool:
        """Whether everything of TLS 1.2 or older that is sent in clear is there."""
        return self.flight.first(codepoints.SERVER_HELLO_DONE) is not None

    @property
    def asks_for_certificate(self) -> bool:
        return self.flight.first(codepoints.CERTIFICATE_REQUEST) is not None


class Refused(Struct, frozen=True):
    """The server said no, by an ``alert``, or by closing the connection (None)."""

    alert: Alert | None = None


class NoAnswer(Struct, frozen=True):
    """Nobody can tell: ``kind`` as of :class:`ListenerError`, or ``foreign`` for an answer that is no TLS."""

    kind: Literal["refused", "unreachable", "timeout", "broken", "unasked", "foreign"]
    why: str
    text: bytes = b""


Answer = Taken | Refused | NoAnswer


def _is_done(flight: Flight) -> bool:
    """Whether all that is said in clear is there."""
    if flight.alert is not None or flight.text:
        return True
    body = flight.first(codepoints.SERVER_HELLO)
    if body is None:
        return False
    return flight.first(codepoints.SERVER_HELLO_DONE) is not None or decode_server_hello(body).version >= 0x0304


async def ask(listener: Listener, offer: Offer) -> Answer:
    """Send the hello that makes ``offer`` and read what is said in clear."""
    return await query_with(listener, offer, client_hello(offer, os.urandom(32)))


async def query_with(listener: Listener, offer: Offer, message: Message) -> Answer:
    flight = Flight()
    try:
        async with listener.open() as wire:
            await wire.send(hello_records(message, offer.version))
            await wire.collect(flight, _is_done)
    except ListenerError as error:
        if error.kind == "closed":
            body = flight.first(codepoints.SERVER_HELLO)
            return Refused() if body is None else _taken(flight, body)
        return NoAnswer(error.kind, error.why)
    return answer_of(flight)


def answer_of(flight: Flight) -> Answer:
    """What a finished flight says."""
    if flight.text:
        return NoAnswer("foreign", "the answer is no TLS", flight.text)
    body = flight.first(codepoints.SERVER_HELLO)
    if body is None:
        return Refused(flight.alert)
    return _taken(flight, body)


def _taken(flight: Flight, body: bytes) -> Answer:
    try:
        return Taken(decode_server_hello(body), flight)
    except WireError as error:
        return NoAnswer("broken", str(error))
