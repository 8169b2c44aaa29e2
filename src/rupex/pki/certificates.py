"""X.509 certificates described (RFC 5280)."""

from __future__ import annotations

import ipaddress
import warnings
from functools import lru_cache
from hashlib import sha256
from typing import Any, Final

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding

from rupex.model import Certificate, bounds
from rupex.pki.der import certificate_parts, general_names, plain_name, responder_urls

_LABELS: Final = frozenset({b"CERTIFICATE", b"X509 CERTIFICATE", b"TRUSTED CERTIFICATE"})
_SUBJECT_ALT_NAME: Final = bytes.fromhex("551d11")  # RFC 5280, 4.2.1.6
_AUTHORITY_INFO_ACCESS: Final = bytes.fromhex("2b06010505070101")  # RFC 5280, 4.2.2.1
_OCSP: Final = bytes.fromhex("2b06010505073001")
_TLS_FEATURE: Final = bytes.fromhex("2b06010505070118")  # RFC 7633, 4
_BASIC_CONSTRAINTS: Final = bytes.fromhex("551d13")  # RFC 5280, 4.2.1.9
_EXTENDED_KEY_USAGE: Final = bytes.fromhex("551d25")  # RFC 5280, 4.2.1.12
_SERVER_AUTH: Final = (bytes.fromhex("06082b06010505070301"), bytes.fromhex("0604551d2500"))  # or any use at all
_POLICIES: Final = bytes.fromhex("551d20")  # RFC 5280, 4.2.1.4
_PUBLIC_POLICY: Final = bytes.fromhex("67810c01")  # 2.23.140.1, below which the reserved ones are (BR 7.1.6.1)
_TIMESTAMPS: Final = bytes.fromhex("2b06010401d679020402")  # RFC 6962, 3.3
_STATUS_REQUEST: Final = bytes.fromhex("020105")  # the INTEGER 5

_MOST_NAMES: Final = 1024
"""Issuers that are kept as text; real hosts have a handful."""

_CURVE_BITS: Final = {"secp256r1": 256, "secp384r1": 384, "secp521r1": 521}


_UNREADABLE: Final = (ValueError, TypeError, UnsupportedAlgorithm, x509.InvalidVersion)
"""What the library raises for certificates that break its rules; TypeError for odd values in a name."""


_LONGEST_NAME: Final = 1_000
"""Characters of a distinguished name that are told: each of its parts may have 64 to 32,768 (RFC 5280, A.1)."""
_LONGEST_SERIAL: Final = 64
"""Digits of a serial number that are told: it may have 40 (RFC 5280, 4.1.2.2)."""


class CredentialError(Exception):
    """The bytes are no certificate or key that can be read; ``str()`` says why, without quoting them."""


def no_warnings() -> warnings.catch_warnings[None]:
    """What is wrong with a certificate or a key store is for the controls to say, and not for the library."""
    return warnings.catch_warnings(action="ignore")


def parse_certificates(content: bytes) -> list[Certificate]:
    """The certificates of a PEM file in order, or the one of a DER file. Raises :class:`CredentialError`."""
    blocks = _pem_blocks(content)
    if not blocks:
        if content.startswith(b"\x30"):
            return [_describe_der(content)]
        raise CredentialError("no certificate in it")
    if len(blocks) > bounds.CERTIFICATES_IN_FILE:
        raise CredentialError(
            f"{len(blocks)} certificates in one file; more than {bounds.CERTIFICATES_IN_FILE} are not read"
        )
    with no_warnings():
        return [_describe_pem(block) if index else _describe(_load_pem(block)) for index, block in enumerate(blocks)]


def der_forms(content: bytes) -> list[bytes]:
    """The certificates of a PEM file in order, or the one of a DER file, in DER form. Raises :class:`CredentialError`."""
    blocks = _pem_blocks(content)[: bounds.CERTIFICATES_IN_FILE]
    with no_warnings():
        return [_load_pem(block).public_bytes(Encoding.DER) for block in blocks] if blocks else [content]


def parse_der(content: bytes) -> Certificate:
    """One certificate as it stands on the wire. Raises :class:`CredentialError`."""
    return _describe_der(content)


def _pem_blocks(content: bytes) -> list[bytes]:
    """The PEM blocks of certificates in ``content`` (RFC 7468), each from its first to its last dash."""
    blocks = []
    start = content.find(b"-----BEGIN ")
    while start >= 0:
        label = content[start + 11 : content.find(b"-", start + 11)]
        mark = b"-----END " + label + b"-----"
        end = content.find(mark, start)
        if end < 0:
            break
        if label in _LABELS:
            blocks.append(content[start : end + len(mark)])
        start = content.find(b"-----BEGIN ", end)
    return blocks


@lru_cache(maxsize=1024)
def _describe_pem(block: bytes) -> Certificate:
    """One of a chain: the same few issuers stand in thousands of files."""
    return _describe(_load_pem(block))


def _load_pem(block: bytes) -> x509.Certificate:
    try:
        return x509.load_pem_x509_certificate(block)
    except _UNREADABLE as error:
        raise CredentialError(f"a certificate in it cannot be read ({_short(error)})") from None


def _describe_der(content: bytes) -> Certificate:
    try:
        with no_warnings():
            return _describe(x509.load_der_x509_certificate(content))
    except _UNREADABLE as error:
        raise CredentialError(f"the certificate cannot be read ({_short(error)})") from None


def _short(error: Exception) -> str:
    return str(error).splitlines()[0][:80] if str(error) else type(error).__name__


def _describe(certificate: x509.Certificate) -> Certificate:
    try:
        der = certificate.public_bytes(Encoding.DER)
        parts = certificate_parts(der)
        names, responders, must_staple = _extensions(parts.extensions)
        is_own = parts.subject == parts.issuer
        return Certificate(
            subject=_shortened(plain_name(parts.subject) or certificate.subject.rfc4514_string(), _LONGEST_NAME),
            issuer=_written(parts.issuer, certificate),
            names=names,
            not_before=certificate.not_valid_before_utc,
            not_after=certificate.not_valid_after_utc,
            **_key_facts(certificate),
            digest=_digest(certificate),
            self_signed=is_own and _signed_by_itself(certificate),
            serial=_shortened(f"{certificate.serial_number:x}", _LONGEST_SERIAL),
            sha256=sha256(der).hexdigest(),
            public_sha256=sha256(parts.public_key).hexdigest(),
            ocsp_responders=responders,
            must_staple=must_staple,
            is_ca=b"\x01\x01\xff" in parts.extensions.get(_BASIC_CONSTRAINTS, b""),
            server_auth=_allows_server(parts.extensions.get(_EXTENDED_KEY_USAGE)),
            public_policy=_PUBLIC_POLICY in parts.extensions.get(_POLICIES, b""),
            timestamps=_TIMESTAMPS in parts.extensions,
        )
    except _UNREADABLE as error:
        raise CredentialError(f"a certificate in it cannot be read ({_short(error)})") from None


_names_written: dict[bytes, str] = {}


def _written(der: bytes, certificate: x509.Certificate) -> str:
    """The issuer as text; the same few stand in thousands of certificates."""
    found = _names_written.get(der)
    if found is None:
        found = _shortened(certificate.issuer.rfc4514_string(), _LONGEST_NAME)
        if len(_names_written) < _MOST_NAMES:
            _names_written[der] = found
    return found


def _shortened(text: str, most: int) -> str:
    """What a person has to read of ``text``, whose length nothing bounds."""
    return text if len(text) <= most else f"{text[:most]}… ({len(text)} characters)"


def _extensions(extensions: dict[bytes, bytes]) -> tuple[tuple[str, ...], tuple[str, ...], bool]:
    """The names of subjectAltName, the OCSP responders, and whether a stapled response is demanded."""
    names: list[str] = []
    alternatives = extensions.get(_SUBJECT_ALT_NAME)
    if alternatives is not None:
        dns, addresses = general_names(alternatives)
        names = [name.decode("ascii").lower() for name in dns]
        names += [str(ipaddress.ip_address(address)) for address in addresses]
    access = extensions.get(_AUTHORITY_INFO_ACCESS)
    urls = [] if access is None else responder_urls(access, _OCSP)
    feature = extensions.get(_TLS_FEATURE, b"")
    return tuple(names), tuple(url.decode("ascii") for url in urls), _STATUS_REQUEST in feature


def _allows_server(usage: bytes | None) -> bool:
    """Whether an extended key usage, or none, allows server authentication (RFC 5280, 4.2.1.12)."""
    return usage is None or any(purpose in usage for purpose in _SERVER_AUTH)


def _key_facts(certificate: x509.Certificate) -> dict[str, Any]:
    """Kind and bits of the certified key; a kind the library does not know is ``other``."""
    try:
        kind, bits = kind_of(certificate.public_key())
    except (ValueError, UnsupportedAlgorithm):
        kind, bits = "other", None
    return {"key_type": kind, "key_bits": bits}


def kind_of(key: object) -> tuple[str, int | None]:
    """Kind (``RSA``, ``ECDSA``, ``DSA``, ``Ed25519``, ``Ed448``, ``other``) and bits of a public key."""
    match key:
        case rsa.RSAPublicKey():
            return "RSA", key.key_size
        case ec.EllipticCurvePublicKey():
            return "ECDSA", _CURVE_BITS.get(key.curve.name, key.curve.key_size)
        case dsa.DSAPublicKey():
            return "DSA", key.key_size
        case ed25519.Ed25519PublicKey():
            return "Ed25519", 256
        case ed448.Ed448PublicKey():
            return "Ed448", 456
        case _:
            return "other", None


def _digest(certificate: x509.Certificate) -> str | None:
    try:
        algorithm = certificate.signature_hash_algorithm
    except UnsupportedAlgorithm:
        return None
    return None if algorithm is None else algorithm.name


def _signed_by_itself(certificate: x509.Certificate) -> bool:
    try:
        certificate.verify_directly_issued_by(certificate)
    except Exception:  # noqa: BLE001  the library raises several kinds; each of them means "not by this key"
        return False
    return True
