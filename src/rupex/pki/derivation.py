"""How much work it is to derive the keys that open an encrypted key or a key store: whoever made the file chose it."""

from __future__ import annotations

import re
from binascii import Error as Base64Error
from binascii import a2b_base64
from typing import Final

from rupex.model import bounds
from rupex.pki.certificates import CredentialError

_SCRYPT: Final = bytes.fromhex("2b06010401da47040b")  # RFC 7914, 7
_ALGORITHMS: Final = (
    bytes.fromhex("2a864886f70d01050c"),  # PBKDF2 (RFC 8018, A.2), also within PBES2 and PBMAC1
    *(bytes.fromhex(f"2a864886f70d0105{last:02x}") for last in (1, 3, 4, 6, 10, 11)),  # PBES1 (RFC 8018, A.3)
    *(bytes.fromhex(f"2a864886f70d010c01{last:02x}") for last in range(1, 7)),  # RFC 7292, C
    _SCRYPT,
)
_ALGORITHM: Final = re.compile(b"|".join(map(re.escape, _ALGORITHMS)))
_PEM: Final = re.compile(rb"-----BEGIN [^\n-]*+-----(.*?)-----END", re.DOTALL)
_LONGEST_SALT: Final = 127
_INTEGER: Final = 2
_OCTETS: Final = 4


def refuse_costly(content: bytes) -> None:
    """Raises :class:`~rupex.pki.certificates.CredentialError` for a file, PEM or DER, of which a derivation takes more rounds
    than are done for anybody."""
    if rounds_in(content) > bounds.DERIVATION_ROUNDS:
        raise CredentialError(f"not opened: more than {bounds.DERIVATION_ROUNDS:,} rounds of key derivation")


def rounds_in(content: bytes) -> int:
    """Rounds of all derivations that stand in clear in ``content``: what an encrypted part holds is not seen."""
    if b"-----BEGIN" in content:
        return sum(rounds_in(der) for found in _PEM.finditer(content) if (der := _decoded(found[1])))
    return sum(_rounds(content, found) for found in _ALGORITHM.finditer(content)) + _rounds_of_mac(content)


def _decoded(base64: bytes) -> bytes:
    try:
        return a2b_base64(base64.replace(b"\r", b"").rpartition(b"\n\n")[2])  # behind the headers (RFC 1421, 4.4)
    except Base64Error:
        return b""


def _rounds(content: bytes, algorithm: re.Match[bytes]) -> int:
    """Of one algorithm, whose parameters follow it: a SEQUENCE of the salt and the rounds; for scrypt N, r and p."""
    at = algorithm.end() + 1
    at += 1 + (content[at] & 0x7F if at < len(content) and content[at] & 0x80 else 0)
    if at + 2 > len(content) or content[at] != _OCTETS or content[at + 1] > _LONGEST_SALT:
        return 0  # nothing that a library takes for parameters
    at += 2 + content[at + 1]
    rounds = 1
    for _ in range(3 if algorithm[0] == _SCRYPT else 1):
        number, at = _integer(content, at)
        rounds *= number
    return rounds


def _rounds_of_mac(content: bytes) -> int:
    """Of the code over a whole PKCS #12 store, whose salt and rounds are its last values (RFC 7292, 4)."""
    end, most = len(content), 0
    for at in range(max(0, end - 2 * _LONGEST_SALT), end - 2):
        if content[at] == _OCTETS and content[at + 1] <= _LONGEST_SALT:
            number, stop = _integer(content, at + 2 + content[at + 1])
            if stop == end:
                most = max(most, number)
    return most


def _integer(content: bytes, at: int) -> tuple[int, int]:
    """The INTEGER at ``at``, of no more than 127 bytes, and where it ends; 0 for anything else."""
    if at + 2 > len(content) or content[at] != _INTEGER or not 0 < content[at + 1] < 0x80:
        return 0, at
    stop = at + 2 + content[at + 1]
    return (int.from_bytes(content[at + 2 : stop], "big"), stop) if stop <= len(content) else (0, at)
