"""The parts of a certificate as bytes (ITU-T X.690; RFC 5280, 4.1): where each stands, and nothing of what it means.

The crypto library reads every extension as soon as it is asked for one, which takes longer than all the rest; a host of
ten thousand certificates is asked for three of them.
"""

from __future__ import annotations

import re
from typing import Final, NamedTuple

from rupex.model import bounds

SEQUENCE, INTEGER, OBJECT, OCTETS, BOOLEAN = 0x30, 0x02, 0x06, 0x04, 0x01
_VERSION, _ISSUER_ID, _SUBJECT_ID, _EXTENSIONS = 0xA0, 0x81, 0x82, 0xA3

_MOST_EXTENSIONS: Final = 200
"""Extensions of one certificate; real ones have about ten."""


class CertificateParts(NamedTuple):
    """``issuer``, ``subject`` and ``public_key`` (SPKI) whole, with tag and length; ``extensions``: the bytes of an
    object identifier to those of its value."""

    issuer: bytes
    subject: bytes
    public_key: bytes
    extensions: dict[bytes, bytes]


def element(der: bytes, at: int, end: int) -> tuple[int, int, int]:
    """Tag, start and end of the content of the element at ``at``, which may reach to ``end``. Raises ``ValueError``."""
    if at + 2 > end:
        raise ValueError("an element is cut short")
    tag, length, start = der[at], der[at + 1], at + 2
    if length & 0x80:
        count = length & 0x7F
        if not 0 < count <= 4 or start + count > end:
            raise ValueError("a length that cannot be")
        length, start = int.from_bytes(der[start : start + count], "big"), start + count
    if start + length > end:
        raise ValueError("an element is longer than what holds it")
    return tag, start, start + length


def elements(der: bytes, at: int, end: int) -> list[tuple[int, int, int]]:
    """Tag, start and end of each element of a content. Raises ``ValueError``."""
    found = []
    while at < end:
        one = element(der, at, end)
        found.append(one)
        at = one[2]
    return found


def certificate_parts(der: bytes) -> CertificateParts:
    """Take a certificate apart. Raises ``ValueError`` for what is none."""
    _, start, end = element(der, 0, len(der))
    _, position, end = element(der, start, end)
    fields = []
    while position < end:
        tag, inner, after = element(der, position, end)
        fields.append((tag, position, inner, after))
        position = after
    if fields and fields[0][0] == _VERSION:
        del fields[0]
    if len(fields) < 6:
        raise ValueError("no certificate: fields are missing")
    _, _, issuer, _, subject, key = fields[:6]
    extensions: dict[bytes, bytes] = {}
    for tag, _, inner, after in fields[6:]:
        if tag == _EXTENSIONS:
            _, inner, after = element(der, inner, after)
            for _, one, one_end in elements(der, inner, after)[:_MOST_EXTENSIONS]:
                parts = elements(der, one, one_end)
                if not parts:
                    raise ValueError("an extension without a name")
                name = der[parts[0][1] : parts[0][2]]
                if name in extensions:
                    raise ValueError("an extension stands in it twice")
                extensions[name] = der[parts[-1][1] : parts[-1][2]]
    return CertificateParts(der[issuer[1] : issuer[3]], der[subject[1] : subject[3]], der[key[1] : key[3]], extensions)


def general_names(value: bytes) -> tuple[list[bytes], list[bytes]]:
    """The DNS names and the IP addresses of a subjectAltName (RFC 5280, 4.2.1.6). Raises ``ValueError``."""
    _, position, end = element(value, 0, len(value))
    dns, addresses = [], []
    for tag, start, stop in elements(value, position, end):
        if tag == 0x82:
            dns.append(value[start:stop])
        elif tag == 0x87:
            addresses.append(value[start:stop])
    return dns, addresses


def responder_urls(value: bytes, method: bytes) -> list[bytes]:
    """The URLs of an authorityInfoAccess for one access ``method`` (RFC 5280, 4.2.2.1). Raises ``ValueError``."""
    _, position, end = element(value, 0, len(value))
    found = []
    for _, start, stop in elements(value, position, end):
        parts = elements(value, start, stop)
        if len(parts) == 2 and value[parts[0][1] : parts[0][2]] == method and parts[1][0] == 0x86:
            found.append(value[parts[1][1] : parts[1][2]])
    return found


_RSA_ALGORITHM: Final = bytes.fromhex("300d06092a864886f70d0101010500")  # rsaEncryption (RFC 8017, A.1)


def rsa_public_key(private: bytes) -> tuple[int, bytes, str] | None:
    """Bits, public half (SPKI) and flaw of an RSA private key, PKCS #8 or PKCS #1 (RFC 5208, 5; RFC 8017, A.1.2).

    None for any other key. Raises ``ValueError`` for what is cut short. The flaw is as of :func:`rsa_flaw`.
    """
    _, position, end = element(private, 0, len(private))
    parts = elements(private, position, end)
    if len(parts) >= 3 and [part[0] for part in parts[:3]] == [INTEGER, SEQUENCE, OCTETS]:
        if private[parts[0][2] : parts[1][2]] != _RSA_ALGORITHM:
            return None
        _, position, end = element(private, parts[2][1], parts[2][2])
        parts = elements(private, position, end)
    if len(parts) < 9 or any(part[0] != INTEGER for part in parts[:9]):
        return None
    numbers = private[parts[0][2] : parts[2][2]]  # both, each with its tag and length
    inner = _wrapped(SEQUENCE, numbers)
    n, e, p, q = (int.from_bytes(private[parts[position][1] : parts[position][2]], "big") for position in (1, 2, 4, 5))
    return n.bit_length(), _wrapped(SEQUENCE, _RSA_ALGORITHM + _wrapped(0x03, b"\0" + inner)), rsa_flaw(n, e, p, q)


def rsa_flaw(n: int, e: int, p: int, q: int) -> str:
    """What makes an RSA key unsound, empty for nothing that is seen at once: whether the primes are primes is not tried.

    The exponent is odd, above 2^16 and below 2^256, and the primes differ by more than 2^(bits/2 - 100) (FIPS 186-5,
    A.1.1 and A.1.3).
    """
    if n.bit_length() > bounds.RSA_BITS:
        return f"its modulus has more than {bounds.RSA_BITS:,} bits, the limit of OpenSSL"
    if max(p, q).bit_length() > n.bit_length() or p * q != n or min(p, q) < 2:
        return "its modulus is not the product of its primes"
    if e.bit_length() > 256:
        return "its public exponent has more than 256 bits"
    if not e & 1 or e <= 1 << 16:
        return f"its public exponent is {e}; an odd one above 65536 is wanted"
    if abs(p - q) >> max(0, n.bit_length() // 2 - 100) == 0:
        return "its primes are so close that it can be factored"
    return ""


def _wrapped(tag: int, content: bytes) -> bytes:
    length = len(content)
    if length < 0x80:
        return bytes((tag, length)) + content
    size = (length.bit_length() + 7) // 8
    return bytes((tag, 0x80 | size)) + length.to_bytes(size, "big") + content


# Attribute types with a short name (RFC 4514, 3), and the characters that need no escape in their values.
_SHORT: Final = {bytes.fromhex(code): name for code, name in (
    ("550403", "CN"), ("550406", "C"), ("550407", "L"), ("550408", "ST"), ("55040a", "O"), ("55040b", "OU"),
)}  # fmt: skip
_PLAIN = re.compile(rb"[A-Za-z0-9*](?:[A-Za-z0-9 *._-]*[A-Za-z0-9*])?")


def plain_name(der: bytes) -> str | None:
    """A distinguished name as RFC 4514 writes it; None for one that holds anything but plain words."""
    _, position, end = element(der, 0, len(der))
    found = []
    for _, start, stop in elements(der, position, end):
        inside = elements(der, start, stop)
        pair = elements(der, inside[0][1], inside[0][2]) if len(inside) == 1 else []
        name = _SHORT.get(der[pair[0][1] : pair[0][2]]) if len(pair) == 2 else None
        value = der[pair[1][1] : pair[1][2]] if name is not None else b""
        if name is None or pair[1][0] not in (0x0C, 0x13) or _PLAIN.fullmatch(value) is None:
            return None
        found.append(f"{name}={value.decode('ascii')}")
    return ",".join(reversed(found)) or None
