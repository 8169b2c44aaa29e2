"""TLS 1.3 key schedule and record protection (RFC 8446, 5.2, 7.1 and 7.3), as far as a reader of a server's flight needs.

The primitives are the cryptography package's; what is here is in which order the protocol calls them.
"""

from __future__ import annotations

import hmac
from collections.abc import Callable
from hashlib import new as new_hash
from typing import Final, Protocol

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, x448, x25519
from cryptography.hazmat.primitives.ciphers.aead import AESCCM, AESGCM, ChaCha20Poly1305

from rupex.wire.codec import codepoints
from rupex.wire.codec.octets import WireError, number, vector
from rupex.wire.codec.records import Message, Messages, Record


class _Aead(Protocol):
    def encrypt(self, nonce: bytes, data: bytes, associated_data: bytes, /) -> bytes: ...
    def decrypt(self, nonce: bytes, data: bytes, associated_data: bytes, /) -> bytes: ...


# Suite to hash, key bytes and AEAD (RFC 8446, B.4).
_SUITES: Final[dict[int, tuple[str, int, Callable[[bytes], _Aead]]]] = {
    0x1301: ("sha256", 16, AESGCM),
    0x1302: ("sha384", 32, AESGCM),
    0x1303: ("sha256", 32, ChaCha20Poly1305),
    0x1304: ("sha256", 16, AESCCM),
    0x1305: ("sha256", 16, lambda key: AESCCM(key, tag_length=8)),
}
READABLE_SUITES: Final = tuple(_SUITES)


def expand_label(secret: bytes, label: str, context: bytes, length: int, hash_name: str) -> bytes:
    """HKDF-Expand-Label (RFC 8446, 7.1)."""
    info = number(length, 2) + vector(b"tls13 " + label.encode(), 1) + vector(context, 1)
    block, found, counter = b"", b"", 1
    while len(found) < length:  # HKDF-Expand (RFC 5869, 2.3)
        block = hmac.digest(secret, block + info + bytes([counter]), hash_name)
        found, counter = found + block, counter + 1
    return found[:length]


class Direction:
    """One direction of protected records under one traffic secret."""

    def __init__(self, secret: bytes, suite: int) -> None:
        self.hash_name, key_bytes, make = _SUITES[suite]
        self.secret = secret
        self._aead: _Aead = make(expand_label(secret, "key", b"", key_bytes, self.hash_name))
        self._iv = expand_label(secret, "iv", b"", 12, self.hash_name)
        self._tag_bytes = 8 if suite == 0x1305 else 16
        self._sequence = 0

    def _nonce(self) -> bytes:
        nonce = int.from_bytes(self._iv, "big") ^ self._sequence
        self._sequence += 1
        return number(nonce, 12)

    def open(self, record: Record) -> tuple[int, bytes]:
        """Content type and content of a protected record. Raises :class:`WireError`."""
        try:
            inner = self._aead.decrypt(self._nonce(), record.payload, record.header)
        except (InvalidTag, ValueError):
            raise WireError("a record that does not open with the keys agreed on") from None
        content = inner.rstrip(b"\x00")
        if not content:
            raise WireError("a record without a content type")
        return content[-1], content[:-1]

    def seal(self, content_type: int, content: bytes) -> bytes:
        """``content`` as one protected record."""
        inner = content + bytes([content_type])
        length = len(inner) + self._tag_bytes
        header = bytes([codepoints.APPLICATION_DATA]) + number(0x0303, 2) + number(length, 2)
        return header + self._aead.encrypt(self._nonce(), inner, header)


class Schedule:
    """The keys of one handshake, from the shared secret and the transcript of both hellos."""

    def __init__(self, suite: int, shared: bytes, hellos: bytes) -> None:
        self.suite = suite
        self.hash_name = _SUITES[suite][0]
        self.transcript = hellos
        zeros = bytes(new_hash(self.hash_name).digest_size)
        early = hmac.digest(zeros, zeros, self.hash_name)
        self._handshake = hmac.digest(self._derived(early), shared, self.hash_name)
        self.client = Direction(self._secret(self._handshake, "c hs traffic"), suite)
        self.server = Direction(self._secret(self._handshake, "s hs traffic"), suite)

    def _digest(self, content: bytes) -> bytes:
        return new_hash(self.hash_name, content).digest()

    def _derived(self, secret: bytes) -> bytes:
        return expand_label(secret, "derived", self._digest(b""), len(secret), self.hash_name)

    def _secret(self, secret: bytes, label: str) -> bytes:
        return expand_label(secret, label, self._digest(self.transcript), len(secret), self.hash_name)

    def finished(self, direction: Direction) -> bytes:
        """The verify_data that the sender of ``direction`` owes for the transcript so far (RFC 8446, 4.4.4)."""
        key = expand_label(direction.secret, "finished", b"", len(direction.secret), self.hash_name)
        return hmac.digest(key, self._digest(self.transcript), self.hash_name)

    def application(self) -> tuple[Direction, Direction]:
        """Both directions after the handshake, client first; the transcript ends with the server's Finished."""
        master = hmac.digest(
            self._derived(self._handshake), bytes(new_hash(self.hash_name).digest_size), self.hash_name
        )
        return (
            Direction(self._secret(master, "c ap traffic"), self.suite),
            Direction(self._secret(master, "s ap traffic"), self.suite),
        )


def hash_of_first(first: Message, suite: int) -> bytes:
    """What stands for the first hello in the transcript once a second was asked for (RFC 8446, 4.4.1)."""
    return Message(codepoints.MESSAGE_HASH, new_hash(_SUITES[suite][0], first.whole).digest()).whole


class Secret(Protocol):
    """A private key for one group."""

    @property
    def public(self) -> bytes: ...
    def agree(self, share: bytes) -> bytes: ...


class _Montgomery:
    def __init__(self, private: x25519.X25519PrivateKey | x448.X448PrivateKey) -> None:
        self._private = private

    @property
    def public(self) -> bytes:
        return self._private.public_key().public_bytes_raw()

    def agree(self, share: bytes) -> bytes:
        private = self._private
        if isinstance(private, x25519.X25519PrivateKey):
            return private.exchange(x25519.X25519PublicKey.from_public_bytes(share))
        return private.exchange(x448.X448PublicKey.from_public_bytes(share))


class _Weierstrass:
    def __init__(self, curve: ec.EllipticCurve) -> None:
        self._private = ec.generate_private_key(curve)

    @property
    def public(self) -> bytes:
        return self._private.public_key().public_bytes(
            serialization.Encoding.X962, serialization.PublicFormat.UncompressedPoint
        )

    def agree(self, share: bytes) -> bytes:
        public = ec.EllipticCurvePublicKey.from_encoded_point(self._private.curve, share)
        return self._private.exchange(ec.ECDH(), public)


def new_secret(group: int) -> Secret | None:
    """A new private key for a group by number, or None for one that has no use here."""
    match group:
        case 29:
            return _Montgomery(x25519.X25519PrivateKey.generate())
        case 30:
            return _Montgomery(x448.X448PrivateKey.generate())
        case 23:
            return _Weierstrass(ec.SECP256R1())
        case 24:
            return _Weierstrass(ec.SECP384R1())
        case 25:
            return _Weierstrass(ec.SECP521R1())
        case _:
            return None


AGREEABLE_GROUPS: Final = (29, 23, 24, 25, 30)


def agree(secret: Secret, share: bytes) -> bytes:
    """The shared secret. Raises :class:`WireError` for a share that is none of the group."""
    try:
        return secret.agree(share)
    except ValueError:
        raise WireError("a key share that is no point of its group") from None


class Opened:
    """A server's protected flight, opened record by record: ``messages`` so far, and ``alert`` when one is in it."""

    def __init__(self, direction: Direction) -> None:
        self.direction = direction
        self.messages: list[Message] = []
        self.alert: tuple[int, int] | None = None
        self._joined = Messages()

    def feed(self, record: Record) -> list[Message]:
        """The messages that ``record`` completes. Raises :class:`WireError`."""
        content_type, content = self.direction.open(record)
        if content_type == codepoints.ALERT and len(content) == 2:
            self.alert = content[0], content[1]
        found = self._joined.feed(content) if content_type == codepoints.HANDSHAKE else []
        self.messages += found
        return found
