"""Whether a certificate is one that clients take: issued by whom, for what use, for how long."""

from __future__ import annotations

from datetime import date

from rupex.controls.catalogue import control
from rupex.model import (
    EXEMPT,
    PASS,
    Certificate,
    CertificateFile,
    Endpoint,
    Fail,
    Judgement,
    KnownCertificates,
    Pass,
    TrustPath,
    Unknown,
    lifetime_days,
)
from rupex.model.change import Change


@control(
    "cert.trust",
    title="The certificate chains to a trust anchor",
    place="certificate",
    severity="high",
    why="A certificate that nobody vouches for could be anybody's, and people learn to click the warning away.",
    references=("RFC 5280 6",),
    cwe=("CWE-295",),
    evidence=("files", "wire"),
    change=Change("certificate", {"what": "by an authority that clients trust"}),
    remedy="Have a certificate issued by an authority that the clients trust.",
)
def trust(certificate: CertificateFile, *, anchors: tuple[str, ...]) -> Judgement:
    """``anchors``: the baseline's own, by the SHA-256 of their DER form in lower-case hexadecimal digits."""
    leaf, path = certificate.leaf, certificate.trust
    if leaf is None:
        return Unknown(certificate.unknown or "not read")
    if path is not None and any(one in anchors for one in path.certificates):
        return Pass(message="an anchor of the baseline's own")
    if leaf.self_signed:
        return Fail("it is signed with its own key, and no list of anchors has it")
    if path is None:
        return Unknown("a certificate of its chain cannot be read")
    if path.anchor is not None:
        return Pass(message=path.anchor)
    if path.missing is None:
        return Fail(f"its chain ends at an anchor of its own, {leaf.issuer}, which is on no public list")
    if leaf.public_policy:
        return Unknown(f"{path.missing} was not sent, so no path could be built")
    return Fail(f"issued by {path.missing}, which is no public anchor and was not sent")


@control(
    "cert.chain",
    title="The chain is sent whole, leaf first",
    place="endpoint",
    severity="medium",
    why="Clients that do not fetch what is missing cannot build a path, and refuse.",
    references=("RFC 8446 4.4.2",),
    cwe=("CWE-295",),
    only="tls",
    evidence=("config", "files", "wire"),
    change=Change("chain"),
    remedy="Send the intermediates behind the leaf.",
)
def chain(endpoint: Endpoint, known: KnownCertificates) -> Judgement:
    assert endpoint.tls is not None
    note = ""
    for use in endpoint.tls.certificates:
        sent = known.chains.get(use.certificate or "")
        if not sent:
            return Unknown("the certificate was not read", use.provenance)
        path = known.paths.get(use.certificate or "")
        broken = _broken_chain(sent) if path is None else _broken_path(sent[0], path)
        if isinstance(broken, Fail):
            return Fail(broken.message, use.provenance)
        if isinstance(broken, Unknown):
            return Unknown(broken.why, use.provenance)
        if path is not None and not path.in_order:
            note = "out of order, which older clients do not take"
        elif path is not None and path.surplus:
            note = f"{path.surplus} more than needed"
    if not endpoint.tls.certificates:
        return Unknown("no certificate was seen", endpoint.provenance)
    return Pass(endpoint.provenance, note)


def _broken_path(leaf: Certificate, path: TrustPath) -> Judgement | None:
    """What is wrong with the way of a chain that was sent, whose signatures were looked at."""
    if path.missing is None:
        return None
    return _lacks(leaf, path.missing)


def _broken_chain(chain: tuple[Certificate, ...]) -> Judgement | None:
    """What is wrong with a file of certificates, by the names in it."""
    leaf, *others = chain
    if leaf.self_signed:
        return None
    if leaf.is_ca and any(not other.is_ca for other in others):
        return Fail(f"{leaf.subject}, a CA, stands before the server's own certificate")
    if any(other.subject == leaf.issuer for other in others):
        return None
    return _lacks(leaf, leaf.issuer)


def _lacks(leaf: Certificate, issuer: str) -> Judgement:
    """No certificate of ``issuer`` is there. A public authority never signs with its anchor (BR 6.1.7), so one is missing."""
    if leaf.public_policy:
        return Fail(f"the certificate of {issuer} is not sent, and no client can build a path without it")
    return Unknown(f"{issuer} is neither sent nor a public anchor, and may be an anchor of the clients' own")


@control(
    "cert.usage",
    title="The certificate is made for servers",
    place="certificate",
    severity="high",
    why="Clients refuse one made for something else; and a CA's key on a web server can issue for any name.",
    references=("RFC 5280 4.2.1.9", "RFC 5280 4.2.1.12"),
    cwe=("CWE-295",),
    evidence=("files", "wire"),
    change=Change("certificate", {"what": "for server authentication"}),
    remedy="Have a certificate issued for server authentication, with CA false.",
)
def usage(certificate: CertificateFile) -> Judgement:
    leaf = certificate.leaf
    if leaf is None:
        return Unknown(certificate.unknown or "not read")
    if leaf.is_ca:
        return Fail("it is a CA's: it may issue certificates, and its key lies on a web server")
    if not leaf.server_auth:
        return Fail("its extended key usage has no server authentication")
    return PASS


@control(
    "cert.lifetime",
    title="Certificate validity is within the allowed maximum",
    place="certificate",
    severity="medium",
    why="Browsers refuse public certificates that are valid for longer, and a stolen key is useful until expiry.",
    references=("BR 6.3.2",),
    cwe=("CWE-324",),
    evidence=("files", "wire"),
    change=Change("certificate", {"what": "for a shorter time"}),
    remedy="Have it issued for the time that is allowed, and renewed by a scheduled job.",
)
def lifetime(certificate: CertificateFile, *, limits: dict[str, int]) -> Judgement:
    leaf, path = certificate.leaf, certificate.trust
    if leaf is None:
        return Unknown(certificate.unknown or "not read")
    if path is None:
        return Unknown("a certificate of its chain cannot be read")
    if not path.is_public:
        return Unknown("no path could be built") if path.missing is not None and leaf.public_policy else EXEMPT
    issued = leaf.not_before.date()
    allowed = [days for since, days in sorted(limits.items()) if date.fromisoformat(since) <= issued]
    if not allowed:
        return PASS
    days = lifetime_days(leaf.not_before, leaf.not_after)
    if days <= allowed[-1]:
        return Pass(message=f"{days} days")
    return Fail(f"valid for {days} days; {allowed[-1]} were allowed when it was issued, on {issued}")


@control(
    "cert.transparency",
    title="The certificate was logged in public",
    place="certificate",
    severity="low",
    why="Browsers refuse a public certificate without signed timestamps; a logged one can be seen by whoever it was"
    " issued against.",
    references=("RFC 6962 3.3",),
    cwe=("CWE-295",),
    evidence=("files", "wire"),
    change=Change("certificate", {"what": "by an authority that embeds signed timestamps"}),
    remedy="Have it issued by an authority that embeds signed certificate timestamps; every public one does.",
)
def transparency(certificate: CertificateFile) -> Judgement:
    leaf, path = certificate.leaf, certificate.trust
    if leaf is None:
        return Unknown(certificate.unknown or "not read")
    if path is None or not path.is_public:
        return EXEMPT
    return (
        PASS
        if leaf.timestamps
        else Unknown("none is embedded; whether the handshake or the staple has some was not looked at")
    )


@control(
    "cert.wildcard",
    title="No wildcard where none is wanted",
    place="certificate",
    severity="low",
    why="One lost key of a wildcard certificate is every name of the domain.",
    references=("operational: the baseline says where wildcards are not wanted",),
    cwe=("CWE-295",),
    evidence=("files", "wire"),
    change=Change("certificate", {"what": "for the names served"}),
    remedy="Have a certificate issued for the names that this host serves.",
)
def wildcard(certificate: CertificateFile, *, forbidden: bool) -> Judgement:
    leaf = certificate.leaf
    if not forbidden:
        return EXEMPT
    if leaf is None:
        return Unknown(certificate.unknown or "not read")
    wide = [name for name in leaf.names if name.startswith("*.")]
    return Fail(f"it covers {', '.join(wide[:3])}") if wide else PASS
