"""Finite-field Diffie-Hellman parameters: reading a parameter file, and knowing the primes that everybody shares."""

from __future__ import annotations

import re
from base64 import b64decode
from binascii import Error as Base64Error
from hashlib import sha256
from typing import Final

from rupex.model import DhParameters

# SHA-256 of the prime (big-endian, shortest form) to its name and source. Made from the RFCs' formulas.
_KNOWN: Final = {
    "b52ba6a3026520a6c49d37e4587601801bee500123b3259b6bf03e7cecc3e63d": "modp768",  # RFC 2409 6.1
    "3f35a3f5f6c4376a744acad409bb22f8d897f949d2311d885adaa890981b67a0": "modp1024",  # RFC 2409 6.2
    "64fcc83ec403930bf18393dbc883ccaa1fbb08ac876f77f7aa99748ca945019b": "modp1536",  # RFC 3526 2
    "d66436f79bbd6b2e38c0ffbd079be904d2641415e2e67140e09448be9a60890e": "modp2048",  # RFC 3526 3
    "48cf8b092fbce4359d9871abf74f98e25b6163379eaa15cd9087e800c6d1c55c": "modp3072",  # RFC 3526 4
    "4ee95187682bcb230ad26a95205f6920e84708f6251b3894329b09ec23919e33": "modp4096",  # RFC 3526 5
    "d1bfe6d0925ce7e4da262b62861514a7755e35831e429f343e7b864848657efd": "modp6144",  # RFC 3526 6
    "39ab4feab950a3128fb71accb9fc3965d857012e081998a85996e3ea8b3c3bcf": "modp8192",  # RFC 3526 7
    "9cd3b7f336872f46c09428d1bbc19877a4d440512cda8d1c1cf0cd6e33698966": "ffdhe2048",  # RFC 7919 A.1
    "0eaf67db3a839156d5013494a5318a772b5697d270d721f37f092efc69ea5a17": "ffdhe3072",  # RFC 7919 A.2
    "4648414224ac881b3d0dc59b466f96d06a558278776807797ecf1f66ff397b3e": "ffdhe4096",  # RFC 7919 A.3
    "227ac9066b3ddd9e193670cda2388fa884f65ba0cf98b742d1fe77a6687c79c7": "ffdhe6144",  # RFC 7919 A.4
    "770b14efaf6f049929c523113b3fa99a8d11dab1b18af3609590122075d19833": "ffdhe8192",  # RFC 7919 A.5
}
_PEM = re.compile(rb"-----BEGIN (?:X9\.42 )?DH PARAMETERS-----([^-]+)-----END", re.DOTALL)
_LARGEST_PROVEN_BITS: Final = 4096
"""A larger prime that is none of the known ones is not proven: each round takes longer than a second."""
_ROUNDS: Final = 16
"""Miller-Rabin rounds: a composite gets through with a chance below 4 to the power of -16 (FIPS 186-5, B.3)."""


class ParameterError(Exception):
    """The bytes are no parameters that can be read; ``str()`` says why."""


def parse_dh_parameters(content: bytes) -> DhParameters:
    """The parameters of a PEM or DER file (PKCS #3). Raises :class:`ParameterError`."""
    found = _PEM.search(content)
    try:
        der = b64decode(b"".join(found[1].split()), validate=True) if found else content
    except Base64Error:
        raise ParameterError("the parameters in it are not Base64") from None
    return describe_prime(_first_integer(der))


def describe_prime(prime: int) -> DhParameters:
    """What is known of a prime modulus."""
    bits = prime.bit_length()
    name = _KNOWN.get(sha256(prime.to_bytes((bits + 7) // 8, "big")).hexdigest())
    if name is not None:
        return DhParameters(bits, name, True)
    if bits > _LARGEST_PROVEN_BITS:
        return DhParameters(bits, None, None)
    return DhParameters(bits, None, _is_prime(prime) and _is_prime(prime >> 1))


def _first_integer(der: bytes) -> int:
    """The first INTEGER of a SEQUENCE (ITU-T X.690)."""
    body = _content(der, 0x30)
    number = _content(body, 0x02)
    if not number or number[0] & 0x80 or len(number) > 4096:
        raise ParameterError("the parameters in it have no sensible prime")
    return int.from_bytes(number, "big")


def _content(der: bytes, tag: int) -> bytes:
    if len(der) < 2 or der[0] != tag:
        raise ParameterError("no Diffie-Hellman parameters in it")
    length, start = der[1], 2
    if length & 0x80:
        count = length & 0x7F
        if not 0 < count <= 4 or len(der) < 2 + count:
            raise ParameterError("the parameters in it have a length that cannot be")
        length, start = int.from_bytes(der[2 : 2 + count], "big"), 2 + count
    if len(der) < start + length:
        raise ParameterError("the parameters in it are cut short")
    return der[start : start + length]


def _is_prime(number: int) -> bool:
    """Miller-Rabin with bases derived from the number itself, so that it gives the same answer every time."""
    if number < 5 or number % 2 == 0:
        return number in (2, 3)
    odd, twos = number - 1, 0
    while odd % 2 == 0:
        odd, twos = odd >> 1, twos + 1
    width = (number.bit_length() + 7) // 8
    for round_ in range(_ROUNDS):
        seed = sha256(round_.to_bytes(2, "big") + number.to_bytes(width, "big")).digest()
        base = 2 + int.from_bytes(seed, "big") % (number - 3)
        value = pow(base, odd, number)
        if value in (1, number - 1):
            continue
        for _ in range(twos - 1):
            value = value * value % number
            if value == number - 1:
                break
        else:
            return False
    return True
