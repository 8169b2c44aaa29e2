"""Records (RFC 8446, 5.1; RFC 5246, 6.2) and what they carry, put together from whatever pieces arrive."""

from __future__ import annotations

from typing import Final

from msgspec import Struct

from rupex.model import bounds
from rupex.wire.codec import codepoints
from rupex.wire.codec.octets import WireError, number, vector

_LONGEST: Final = (1 << 14) + 2048  # RFC 5246, 6.2.3, the longest of any version
_FRAGMENT: Final = 1 << 14
_CONTENT_TYPES: Final = frozenset(
    {codepoints.CHANGE_CIPHER_SPEC, codepoints.ALERT, codepoints.HANDSHAKE, codepoints.APPLICATION_DATA, 24}
)


class Record(Struct, frozen=True):
    """One record as sent: content ``type``, ``version`` as written in it, and its ``payload``, protected or not."""

    type: int
    version: int
    payload: bytes

    @property
    def header(self) -> bytes:
        return bytes([self.type]) + number(self.version, 2) + number(len(self.payload), 2)


class Alert(Struct, frozen=True):
    """``level`` 1 is a warning, 2 is fatal."""

    level: int
    description: int

    @property
    def name(self) -> str:
        return codepoints.ALERT_NAMES.get(self.description, f"alert {self.description}")


class Message(Struct, frozen=True):
    """A handshake message: its ``type`` and ``body``."""

    type: int
    body: bytes

    @property
    def whole(self) -> bytes:
        """The message with its header, as a transcript has it."""
        return bytes([self.type]) + vector(self.body, 3)


def encode_records(content_type: int, version: int, payload: bytes) -> bytes:
    """``payload`` in as many records as it needs."""
    pieces = [payload[index : index + _FRAGMENT] for index in range(0, len(payload), _FRAGMENT)] or [b""]
    return b"".join(Record(content_type, version, piece).header + piece for piece in pieces)


def decode_records(buffer: bytes) -> tuple[list[Record], bytes]:
    """The whole records at the start of ``buffer``, and the bytes left over. Raises :class:`WireError` for what is none."""
    found, position = [], 0
    while len(buffer) - position >= 5:
        content_type = buffer[position]
        version, length = (
            int.from_bytes(buffer[position + 1 : position + 3], "big"),
            int.from_bytes(buffer[position + 3 : position + 5], "big"),
        )
        if content_type not in _CONTENT_TYPES or version >> 8 != 3:
            raise WireError("what came is no TLS record")
        if length > _LONGEST:
            raise WireError(f"a record of {length} bytes; {_LONGEST} are allowed")
        if len(buffer) - position - 5 < length:
            break
        found.append(Record(content_type, version, buffer[position + 5 : position + 5 + length]))
        position += 5 + length
    return found, buffer[position:]


class Messages:
    """Puts handshake messages together from the payloads of records. Raises :class:`WireError` for one that is too long."""

    def __init__(self) -> None:
        self._buffer = b""

    @property
    def is_empty(self) -> bool:
        return not self._buffer

    def feed(self, payload: bytes) -> list[Message]:
        self._buffer += payload
        found = []
        while len(self._buffer) >= 4:
            length = int.from_bytes(self._buffer[1:4], "big")
            if length > bounds.HANDSHAKE_MESSAGE_BYTES:
                raise WireError(
                    f"a handshake message of {length} bytes; more than {bounds.HANDSHAKE_MESSAGE_BYTES} are not read"
                )
            if len(self._buffer) - 4 < length:
                break
            found.append(Message(self._buffer[0], self._buffer[4 : 4 + length]))
            self._buffer = self._buffer[4 + length :]
        return found


class Flight:
    """What a peer sends after a hello, fed in pieces of any size.

    ``messages``: handshake messages in clear; ``alert``: the first fatal one; ``warnings``: others; ``sealed``: protected
    records, in order; ``text``: the beginning of what came instead of TLS. Raises :class:`WireError` from ``feed``.
    """

    def __init__(self) -> None:
        self.messages: list[Message] = []
        self.alert: Alert | None = None
        self.warnings: list[Alert] = []
        self.sealed: list[Record] = []
        self.text: bytes = b""
        self.octets = 0
        self._buffer = b""
        self._handshake = Messages()
        self._records = 0

    def feed(self, data: bytes) -> None:
        self.octets += len(data)
        if self.octets > bounds.FLIGHT_BYTES:
            raise WireError(f"more than {bounds.FLIGHT_BYTES} bytes in answer to one hello")
        self._buffer += data
        if not self._records and self._buffer[:1] not in _FIRST_OCTETS:
            self.text = self._buffer[: bounds.FOREIGN_BYTES]
            return
        records, self._buffer = decode_records(self._buffer)
        for record in records:
            self._records += 1
            if self._records > bounds.FLIGHT_RECORDS:
                raise WireError(f"more than {bounds.FLIGHT_RECORDS} records in answer to one hello")
            self._take(record)

    def _take(self, record: Record) -> None:
        if record.type == codepoints.APPLICATION_DATA:
            self.sealed.append(record)
        elif record.type == codepoints.ALERT and len(record.payload) == 2:
            alert = Alert(record.payload[0], record.payload[1])
            if alert.level == 1 and alert.description != 0:
                self.warnings.append(alert)
            elif self.alert is None:
                self.alert = alert
        elif record.type == codepoints.HANDSHAKE:
            self.messages += self._handshake.feed(record.payload)

    def first(self, message_type: int) -> bytes | None:
        """The body of the first message of a type."""
        return next((message.body for message in self.messages if message.type == message_type), None)


_FIRST_OCTETS: Final = frozenset(bytes([content_type]) for content_type in _CONTENT_TYPES) | {b""}
