"""X.509 certificates described (RFC 5280)."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from hashlib import sha256
from typing import Final

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from cryptography.x509.oid import AuthorityInformationAccessOID

from rupex.model import Certificate, bounds

_PEM = re.compile(
    rb"-----BEGIN (?:X509 |TRUSTED )?CERTIFICATE-----.+?-----END (?:X509 |TRUSTED )?CERTIFICATE-----", re.DOTALL
)
_CURVE_BITS: Final = {"secp256r1": 256, "secp384r1": 384, "secp521r1": 521}


class CredentialError(Exception):
    """The bytes are no certificate or key that can be read; ``str()`` says why, without quoting them."""


def parse_certificates(content: bytes) -> list[Certificate]:
    """The certificates of a PEM file in order, or the one of a DER file. Raises :class:`CredentialError`."""
    blocks = _PEM.findall(content)
    if not blocks:
        if content.startswith(b"\x30"):
            return [_describe_der(content)]
        raise CredentialError("no certificate in it")
    if len(blocks) > bounds.CERTIFICATES_IN_FILE:
        raise CredentialError(
            f"{len(blocks)} certificates in one file; more than {bounds.CERTIFICATES_IN_FILE} are not read"
        )
    return [_describe(_load_pem(block)) for block in blocks]


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
        return Certificate(
            subject=certificate.subject.rfc4514_string(),
            issuer=certificate.issuer.rfc4514_string(),
            names=_names(certificate),
            not_before=certificate.not_valid_before_utc.astimezone(UTC),
            not_after=_aware(certificate),
            key_type=key_type,
            key_bits=key_bits,
            digest=_digest(certificate),
            self_signed=certificate.subject == certificate.issuer and _signed_by_itself(certificate),
            serial=f"{certificate.serial_number:x}",
            sha256=sha256(certificate.public_bytes(Encoding.DER)).hexdigest(),
            public_sha256=sha256(spki).hexdigest(),
            ocsp_responders=_responders(certificate),
            must_staple=_must_staple(certificate),
        )
    except (ValueError, UnsupportedAlgorithm, x509.DuplicateExtension) as error:
        raise CredentialError(f"a certificate in it cannot be read ({_short(error)})") from None


def _aware(certificate: x509.Certificate) -> datetime:
    return certificate.not_valid_after_utc.astimezone(UTC)


def _names(certificate: x509.Certificate) -> tuple[str, ...]:
    try:
        value = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return ()
    names = [name.lower() for name in value.get_values_for_type(x509.DNSName)]
    return tuple(names + [str(address) for address in value.get_values_for_type(x509.IPAddress)])


def _responders(certificate: x509.Certificate) -> tuple[str, ...]:
    try:
        value = certificate.extensions.get_extension_for_class(x509.AuthorityInformationAccess).value
    except x509.ExtensionNotFound:
        return ()
    return tuple(
        access.access_location.value
        for access in value
        if access.access_method == AuthorityInformationAccessOID.OCSP
        and isinstance(access.access_location, x509.UniformResourceIdentifier)
    )


def _must_staple(certificate: x509.Certificate) -> bool:
    try:
        value = certificate.extensions.get_extension_for_class(x509.TLSFeature).value
    except x509.ExtensionNotFound:
        return False
    return x509.TLSFeatureType.status_request in value


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
