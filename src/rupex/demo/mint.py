"""Keys and certificates made on the spot, for the demo and the tests. None is ever shipped."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Literal

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509 import ocsp
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

PrivateKey = rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey


def new_key(kind: Literal["RSA", "ECDSA"] = "ECDSA", bits: int = 2048) -> PrivateKey:
    """A new private key; ``bits`` counts for RSA only."""
    if kind == "RSA":
        return rsa.generate_private_key(public_exponent=65537, key_size=bits)
    return ec.generate_private_key(ec.SECP256R1())


class Authority:
    """A certificate authority of a test's or demo's own."""

    def __init__(self, name: str, now: datetime) -> None:
        self.key = ec.generate_private_key(ec.SECP256R1())
        self.name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
        self.certificate = (
            self._builder(self.name, self.key, now - timedelta(days=400), now + timedelta(days=3000))
            .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
            .sign(self.key, hashes.SHA256())
        )

    def issue(self, names: Sequence[str], key: PrivateKey, start: datetime, end: datetime) -> x509.Certificate:
        """A server certificate for ``names`` (DNS names or IP addresses)."""
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, names[0][:64])])
        alternatives = [_general_name(name) for name in names]
        return (
            self._builder(subject, key, start, end)
            .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
            .add_extension(x509.SubjectAlternativeName(alternatives), critical=False)
            .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
            .sign(self.key, hashes.SHA256())
        )

    def staple(self, leaf: x509.Certificate, now: datetime) -> bytes:
        """An OCSP response (DER) that says good of ``leaf``, for a week."""
        response = (
            ocsp.OCSPResponseBuilder()
            .add_response(
                leaf, self.certificate, hashes.SHA1(), ocsp.OCSPCertStatus.GOOD,  # noqa: S303  as responders name issuers
                now - timedelta(hours=1), now + timedelta(days=7), None, None,
            )
            .responder_id(ocsp.OCSPResponderEncoding.HASH, self.certificate)
            .sign(self.key, hashes.SHA256())
        )  # fmt: skip
        return response.public_bytes(Encoding.DER)

    def _builder(self, subject: x509.Name, key: PrivateKey, start: datetime, end: datetime) -> x509.CertificateBuilder:
        return (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(self.name)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(start)
            .not_valid_after(end)
        )


def _general_name(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(name))
    except ValueError:
        return x509.DNSName(name)


def write_key(path: Path, key: PrivateKey, mode: int = 0o600) -> None:
    """Write a private key as unencrypted PKCS#8 PEM with ``mode``."""
    path.write_bytes(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
    path.chmod(mode)


def write_chain(path: Path, *certificates: x509.Certificate) -> None:
    """Write certificates as PEM, in order."""
    path.write_bytes(b"".join(certificate.public_bytes(Encoding.PEM) for certificate in certificates))
