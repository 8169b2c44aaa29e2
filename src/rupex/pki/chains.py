"""From a leaf to a trust anchor, over the certificates that came with it (RFC 5280, 6; RFC 8446, 4.4.2).

Names and signatures decide; dates, usages and names of hosts are judged by controls of their own.
"""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from functools import cache
from hashlib import sha256

from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509 import ocsp

from rupex.model import Certificate, TrustPath

_LONGEST = 10
"""Certificates on one path; real ones have up to five."""


@cache
def public_anchors() -> dict[bytes, tuple[x509.Certificate, ...]]:
    """The anchors of the dated public list (certifi), by the DER of their subjects."""
    import certifi

    with open(certifi.where(), "rb") as file, warnings.catch_warnings(action="ignore"):
        listed = x509.load_pem_x509_certificates(file.read())
    found: dict[bytes, tuple[x509.Certificate, ...]] = {}
    for anchor in listed:
        name = anchor.subject.public_bytes()
        found[name] = (*found.get(name, ()), anchor)
    return found


def trust_path(chain: Sequence[bytes]) -> TrustPath | None:
    """The way from the first certificate of ``chain`` (DER); None when one on it cannot be read."""
    try:
        with warnings.catch_warnings(action="ignore"):
            sent = [x509.load_der_x509_certificate(der) for der in chain]
        return _path(sent) if sent else None
    except (ValueError, UnsupportedAlgorithm, x509.InvalidVersion):
        return None


def path_by_names(chain: Sequence[Certificate]) -> TrustPath:
    """The way of a file's first certificate over the others by their names, where no public authority issued it: whose
    certificate is none of those keeps no rule that says who signed it. No signature is looked at."""
    here, used = 0, [0]
    while not chain[here].self_signed and len(used) < _LONGEST:
        above = next(
            (
                position
                for position, one in enumerate(chain)
                if position not in used and one.subject == chain[here].issuer
            ),
            None,
        )
        if above is None:
            break
        used.append(above)
        here = above
    missing = None if chain[here].self_signed else chain[here].issuer
    prints = tuple(chain[position].sha256 for position in used)
    return TrustPath(None, False, missing, len(chain) - len(used), used == sorted(used), prints)


def says_good(response: bytes) -> bool:
    """Whether an OCSP response (DER) says ``good`` of the certificate it is for (RFC 6960, 4.2.1)."""
    try:
        staple = ocsp.load_der_ocsp_response(response)
        return staple.certificate_status is ocsp.OCSPCertStatus.GOOD
    except (ValueError, UnsupportedAlgorithm):
        return False  # not successful, or no response at all


def _path(sent: list[x509.Certificate]) -> TrustPath:
    here, used = sent[0], [0]
    while True:
        if signs(here, here):
            anchor = _same(here)
            name = here.subject.rfc4514_string()
            return _told(sent, used, name if anchor else None, is_public=anchor, missing=None)
        anchors = public_anchors().get(here.issuer.public_bytes(), ())
        found = next((anchor for anchor in anchors if signs(anchor, here)), None)
        if found is not None:
            return _told(sent, used, found.subject.rfc4514_string(), is_public=True, missing=None)
        above = next((index for index, one in enumerate(sent) if index not in used and signs(one, here)), None)
        if above is None or len(used) >= _LONGEST:
            return _told(sent, used, None, is_public=False, missing=here.issuer.rfc4514_string())
        used.append(above)
        here = sent[above]


def _told(
    sent: list[x509.Certificate], used: list[int], anchor: str | None, *, is_public: bool, missing: str | None
) -> TrustPath:
    prints = tuple(sha256(sent[position].public_bytes(Encoding.DER)).hexdigest() for position in used)
    return TrustPath(anchor, is_public, missing, len(sent) - len(used), used == sorted(used), prints)


def _same(certificate: x509.Certificate) -> bool:
    return any(certificate == anchor for anchor in public_anchors().get(certificate.subject.public_bytes(), ()))


def signs(issuer: x509.Certificate, certificate: x509.Certificate) -> bool:
    """Whether ``issuer`` has the name and the key that ``certificate`` was signed with."""
    if issuer.subject != certificate.issuer:
        return False
    try:
        certificate.verify_directly_issued_by(issuer)
    except (ValueError, TypeError, InvalidSignature, UnsupportedAlgorithm):
        return False
    return True
