"""X.509 certificates described (RFC 5280)."""

from __future__ import annotations

from functools import lru_cache
from hashlib import sha256
from typing import Final

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from cryptography.x509.oid import AuthorityInformationAccessOID

from rupex.model import Certificate, bounds

_LABELS: Final = frozenset({b"CERTIFICATE", b"X509 CERTIFICATE", b"TRUSTED CERTIFICATE"})
_MOST_NAMES: Final = 1024
"""Issuers that are kept as text; real hosts have a handful."""

_CURVE_BITS: Final = {"secp256r1": 256, "secp384r1": 384, "secp521r1": 521}


class CredentialError(Exception):
    """The bytes are no certificate or key that can be read; ``str()`` says why, without quoting them."""


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
    return [_describe_pem(block) if index else _describe(_load_pem(block)) for index, block in enumerate(blocks)]


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
    except (ValueError, UnsupportedAlgorithm) as error:
        raise CredentialError(f"a certificate in it cannot be read ({_short(error)})") from None


def _describe_der(content: bytes) -> Certificate:
    try:
        return _describe(x509.load_der_x509_certificate(content))
    except (ValueError, UnsupportedAlgorithm) as error:
        raise CredentialError(f"the certificate cannot be read ({_short(error)})") from None


def _short(error: Exception) -> str:
    return str(error).splitlines()[0][:80] if str(error) else type(error).__name__


def _describe(certificate: x509.Certificate) -> Certificate:
    try:
        key_type, key_bits, spki = _public_key(certificate)
        names, responders, must_staple = _extensions(certificate)
        subject, issuer = certificate.subject, certificate.issuer
        is_own = subject.public_bytes() == issuer.public_bytes()
        return Certificate(
            subject=subject.rfc4514_string(),
            issuer=_written(issuer.public_bytes(), issuer),
            names=names,
            not_before=certificate.not_valid_before_utc,
            not_after=certificate.not_valid_after_utc,
            key_type=key_type,
            key_bits=key_bits,
            digest=_digest(certificate),
            self_signed=is_own and _signed_by_itself(certificate),
            serial=f"{certificate.serial_number:x}",
            sha256=sha256(certificate.public_bytes(Encoding.DER)).hexdigest(),
            public_sha256=sha256(spki).hexdigest(),
            ocsp_responders=responders,
            must_staple=must_staple,
        )
    except (ValueError, UnsupportedAlgorithm, x509.DuplicateExtension) as error:
        raise CredentialError(f"a certificate in it cannot be read ({_short(error)})") from None


_names_written: dict[bytes, str] = {}


def _written(der: bytes, name: x509.Name) -> str:
    """``name`` as text; the same few issuers stand in thousands of certificates."""
    found = _names_written.get(der)
    if found is None:
        found = name.rfc4514_string()
        if len(_names_written) < _MOST_NAMES:
            _names_written[der] = found
    return found


def _extensions(certificate: x509.Certificate) -> tuple[tuple[str, ...], tuple[str, ...], bool]:
    """The names of subjectAltName, the OCSP responders, and whether a stapled response is demanded."""
    names: tuple[str, ...] = ()
    responders: tuple[str, ...] = ()
    must_staple = False
    for extension in certificate.extensions:
        value = extension.value
        if isinstance(value, x509.SubjectAlternativeName):
            dns = [name.value.lower() for name in value if isinstance(name, x509.DNSName)]
            names = tuple(dns + [str(name.value) for name in value if isinstance(name, x509.IPAddress)])
        elif isinstance(value, x509.AuthorityInformationAccess):
            responders = tuple(
                access.access_location.value
                for access in value
                if access.access_method == AuthorityInformationAccessOID.OCSP
                and isinstance(access.access_location, x509.UniformResourceIdentifier)
            )
        elif isinstance(value, x509.TLSFeature):
            must_staple = x509.TLSFeatureType.status_request in value
    return names, responders, must_staple


def _public_key(certificate: x509.Certificate) -> tuple[str, int | None, bytes]:
    """Kind, bits and DER form (SPKI) of the certified key; a kind the library does not know is ``other``."""
    try:
        key = certificate.public_key()
    except (ValueError, UnsupportedAlgorithm):
        return "other", None, certificate.public_key_algorithm_oid.dotted_string.encode()
    return *kind_of(key), key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)


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
