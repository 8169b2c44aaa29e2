"""Whether a server that asks for one takes a client's certificate (RFC 5280, 6; RFC 8446, 4.4.2), as OpenSSL looks at it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.hashes import SHA1
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from rupex.model import ClientCertificate
from rupex.pki.certificates import CredentialError, der_forms, no_warnings
from rupex.pki.chains import signs

_USES = (ExtendedKeyUsageOID.CLIENT_AUTH, ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE)
_PARTS = {
    "CN": NameOID.COMMON_NAME, "O": NameOID.ORGANIZATION_NAME, "OU": NameOID.ORGANIZATIONAL_UNIT_NAME,
    "C": NameOID.COUNTRY_NAME, "ST": NameOID.STATE_OR_PROVINCE_NAME, "L": NameOID.LOCALITY_NAME,
    "Email": NameOID.EMAIL_ADDRESS,
}  # fmt: skip


UNTRUSTED = "it leads to no authority that the server trusts"
"""The one reason for which a certificate may be passed on where that is allowed (``optional_no_ca``)."""


def read_client_certificate(content: bytes) -> ClientCertificate:
    """A client's certificate, PEM or DER, with what follows it. Raises
    :class:`~rupex.pki.certificates.CredentialError`."""
    chain = tuple(der_forms(content))
    loaded = _load(chain[:1])
    if not loaded:
        raise CredentialError("no certificate that can be read is in it")
    own = loaded[0]
    with no_warnings():
        serial = f"{own.serial_number:X}"
    parts = {
        f"{prefix}_{short}": str(found[0].value)
        for prefix, name in (("S_DN", own.subject), ("I_DN", own.issuer))
        for short, kind in _PARTS.items()
        if (found := name.get_attributes_for_oid(kind))
    }
    return ClientCertificate(
        chain,
        own.subject.rfc4514_string(),
        own.issuer.rfc4514_string(),
        serial.zfill(len(serial) + len(serial) % 2),
        own.fingerprint(SHA1()).hex(),  # noqa: S303  # what the servers call it by
        parts,
    )


def why_not_taken(chain: Sequence[bytes], anchors: Sequence[bytes], depth: int) -> str | None:
    """Why a server does not take a client's ``chain`` (DER, its own certificate first); None where it does.

    ``anchors``: the certificates that it trusts (DER). ``depth``: how many may stand between the client's and that which is
    issued by itself (SSL_CTX_set_verify_depth(3), since OpenSSL 1.1.0).
    """
    sent, trusted = _load(chain), _load(anchors)
    if not sent:
        return "it cannot be read"
    here, between = sent[0], -1
    seen: list[x509.Certificate] = []
    while True:
        why = _unfit(here, is_issuer=bool(seen))
        if why is not None:
            return why
        if signs(here, here):
            return None if here in trusted else UNTRUSTED
        seen.append(here)
        between += 1
        above = next((one for one in (*trusted, *sent) if one not in seen and signs(one, here)), None)
        if above is None:
            return UNTRUSTED
        if between > depth:
            return "it leads to an authority over too many others"
        here = above


def _unfit(certificate: x509.Certificate, *, is_issuer: bool) -> str | None:
    """Why a certificate on the way cannot stand there; None where it can."""
    try:
        with no_warnings():
            if not certificate.not_valid_before_utc <= datetime.now(UTC) <= certificate.not_valid_after_utc:
                return "it, or one on the way to the authority, is not valid today"
            extensions = certificate.extensions
        if is_issuer:
            constraints = extensions.get_extension_for_class(x509.BasicConstraints)
            return None if constraints.value.ca else "an issuer is no authority"
        uses = extensions.get_extension_for_class(x509.ExtendedKeyUsage).value
    except x509.ExtensionNotFound:
        return "an issuer is no authority" if is_issuer and certificate.version is x509.Version.v3 else None
    except (ValueError, TypeError, OverflowError):
        return "its dates or extensions cannot be read"
    return None if any(use in _USES for use in uses) else "it is not meant for clients"


def _load(chain: Sequence[bytes]) -> list[x509.Certificate]:
    """Those of ``chain`` whose names can be read."""
    found = []
    for der in chain:
        try:
            with no_warnings():
                certificate = x509.load_der_x509_certificate(der)
                _ = certificate.subject.rfc4514_string(), certificate.issuer.rfc4514_string()
            found.append(certificate)
        except (ValueError, TypeError, UnsupportedAlgorithm, x509.InvalidVersion):
            continue
    return found
