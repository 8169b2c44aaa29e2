"""Signature schemes: which ones a server would sign a TLS 1.2 or 1.3 handshake with."""

from __future__ import annotations

from typing import Final

from msgspec import Struct

from rupex.tls.openssl import LEVEL_BITS, Library


class Scheme(Struct, frozen=True, gc=False):
    """One signature scheme: the ``key`` it needs, its ``digest`` (None: part of the scheme), and OpenSSL's spelling.

    ``digest_bits``: of collision resistance, by which security levels judge.
    """

    code: int
    name: str
    openssl: str
    key: str
    digest: str | None
    digest_bits: int


# IANA "TLS SignatureScheme"; RFC 8446 4.2.3, RFC 5246 7.4.1.4.1. In OpenSSL's order of preference.
SCHEMES: Final = (
    Scheme(0x0403, "ecdsa_secp256r1_sha256", "ECDSA+SHA256", "ECDSA", "SHA-256", 128),
    Scheme(0x0503, "ecdsa_secp384r1_sha384", "ECDSA+SHA384", "ECDSA", "SHA-384", 192),
    Scheme(0x0603, "ecdsa_secp521r1_sha512", "ECDSA+SHA512", "ECDSA", "SHA-512", 256),
    Scheme(0x0807, "ed25519", "ed25519", "Ed25519", None, 128),
    Scheme(0x0808, "ed448", "ed448", "Ed448", None, 224),
    Scheme(0x0804, "rsa_pss_rsae_sha256", "RSA-PSS+SHA256", "RSA", "SHA-256", 128),
    Scheme(0x0805, "rsa_pss_rsae_sha384", "RSA-PSS+SHA384", "RSA", "SHA-384", 192),
    Scheme(0x0806, "rsa_pss_rsae_sha512", "RSA-PSS+SHA512", "RSA", "SHA-512", 256),
    Scheme(0x0401, "rsa_pkcs1_sha256", "RSA+SHA256", "RSA", "SHA-256", 128),
    Scheme(0x0501, "rsa_pkcs1_sha384", "RSA+SHA384", "RSA", "SHA-384", 192),
    Scheme(0x0601, "rsa_pkcs1_sha512", "RSA+SHA512", "RSA", "SHA-512", 256),
    Scheme(0x0303, "ecdsa_sha224", "ECDSA+SHA224", "ECDSA", "SHA-224", 112),
    Scheme(0x0301, "rsa_pkcs1_sha224", "RSA+SHA224", "RSA", "SHA-224", 112),
    Scheme(0x0203, "ecdsa_sha1", "ECDSA+SHA1", "ECDSA", "SHA-1", 63),
    Scheme(0x0201, "rsa_pkcs1_sha1", "RSA+SHA1", "RSA", "SHA-1", 63),
    Scheme(0x0202, "dsa_sha1", "DSA+SHA1", "DSA", "SHA-1", 63),
    Scheme(0x0402, "dsa_sha256", "DSA+SHA256", "DSA", "SHA-256", 128),
)
_OLD: Final = frozenset({"SHA-224", "SHA-1"})
_BY_NAME: Final = {
    name.lower(): s for s in SCHEMES for name in (s.name, s.openssl, s.openssl.replace("RSA-PSS", "PSS"))
}


def scheme_called(name: str) -> Scheme | None:
    """The scheme with that name, IANA's or OpenSSL's, in any case; or None."""
    return _BY_NAME.get(name.lower())


def signing_schemes(declared: str, library: Library, level: int, keys: frozenset[str], tls12: bool) -> tuple[str, ...]:
    """The schemes that a server signs with which has ``keys`` (kinds of certificates) and is told ``declared``
    (``""``: nothing). ``tls12``: whether TLS 1.2 signs at all; TLS 1.3 has neither SHA-1 nor SHA-224 (RFC 8446 4.2.3).

    The levels count SHA-1 for 63 bits since OpenSSL 3.0 and for 80 before (security callback of ssl_cert.c), so that
    level 1 refuses it since 3.0 only.
    """
    known = [s for s in (scheme_called(w.lstrip("?")) for w in declared.split(":")) if s] if declared else list(SCHEMES)
    release = library.release or (1, 0, 0)
    minimum_bits = LEVEL_BITS[level] if release >= (1, 1, 0) else 0
    found = []
    for scheme in known:
        bits = 80 if scheme.digest == "SHA-1" and release < (3, 0, 0) else scheme.digest_bits
        if scheme.key not in keys or bits < minimum_bits:
            continue
        if scheme.digest in _OLD and not tls12:
            continue
        if scheme.name.startswith("rsa_pss") and release < (1, 1, 1):
            continue
        found.append(scheme.name)
    return tuple(found)
