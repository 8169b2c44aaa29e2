"""ClientHello messages (RFC 8446, 4.1.2; RFC 5246, 7.4.1.2; draft-hickman-netscape-ssl-00, 2.5 for SSL 2.0)."""

from __future__ import annotations

from typing import Final

from msgspec import Struct

from rupex.model.endpoint import ProtocolVersion
from rupex.wire.codec import codepoints
from rupex.wire.codec.octets import Reader, WireError, number, numbers, vector
from rupex.wire.codec.records import Message, encode_records


class ClientHello(Struct, frozen=True):
    """A ClientHello as it stands on the wire. ``extensions`` keep their order; no extensions: the block is left out."""

    version: int
    random: bytes
    session_id: bytes
    suites: tuple[int, ...]
    compressions: tuple[int, ...]
    extensions: tuple[tuple[int, bytes], ...]


def encode_client_hello(hello: ClientHello) -> bytes:
    """The body of the message. ``random`` has 32 bytes."""
    body = number(hello.version, 2) + hello.random + vector(hello.session_id, 1)
    body += numbers(hello.suites, 2, 2) + numbers(hello.compressions, 1, 1)
    if hello.extensions:
        body += vector(b"".join(number(kind, 2) + vector(content, 2) for kind, content in hello.extensions), 2)
    return body


def decode_client_hello(body: bytes) -> ClientHello:
    """The opposite of :func:`encode_client_hello`. Raises :class:`WireError`."""
    reader = Reader(body)
    version, random = reader.number(2), reader.take(32)
    session_id, suites, compressions = reader.vector(1), reader.numbers(2, 2), reader.numbers(1, 1)
    extensions = read_extensions(reader)
    if reader.left:
        raise WireError("bytes are left over behind the hello")
    return ClientHello(version, random, session_id, suites, compressions, extensions)


def read_extensions(reader: Reader, most: int = 256) -> tuple[tuple[int, bytes], ...]:
    """The extensions at the end of a message, none where it ends. Raises :class:`WireError`."""
    if not reader.left:
        return ()
    inner = Reader(reader.vector(2))
    found: list[tuple[int, bytes]] = []
    while inner.left:
        if len(found) == most:
            raise WireError(f"more than {most} extensions in one message")
        found.append((inner.number(2), inner.vector(2)))
    return tuple(found)


class Offer(Struct, frozen=True, kw_only=True):
    """What one hello offers: the newest ``version`` and, with it, suites, groups and signature schemes by number, in the
    order of preference. ``name``: the server name, None for none. ``shares``: key shares for TLS 1.3; with none, a server
    that takes one of the groups asks for it, which tells which. ``cookie``: from its request. ``bare``: no extension that
    a server of 1996 would not know.
    """

    version: ProtocolVersion
    suites: tuple[int, ...]
    name: str | None
    groups: tuple[int, ...] = ()
    schemes: tuple[int, ...] = ()
    shares: tuple[tuple[int, bytes], ...] = ()
    alpn: tuple[bytes, ...] = ()
    compressions: tuple[int, ...] = (0,)
    fallback: bool = False
    cookie: bytes | None = None
    bare: bool = False


def client_hello(offer: Offer, random: bytes) -> Message:
    """The hello that makes ``offer``. ``random``: 32 bytes, which are its session id in TLS 1.3 too."""
    newest = offer.version == "TLSv1.3"
    suites = offer.suites
    if offer.fallback:
        suites += (codepoints.FALLBACK,)
    if not newest and offer.bare:
        suites += (codepoints.EMPTY_RENEGOTIATION_INFO,)
    hello = ClientHello(
        min(codepoints.VERSION_NUMBERS[offer.version], codepoints.VERSION_NUMBERS["TLSv1.2"]),
        random,
        random if newest else b"",  # RFC 8446, D.4: as middle boxes expect it
        suites,
        offer.compressions,
        () if offer.bare else _extensions(offer, newest=newest),
    )
    return Message(codepoints.CLIENT_HELLO, encode_client_hello(hello))


def _extensions(offer: Offer, *, newest: bool) -> tuple[tuple[int, bytes], ...]:
    found: list[tuple[int, bytes]] = []
    if offer.name is not None:
        entry = b"\x00" + vector(offer.name.encode("ascii", "replace"), 2)
        found.append((codepoints.SERVER_NAME, vector(entry, 2)))
    if not newest:
        found.append((codepoints.RENEGOTIATION_INFO, b"\x00"))
        found.append((codepoints.EXTENDED_MASTER_SECRET, b""))
        found.append((codepoints.SESSION_TICKET, b""))
    if offer.groups:
        found.append((codepoints.SUPPORTED_GROUPS, numbers(offer.groups, 2, 2)))
        if not newest:
            found.append((codepoints.EC_POINT_FORMATS, b"\x01\x00"))
    if offer.schemes:
        found.append((codepoints.SIGNATURE_ALGORITHMS, numbers(offer.schemes, 2, 2)))
    found.append((codepoints.STATUS_REQUEST, b"\x01\x00\x00\x00\x00"))
    if offer.alpn:
        found.append((codepoints.ALPN, vector(b"".join(vector(protocol, 1) for protocol in offer.alpn), 2)))
    if newest:
        found.append((codepoints.SUPPORTED_VERSIONS, numbers((codepoints.VERSION_NUMBERS["TLSv1.3"],), 1, 2)))
        found.append((codepoints.PSK_KEY_EXCHANGE_MODES, b"\x01\x01"))
        if offer.cookie is not None:
            found.append((codepoints.COOKIE, vector(offer.cookie, 2)))
        shares = b"".join(number(group, 2) + vector(share, 2) for group, share in offer.shares)
        found.append((codepoints.KEY_SHARE, vector(shares, 2)))
    return tuple(found)


def hello_records(message: Message, version: ProtocolVersion) -> bytes:
    """A hello in records, under the version that old servers take a first record in (RFC 8446, 5.1; RFC 5246, E.1)."""
    under = 0x0300 if version == "SSLv3" else 0x0301
    return encode_records(codepoints.HANDSHAKE, under, message.whole)


_SSL2_CLIENT_HELLO: Final = 1
_SSL2_SERVER_HELLO: Final = 4


def ssl2_hello(suites: tuple[int, ...], challenge: bytes) -> bytes:
    """An SSL 2.0 CLIENT-HELLO in its record; ``suites`` are its three-byte cipher kinds, ``challenge`` 16 bytes."""
    kinds = b"".join(number(kind, 3) for kind in suites)
    body = bytes([_SSL2_CLIENT_HELLO]) + number(2, 2) + number(len(kinds), 2) + number(0, 2) + number(len(challenge), 2)
    body += kinds + challenge
    return number(0x8000 | len(body), 2) + body


class Ssl2ServerHello(Struct, frozen=True):
    """What an SSL 2.0 server takes: cipher kinds that both have, and its certificate (DER)."""

    version: int
    suites: tuple[int, ...]
    certificate: bytes


def decode_ssl2_server_hello(data: bytes) -> Ssl2ServerHello | None:
    """The SERVER-HELLO at the start of ``data``; None while it is cut short. Raises :class:`WireError` for anything else."""
    if len(data) < 3:
        return None
    if not data[0] & 0x80:
        raise WireError("what came is no SSL 2.0 record")
    length = (data[0] & 0x7F) << 8 | data[1]
    if data[2] != _SSL2_SERVER_HELLO:
        raise WireError("what came is no SSL 2.0 SERVER-HELLO")
    if len(data) < 2 + length:
        return None
    reader = Reader(data[3 : 2 + length])
    reader.take(2)  # session id hit, certificate type
    version, certificate, kinds, connection = (reader.number(2) for _ in range(4))
    der, listed = reader.take(certificate), reader.take(kinds)
    reader.take(connection)
    if kinds % 3:
        raise WireError("cipher kinds of three bytes each in a list that they do not fill")
    suites = tuple(int.from_bytes(listed[index : index + 3], "big") for index in range(0, kinds, 3))
    return Ssl2ServerHello(version, suites, der)
