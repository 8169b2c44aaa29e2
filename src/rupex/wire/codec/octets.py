"""Vectors and numbers as TLS writes them (RFC 8446, 3)."""

from __future__ import annotations


class WireError(Exception):
    """The bytes break the protocol; ``str()`` says how, in a few words for a person."""


class Reader:
    """Takes numbers (big-endian) and vectors off ``data``. Raises :class:`WireError` when they are cut short."""

    __slots__ = ("at", "data")

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    @property
    def left(self) -> int:
        return len(self.data) - self.at

    def take(self, count: int) -> bytes:
        if count > self.left:
            raise WireError(f"{count} bytes are announced, {self.left} are there")
        self.at += count
        return self.data[self.at - count : self.at]

    def number(self, width: int) -> int:
        return int.from_bytes(self.take(width), "big")

    def vector(self, width: int) -> bytes:
        """A vector whose length stands before it in ``width`` bytes."""
        return self.take(self.number(width))

    def numbers(self, length_width: int, width: int) -> tuple[int, ...]:
        """A vector of numbers of ``width`` bytes each."""
        inner = Reader(self.vector(length_width))
        found = []
        while inner.left:
            found.append(inner.number(width))
        return tuple(found)


def number(value: int, width: int) -> bytes:
    return value.to_bytes(width, "big")


def vector(content: bytes, width: int) -> bytes:
    """``content`` with its length before it in ``width`` bytes."""
    return number(len(content), width) + content


def numbers(values: tuple[int, ...], length_width: int, width: int) -> bytes:
    return vector(b"".join(number(value, width) for value in values), length_width)
