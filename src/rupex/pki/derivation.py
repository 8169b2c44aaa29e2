"""The work of key derivation that an encrypted key or key store asks for: its author chose the number of rounds."""

from __future__ import annotations

import re
from binascii import Error as Base64Error
from binascii import a2b_base64
from typing import Final

from rupex.model import bounds
from rupex.pki.certificates import CredentialError
from rupex.pki.der import INTEGER, OCTETS, element

_SCRYPT: Final = bytes.fromhex("2b06010401da47040b")  # RFC 7914, 7
_ALGORITHMS: Final = (
    bytes.fromhex("2a864886f70d01050c"),  # PBKDF2 (RFC 8018, A.2), also within PBES2 and PBMAC1
    *(bytes.fromhex(f"2a864886f70d0105{last:02x}") for last in (1, 3, 4, 6, 10, 11)),  # PBES1 (RFC 8018, A.3)
    *(bytes.fromhex(f"2a864886f70d010c01{last:02x}") for last in range(1, 7)),  # RFC 7292, C
    _SCRYPT,
)
_ALGORITHM: Final = re.compile(b"|".join(map(re.escape, _ALGORITHMS)))
_PEM: Final = re.compile(rb"-----BEGIN [^\n-]*+-----(.*?)-----END", re.DOTALL)
_MAC_BYTES: Final = 70_000
"""Bytes at the end of a store in which its MAC and the salt are looked for."""
_LONGEST_NUMBER: Final = 16


def refuse_costly(content: bytes) -> None:
    """Raises :class:`~rupex.pki.certificates.CredentialError` for a file, PEM or DER, with more rounds than the limit."""
    if rounds_in(content) > bounds.DERIVATION_ROUNDS:
        raise CredentialError(f"not opened: more than {bounds.DERIVATION_ROUNDS:,} rounds of key derivation")


def rounds_in(content: bytes) -> int:
    """Rounds of all derivations in ``content`` that are not themselves encrypted. A file may be PEM and DER at once."""
    blocks = [content, *(_decoded(found[1]) for found in _PEM.finditer(content))]
    return sum(_rounds_of_mac(der) + sum(_rounds(der, found) for found in _ALGORITHM.finditer(der)) for der in blocks)


def _decoded(base64: bytes) -> bytes:
    try:
        return a2b_base64(base64.replace(b"\r", b"").rpartition(b"\n\n")[2])  # behind the headers (RFC 1421, 4.4)
    except Base64Error:
        return b""


def _rounds(content: bytes, algorithm: re.Match[bytes]) -> int:
    """Rounds of one algorithm. Its parameters follow it: a SEQUENCE of the salt and the rounds, for scrypt of the salt, N, r
    and p."""
    rounds = 1
    try:
        _, position, end = element(content, algorithm.end(), len(content))
        tag, _, position = element(content, position, end)
        if tag != OCTETS:
            return 0
        for _ in range(3 if algorithm[0] == _SCRYPT else 1):
            number, position = _integer(content, position, end)
            rounds *= number
    except ValueError:
        return 0  # no parameters that a library accepts
    return rounds


def _rounds_of_mac(content: bytes) -> int:
    """Rounds of the MAC over a whole PKCS #12 store, of which the salt and the rounds are the last values (RFC 7292, 4)."""
    end, most = len(content), 0
    position = content.find(bytes((OCTETS,)), max(0, end - _MAC_BYTES))
    while position >= 0:
        try:
            number, stop = _integer(content, element(content, position, end)[2], end)
        except ValueError:
            stop = -1
        if stop == end:
            most = max(most, number)
        position = content.find(bytes((OCTETS,)), position + 1)
    return most


def _integer(content: bytes, at: int, end: int) -> tuple[int, int]:
    """The INTEGER at ``at`` and where it ends. Raises ``ValueError``."""
    tag, start, stop = element(content, at, end)
    if tag != INTEGER or stop - start > _LONGEST_NUMBER:
        raise ValueError
    return int.from_bytes(content[start:stop], "big"), stop
