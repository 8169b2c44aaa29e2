"""Certificates of clients, made for the cases in which a server asks for one."""

from __future__ import annotations

import atexit
import tempfile
from datetime import UTC, datetime, timedelta
from functools import cache
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from rupex.demo.mint import PrivateKey, new_key, write_chain, write_key

_NOW = datetime.now(UTC)


class _Issuer:
    """An authority, of itself or of another one. ``above``: the certificates between it and the one that is trusted."""

    def __init__(self, name: str, issuer: _Issuer | None = None) -> None:
        self.key = ec.generate_private_key(ec.SECP256R1())
        self.name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
        by = issuer or self
        constraints = x509.BasicConstraints(ca=True, path_length=None)
        builder = _builder(self.name, by.name, self.key).add_extension(constraints, critical=True)
        self.certificate = builder.sign(by.key, hashes.SHA256())
        self.above: tuple[x509.Certificate, ...] = () if issuer is None else (self.certificate, *issuer.above)

    def write(self, folder: Path, name: str, *, use: x509.ObjectIdentifier, days: int = 300) -> None:
        """A certificate for ``name`` with its key, and the authorities that a server must be told of."""
        key = new_key()
        subject = x509.Name([
            x509.NameAttribute(NameOID.ORGANIZATION_NAME, "Ternholm Ferries"),
            x509.NameAttribute(NameOID.ORGANIZATIONAL_UNIT_NAME, "Bridge"),
            x509.NameAttribute(NameOID.COMMON_NAME, name),
        ])  # fmt: skip
        builder = _builder(subject, self.name, key, days=days).add_extension(
            x509.ExtendedKeyUsage([use]), critical=False
        )
        write_chain(folder / f"{name}.pem", builder.sign(self.key, hashes.SHA256()), *self.above)
        write_key(folder / f"{name}.key", key)


def _builder(subject: x509.Name, issuer: x509.Name, key: PrivateKey, *, days: int = 300) -> x509.CertificateBuilder:
    return (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(_NOW - timedelta(days=100))
        .not_valid_after(_NOW + timedelta(days=days))
    )


@cache
def client_credentials() -> Path:
    """A folder with ``clients.pem``, the authority that the cases trust, and the certificates and keys of clients: ``crew`` (its
    own), ``deck`` (over another authority), ``hold`` (over two), ``stray`` (of an authority that no case trusts), ``foreign``
    (the same, with its authority), ``late`` (no longer valid) and ``server`` (for servers)."""
    holder = tempfile.TemporaryDirectory(prefix="rupex-clients-")
    atexit.register(holder.cleanup)
    folder = Path(holder.name)
    trusted = _Issuer("Ternholm Clients")
    lower = _Issuer("Ternholm Deck", trusted)
    lowest = _Issuer("Ternholm Hold", lower)
    write_chain(folder / "clients.pem", trusted.certificate)
    client = ExtendedKeyUsageOID.CLIENT_AUTH
    stray, foreign = _Issuer("Stray"), _Issuer("Foreign")
    foreign.above = (foreign.certificate,)
    for issuer, name in (
        (trusted, "crew"),
        (lower, "deck"),
        (lowest, "hold"),
        (stray, "stray"),
        (foreign, "foreign"),
    ):
        issuer.write(folder, name, use=client)
    trusted.write(folder, "late", use=client, days=-1)
    trusted.write(folder, "server", use=ExtendedKeyUsageOID.SERVER_AUTH)
    return folder
