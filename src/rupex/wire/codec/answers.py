"""What a server says in clear: hello, certificates, key exchange, requests (RFC 8446, 4; RFC 5246, 7.4)."""

from __future__ import annotations

from typing import Final

from msgspec import Struct

from rupex.model import bounds
from rupex.wire.codec import codepoints
from rupex.wire.codec.hello import read_extensions
from rupex.wire.codec.octets import Reader, WireError


class ServerHello(Struct, frozen=True):
    """A ServerHello. ``version``: the one negotiated; ``is_retry``: it asks for another hello (RFC 8446, 4.1.4);
    ``group``: of its key share, in TLS 1.3; ``share``: the key in it, empty in a retry."""

    version: int
    random: bytes
    suite: int
    compression: int
    extensions: dict[int, bytes]
    is_retry: bool = False
    group: int | None = None
    share: bytes = b""


def decode_server_hello(body: bytes) -> ServerHello:
    """Raises :class:`WireError`."""
    reader = Reader(body)
    version, random = reader.number(2), reader.take(32)
    reader.vector(1)
    suite, compression = reader.number(2), reader.number(1)
    extensions = dict(read_extensions(reader))
    chosen = extensions.get(codepoints.SUPPORTED_VERSIONS)
    if chosen is not None:
        version = Reader(chosen).number(2)
    is_retry = random == codepoints.RETRY_RANDOM
    group, share = None, b""
    if codepoints.KEY_SHARE in extensions:
        inner = Reader(extensions[codepoints.KEY_SHARE])
        group = inner.number(2)
        share = b"" if is_retry else inner.vector(2)
    return ServerHello(version, random, suite, compression, extensions, is_retry, group, share)


class SentCertificates(Struct, frozen=True):
    """Certificates (DER) in the order sent, and the OCSP response stapled to the first."""

    chain: tuple[bytes, ...]
    staple: bytes | None = None


def decode_certificates(body: bytes) -> SentCertificates:
    """A Certificate message of TLS 1.2 or older. Raises :class:`WireError`."""
    reader = Reader(Reader(body).vector(3))
    chain: list[bytes] = []
    while reader.left:
        _bound(chain)
        chain.append(reader.vector(3))
    return SentCertificates(tuple(chain))


def decode_newest_certificates(body: bytes) -> SentCertificates:
    """A Certificate message of TLS 1.3 (RFC 8446, 4.4.2). Raises :class:`WireError`."""
    outer = Reader(body)
    outer.vector(1)
    reader = Reader(outer.vector(3))
    chain: list[bytes] = []
    staple = None
    while reader.left:
        _bound(chain)
        chain.append(reader.vector(3))
        status = dict(read_extensions(reader)).get(codepoints.STATUS_REQUEST)
        if status is not None and len(chain) == 1:
            staple = decode_certificate_status(status)
    return SentCertificates(tuple(chain), staple)


def _bound(chain: list[bytes]) -> None:
    if len(chain) >= bounds.CERTIFICATES_SENT:
        raise WireError(f"more than {bounds.CERTIFICATES_SENT} certificates in one chain")


def decode_certificate_status(body: bytes) -> bytes | None:
    """The OCSP response (DER) of a CertificateStatus message, None for another kind. Raises :class:`WireError`."""
    reader = Reader(body)
    return reader.vector(3) if reader.number(1) == 1 else None


class KeyExchange(Struct, frozen=True):
    """The parameters of an ephemeral exchange: a named ``group``, or the ``prime`` of a finite field. ``scheme``: what
    they are signed with, in TLS 1.2. ``rsa_bits``: of a temporary RSA key (export suites)."""

    group: int | None = None
    prime: int | None = None
    scheme: int | None = None
    rsa_bits: int | None = None


_NAMED_CURVE: Final = 3


def decode_key_exchange(body: bytes, key_exchange: str, *, signed: bool, has_scheme: bool, hint: bool) -> KeyExchange:
    """A ServerKeyExchange message. ``key_exchange``: ``ECDHE``, ``DHE`` or ``RSA``; ``signed``: a signature follows;
    ``has_scheme``: with its scheme, as in TLS 1.2; ``hint``: an identity hint stands before (RFC 4279, RFC 5489). Raises
    :class:`WireError`."""
    reader = Reader(body)
    if hint:
        reader.vector(2)
    group = prime = rsa_bits = scheme = None
    if key_exchange == "ECDHE":
        if reader.number(1) != _NAMED_CURVE:
            return KeyExchange()  # an explicit curve, which nobody uses (RFC 8422, 5.4)
        group = reader.number(2)
        reader.vector(1)
    elif key_exchange == "DHE":
        prime = int.from_bytes(reader.vector(2), "big")
        reader.vector(2)
        reader.vector(2)
    elif key_exchange == "RSA":
        rsa_bits = int.from_bytes(reader.vector(2), "big").bit_length()
        reader.vector(2)
    if signed and has_scheme and reader.left >= 2:
        scheme = reader.number(2)
    return KeyExchange(group, prime, scheme, rsa_bits)


def decode_protocol(extension: bytes) -> str | None:
    """The one ALPN protocol that a server chose (RFC 7301, 3.1). Raises :class:`WireError`."""
    inner = Reader(Reader(extension).vector(2))
    return inner.vector(1).decode("ascii", "backslashreplace") if inner.left else None


_KEY_NAME_OCTETS = 16  # RFC 5077, 4; a shorter ticket is no sealed state, but a number that the server looks up


class Ticket(Struct, frozen=True):
    """A NewSessionTicket of TLS 1.3: ``early_data_bytes`` None where early data is not offered; ``key_name``: its first octets,
    which name the key that sealed it where the server follows RFC 5077, 4."""

    lifetime_seconds: int
    early_data_bytes: int | None
    key_name: bytes = b""


def decode_ticket(body: bytes) -> Ticket:
    """Raises :class:`WireError`."""
    reader = Reader(body)
    lifetime = reader.number(4)
    reader.take(4)
    reader.vector(1)
    ticket = reader.vector(2)
    early = dict(read_extensions(reader)).get(codepoints.EARLY_DATA)
    name = ticket[:_KEY_NAME_OCTETS] if len(ticket) > 2 * _KEY_NAME_OCTETS else b""
    return Ticket(lifetime, None if early is None else Reader(early).number(4), name)


def decode_extensions(body: bytes) -> dict[int, bytes]:
    """The body of EncryptedExtensions. Raises :class:`WireError`."""
    return dict(read_extensions(Reader(body)))
