"""Key stores: PKCS #12 (RFC 7292, also Java's newer format) and Java's older ones, opened and described.

No key leaves here but as a description. Java's older format (JKS; JCEKS without secret keys) has no standard: what is read
is what Java's own tool writes (sun.security.provider.JavaKeyStore).
"""

from __future__ import annotations

import hmac
import ssl
from hashlib import sha1
from typing import Final, Literal

import msgspec
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, pkcs12
from msgspec import Struct

from rupex.model import Certificate, Key, bounds
from rupex.parallel import apart
from rupex.pki.certificates import CredentialError, kind_of, no_warnings, parse_der
from rupex.pki.derivation import refuse_costly
from rupex.pki.described import render_description
from rupex.pki.keys import describe_private_key

WELL_KNOWN: Final = ("changeit", "changeme", "password", "secret")
"""Passwords that tools and manuals give to stores, which whoever takes a copy tries first."""

_JKS, _JCEKS = b"\xfe\xed\xfe\xed", b"\xce\xce\xce\xce"
_MIGHTY: Final = b"Mighty Aphrodite"  # what Java mixes into a store's digest
_MOST_ENTRIES: Final = 10_000
_LONGEST_CHAIN: Final = 100

Password = Literal["default", "given", "none", "unknown"]


class Entry(Struct, frozen=True):
    """One entry: its ``name``, its ``key`` (None for a certificate alone), and its certificates, leaf first; ``ders``: the
    same as they stand in the store."""

    name: str
    key: Key | None
    certificates: tuple[Certificate, ...]
    ders: tuple[bytes, ...] = ()


class Keystore(Struct, frozen=True):
    """``entries`` None: it could not be opened."""

    format: str
    password: Password
    entries: tuple[Entry, ...] | None


def looks_like_keystore(content: bytes) -> bool:
    """Whether ``content`` begins like a store of Java's older format, or holds the type of PKCS #12."""
    return content.startswith((_JKS, _JCEKS)) or (
        content[:1] == b"\x30"
        and bytes.fromhex("06092a864886f70d0107") in content[:64]
        and b"\x02\x01\x03" in content[:12]
    )


def open_keystore(content: bytes, given: str | None) -> Keystore:
    """Open a store with no password, the one ``given``, or a well-known one. Raises
    :class:`~rupex.pki.certificates.CredentialError` for what is broken, and for what takes too long to open."""
    tries: list[tuple[Password, str | None]] = [("given", given)] if given is not None else []
    tries += [("none", ""), *(("default", word) for word in WELL_KNOWN)]
    if content.startswith((_JKS, _JCEKS)):
        return _open_java(content, tries)
    refuse_costly(content)
    described_store = apart(lambda: msgspec.msgpack.encode(_open_with_any(content, tries)), bounds.DERIVATION_SECONDS)
    if described_store is None:
        raise CredentialError(f"not opened: it takes longer than {bounds.DERIVATION_SECONDS} s of processor time")
    return msgspec.msgpack.decode(described_store, type=Keystore)


def _open_with_any(content: bytes, tries: list[tuple[Password, str | None]]) -> Keystore:
    for which, word in tries:
        opened = _open_pkcs12(content, word)
        if opened is not None:
            return Keystore("PKCS#12", which, opened)
    return Keystore("PKCS#12", "unknown", None)


def key_entry(store: Keystore, name: str | None) -> Entry | None:
    """The entry with a key and certificates that is called ``name``, in any case; the first for None."""
    for entry in store.entries or ():
        if entry.key is not None and entry.certificates and (name is None or entry.name.lower() == name.lower()):
            return entry
    return None


def describe_store(content: bytes, given: str, name: str | None = None) -> bytes | None:
    """What may leave of a store: the certificates of its entry ``name`` (of the first key for None) as PEM, and that key
    described (see :mod:`rupex.pki.described`); None where the password does not open it, or there is no such key. Raises
    :class:`~rupex.pki.certificates.CredentialError` for what is broken."""
    entry = key_entry(open_keystore(content, given), name)
    if entry is None or entry.key is None or not entry.ders:
        return None
    pem = "".join(ssl.DER_cert_to_PEM_cert(der) for der in entry.ders)
    return (pem + render_description(entry.key)).encode()


def _open_pkcs12(content: bytes, word: str | None) -> tuple[Entry, ...] | None:
    try:
        with no_warnings():
            store = pkcs12.load_pkcs12(content, (word or "").encode())
    except (ValueError, UnsupportedAlgorithm, TypeError):
        return None
    found = []
    ders = tuple(c.certificate.public_bytes(Encoding.DER) for c in store.additional_certs)
    if store.key is not None:
        if store.cert is not None:
            ders = (store.cert.certificate.public_bytes(Encoding.DER), *ders)
        name = b"" if store.cert is None else store.cert.friendly_name or b""
        public = store.key.public_key()
        spki = public.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
        key = describe_private_key(store.key, kind_of(public), spki)
        found.append(Entry(name.decode("utf-8", "replace"), key, tuple(map(parse_der, ders)), ders))
    else:
        names = [(c.friendly_name or b"").decode("utf-8", "replace") for c in store.additional_certs]
        found += [Entry(name, None, (parse_der(der),), (der,)) for name, der in zip(names, ders, strict=True)]
    return tuple(found)


def _open_java(content: bytes, tries: list[tuple[Password, str | None]]) -> Keystore:
    if len(content) < 32:
        raise CredentialError("the key store in it is cut short")
    body, digest = content[:-20], content[-20:]
    opened_by: Password = "unknown"
    for which, word in tries:
        made = sha1((word or "").encode("utf-16-be") + _MIGHTY + body, usedforsecurity=False).digest()
        if hmac.compare_digest(made, digest):
            opened_by = which
            break
    name = "JKS" if content.startswith(_JKS) else "JCEKS"
    return Keystore(name, opened_by, tuple(_java_entries(body)))


def _java_entries(body: bytes) -> list[Entry]:
    """What stands in clear: names and certificates. The keys are encrypted by a way of Java's own, and are not opened."""
    reader = _Reader(body)
    reader.take(4)
    version, count = reader.number(4), reader.number(4)
    if version not in (1, 2) or count > _MOST_ENTRIES:
        raise CredentialError("a key store of a version or size that cannot be")
    found = []
    for _ in range(count):
        tag, name = reader.number(4), reader.text()
        reader.take(8)
        if tag == 1:
            reader.take(reader.number(4))
            ders = tuple(reader.certificate(version) for _ in range(min(reader.number(4), _LONGEST_CHAIN)))
            chain = tuple(map(parse_der, ders))
            leaf = chain[0] if chain else None
            kind, bits = ("other", None) if leaf is None else (leaf.key_type, leaf.key_bits)
            key = Key(kind, bits, True, None if leaf is None else leaf.public_sha256)
            found.append(Entry(name, key, chain, ders))
        elif tag == 2:
            der = reader.certificate(version)
            found.append(Entry(name, None, (parse_der(der),), (der,)))
        else:
            raise CredentialError("an entry of a kind that is not read")
    return found


class _Reader:
    def __init__(self, data: bytes) -> None:
        self._data, self._at = data, 0

    def take(self, count: int) -> bytes:
        if count > len(self._data) - self._at:
            raise CredentialError("the key store in it is cut short")
        self._at += count
        return self._data[self._at - count : self._at]

    def number(self, width: int) -> int:
        return int.from_bytes(self.take(width), "big")

    def text(self) -> str:
        return self.take(self.number(2)).decode("utf-8", "replace")

    def certificate(self, version: int) -> bytes:
        if version == 2:
            self.text()
        return self.take(self.number(4))
