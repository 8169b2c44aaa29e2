"""The registry of cipher suites, with what each one is made of.

Rows of fact stand in ``suites.tsv`` (code, IANA name, OpenSSL's name, the lowest protocol version, source); what a
name says about key exchange, cipher and MAC is read from the name, which the registry forms by rule (RFC 8447, 8).
"""

from __future__ import annotations

import re
from functools import cache
from typing import Final

from msgspec import Struct

from rupex.model.endpoint import ProtocolVersion
from rupex.package_files import folder_of

PROTOCOL_VERSIONS: Final[tuple[ProtocolVersion, ...]] = ("SSLv2", "SSLv3", "TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3")
"""Oldest first."""


class CipherSuite(Struct, frozen=True, gc=False):
    """One cipher suite. ``key_exchange`` and ``authentication`` are None where they are negotiated apart (TLS 1.3).

    ``bits``: of the key (0 for none); ``block_bits``: of the cipher's block, None for a stream cipher; ``version``: the
    lowest that can use it.
    """

    code: int
    name: str
    openssl: str | None
    version: ProtocolVersion
    key_exchange: str | None
    authentication: str | None
    encryption: str
    bits: int
    block_bits: int | None
    mac: str
    export: bool
    source: str

    @property
    def forward_secrecy(self) -> bool:
        """Whether a session's key stays secret when the long-term key is lost later (RFC 9325, 4.1)."""
        return self.key_exchange in (None, "DHE", "ECDHE", "ECCPWD", "ECJPAKE")

    @property
    def anonymous(self) -> bool:
        return self.authentication == "anon"

    @property
    def aead(self) -> bool:
        return self.mac == "AEAD"


# Cipher name as in the registry, its key bits and block bits (None: a stream cipher or a stream mode of its own).
_CIPHERS: Final = (
    ("AES_128", 128, 128),
    ("AES_256", 256, 128),
    ("3DES_EDE", 168, 64),
    ("DES_192_EDE3", 168, 64),
    ("DES40", 40, 64),
    ("DES_CBC_40", 40, 64),
    ("DES_64", 56, 64),
    ("DES", 56, 64),
    ("RC4_128_EXPORT40", 40, None),
    ("RC4_128", 128, None),
    ("RC4_56", 56, None),
    ("RC4_40", 40, None),
    ("RC2_128_CBC_EXPORT40", 40, 64),
    ("RC2_128", 128, 64),
    ("RC2_CBC_40", 40, 64),
    ("RC2_CBC_56", 56, 64),
    ("IDEA", 128, 64),
    ("SEED", 128, 128),
    ("CAMELLIA_128", 128, 128),
    ("CAMELLIA_256", 256, 128),
    ("ARIA_128", 128, 128),
    ("ARIA_256", 256, 128),
    ("CHACHA20", 256, None),
    ("ESTREAM_SALSA20", 256, None),
    ("SALSA20", 256, None),
    ("28147", 256, 64),
    ("MAGMA", 256, 64),
    ("KUZNYECHIK", 256, 128),
    ("FORTEZZA", 80, 64),
    ("SM1", 128, 128),
    ("SM4", 128, 128),
    ("NULL", 0, None),
    ("SHA256", 0, None),  # RFC 9150: integrity only
    ("SHA384", 0, None),
)

# The key exchange part of a name to (key exchange, authentication).
_EXCHANGES: Final[dict[str, tuple[str, str]]] = {
    "RSA": ("RSA", "RSA"),
    "RSA_FIPS": ("RSA", "RSA"),
    "RSA_OLDFIPS": ("RSA", "RSA"),
    "DH_RSA": ("DH", "RSA"),
    "DH_DSS": ("DH", "DSS"),
    "DHE_RSA": ("DHE", "RSA"),
    "DHE_DSS": ("DHE", "DSS"),
    "DH_anon": ("DHE", "anon"),
    "ECDH_RSA": ("ECDH", "RSA"),
    "ECDH_ECDSA": ("ECDH", "ECDSA"),
    "ECDHE_RSA": ("ECDHE", "RSA"),
    "ECDHE_ECDSA": ("ECDHE", "ECDSA"),
    "ECDH_anon": ("ECDHE", "anon"),
    "PSK": ("PSK", "PSK"),
    "DHE_PSK": ("DHE", "PSK"),
    "PSK_DHE": ("DHE", "PSK"),
    "RSA_PSK": ("RSA_PSK", "RSA"),
    "ECDHE_PSK": ("ECDHE", "PSK"),
    "SRP_SHA": ("SRP", "SRP"),
    "SRP_SHA_RSA": ("SRP", "RSA"),
    "SRP_SHA_DSS": ("SRP", "DSS"),
    "KRB5": ("KRB5", "KRB5"),
    "FORTEZZA_KEA": ("KEA", "KEA"),
    "GOSTR341094": ("GOST", "GOST94"),
    "GOSTR341001": ("GOST", "GOST01"),
    "GOSTR341112_256": ("GOST", "GOST12"),
    "GOSTR341112_256_OLD": ("GOST", "GOST12"),
    "ECCPWD": ("ECCPWD", "PSK"),
    "ECJPAKE": ("ECJPAKE", "PSK"),
    "ECDHE": ("ECDHE", "SM2"),
    "ECC": ("ECC", "SM2"),
    "IBSDH": ("IBSDH", "IBS"),
    "IBC": ("IBC", "IBC"),
}
_EXPORT = re.compile(r"_EXPORT(1024)?$")
_AEAD = re.compile(r"_(GCM|CCM_8|CCM|POLY1305|MGM_[LS])(_|$)")


def _suite(row: str) -> CipherSuite:
    code, name, openssl, version, source = row.split("\t")
    exchange: str | None
    authentication: str | None
    bare = re.sub(r"^(TLS|SSL_CK|SSL)_", "", name)
    if version == "SSLv2":
        exchange, authentication, protection = "RSA", "RSA", bare.replace("_WITH", "")
    elif "_WITH_" in bare:
        head, protection = bare.split("_WITH_", 1)
        exchange, authentication = _EXCHANGES[_EXPORT.sub("", head)]
    elif version == "TLSv1.3":
        exchange, authentication, protection = None, None, bare
    else:  # GB/T 38636: ECC_SM4_CBC_SM3
        head, protection = bare.split("_", 1)
        exchange, authentication = _EXCHANGES[head]
    cipher, bits, block_bits = next(row for row in _CIPHERS if protection.startswith(row[0]))
    aead = _AEAD.search(protection)
    mac = "AEAD" if aead else protection.rpartition("_")[2]
    encryption = protection[: aead.end(1)] if aead else (protection.rpartition("_")[0] or cipher)
    return CipherSuite(
        int(code, 16), name, None if openssl == "-" else openssl, version, exchange, authentication,  # type: ignore[arg-type]
        encryption, bits, block_bits, mac, "EXPORT" in name or "_40" in encryption or "_56" in encryption, source,
    )  # fmt: skip


@cache
def all_suites() -> tuple[CipherSuite, ...]:
    """Every known suite by ascending code; SSL 2 ones (three bytes) last."""
    text = folder_of("rupex.tls").joinpath("suites.tsv").read_text("utf-8")
    return tuple(_suite(row) for row in text.splitlines() if not row.startswith("#"))


@cache
def _by_name() -> dict[str, CipherSuite]:
    return {suite.name: suite for suite in all_suites()}


def suite_called(name: str) -> CipherSuite | None:
    """The suite with the IANA name ``name``, or None."""
    return _by_name().get(name)
