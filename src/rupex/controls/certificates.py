"""Certificates: dates, names, and the keys that go with them."""

from __future__ import annotations

from datetime import datetime, timedelta

from rupex.controls.catalogue import control
from rupex.http.names import covers
from rupex.model import EXEMPT, PASS, CertificateFile, Endpoint, Fail, Host, Judgement, KnownCertificates, Pass, Unknown
from rupex.model.change import Change


@control(
    "cert.dates",
    title="The certificate is valid today",
    place="certificate",
    severity="critical",
    why="Clients refuse a certificate outside its dates, and people learn to click the warning away.",
    references=("RFC 5280 4.1.2.5",),
    cwe=("CWE-324",),
    evidence=("files", "wire"),
    change=Change("certificate", {"what": "valid now"}),
    remedy="Put a certificate in place that is valid now, and reload the server.",
)
def dates(certificate: CertificateFile, *, now: datetime) -> Judgement:
    leaf = certificate.leaf
    if leaf is None:
        return Unknown(certificate.unknown or "not read")
    if now < leaf.not_before:
        return Fail(f"not valid before {_day(leaf.not_before)}")
    if now > leaf.not_after:
        return Fail(f"expired on {_day(leaf.not_after)}, {(now - leaf.not_after).days} days ago")
    return PASS


@control(
    "cert.expiry",
    title="The certificate does not expire soon",
    place="certificate",
    severity="high",
    why="An expiry that surprises is an outage; renewal needs time to fail once and be tried again.",
    references=("operational: a third of the usual 90 days is when clients renew", "SP 1800-16"),
    cwe=("CWE-324",),
    refines="cert.dates",
    evidence=("files", "wire"),
    change=Change("certificate", {"what": "anew"}),
    remedy="Renew it now, and have a scheduled job renew it and reload the server.",
)
def expiry(certificate: CertificateFile, host: Host, *, now: datetime, days: int, lifetime_share: float) -> Judgement:
    leaf = certificate.leaf
    if leaf is None:
        return Unknown(certificate.unknown or "not read")
    lifetime = leaf.not_after - leaf.not_before
    notice = min(timedelta(days=days), lifetime * lifetime_share)
    time_left = leaf.not_after - now
    if time_left > notice:
        return PASS
    words = f"{time_left.days} days left, until {_day(leaf.not_after)}; more than {notice.days} are wanted"
    jobs = (host.renewals.value if host.renewals is not None else None) or ()
    runs = [moment for job in jobs if job.enabled and job.schedule is not None and (moment := job.schedule.next(now))]
    return Fail(f"{words}; the next renewal is tried on {_day(min(runs))}" if runs else words)


def _day(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%d")


@control(
    "cert.names",
    title="The certificate covers every name served",
    place="endpoint",
    severity="high",
    why="A client that asks for a name the certificate does not have is refused or warned.",
    references=("RFC 9525 6",),
    cwe=("CWE-297",),
    only="tls",
    evidence=("config", "files", "wire"),
    change=Change("certificate", {"what": "for all names served"}),
    remedy="Get a certificate for all names served, or stop serving the name here.",
)
def names(endpoint: Endpoint, known: KnownCertificates) -> Judgement:
    served = [name for name in endpoint.names if name not in ("", "_", "localhost")]
    if not served:
        return EXEMPT
    assert endpoint.tls is not None
    plain = [name for name in served if not name.startswith("~")]
    unread = None
    for use in endpoint.tls.certificates:
        leaf = known.leaf_at(use.certificate)
        if leaf is None:
            unread = use
            continue
        missing = [name for name in plain if not all(covers(leaf.names, wanted) for wanted in _wanted(name))]
        if missing:
            have = ", ".join(leaf.names[:3]) or "no name at all"
            return Fail(f"{use.certificate} does not cover {', '.join(missing[:4])}; it has {have}", use.provenance)
    if unread is not None or not endpoint.tls.certificates:
        place = endpoint.provenance if unread is None else unread.provenance
        return Unknown("the certificate was not read", place)
    if len(plain) < len(served):
        return Unknown("a name that is a pattern may match names the certificate does not have", endpoint.provenance)
    return PASS


def _wanted(name: str) -> tuple[str, ...]:
    """The DNS names for which a declared server name stands."""
    if name.startswith("."):
        return name[1:], f"*{name}"
    return (name,)


@control(
    "cert.key-match",
    title="Certificate and key belong together",
    place="certificate",
    severity="critical",
    why="With a foreign key the server refuses to start, at the next restart and not before.",
    references=("operational: a server cannot prove a certificate whose key it has not",),
    evidence=("files",),
    change=Change("certificate", {"what": "for the key that is configured"}),
    remedy="Configure the key that was made for this certificate.",
)
def key_match(certificate: CertificateFile) -> Judgement:
    leaf, key = certificate.leaf, certificate.key
    if certificate.source == "wire":
        return EXEMPT  # a handshake that ended well has proven it
    if leaf is None:
        return Unknown(certificate.unknown or "the certificate was not read")
    if key is None:
        return Fail("no key is configured for it")
    if key.key is None:
        return Unknown(f"{key.path}: {key.unknown or 'the key was not read'}")
    if key.key.public_sha256 is None:
        why = (
            "encrypted"
            if key.key is not None and key.key.encrypted
            else "of a kind that the crypto library does not take"
        )
        return Unknown(f"{key.path}: the key is {why}")
    if key.key.public_sha256 == leaf.public_sha256:
        return Pass()
    return Fail(f"{key.path} is the key of another certificate")


@control(
    "cert.key-strength",
    title="The certified key is strong enough",
    place="certificate",
    severity="high",
    why="A short key can be worked out, and then the certificate is everybody's.",
    references=("BR 6.1.5", "SP 800-57 Part 1 5.6.1"),
    cwe=("CWE-326",),
    evidence=("files", "wire"),
    change=Change("key"),
    remedy="Make a new key, ECDSA P-256 or RSA with 2048 bits or more, and have a certificate issued for it.",
)
def key_strength(certificate: CertificateFile, *, rsa_bits: int, ec_bits: int) -> Judgement:
    leaf = certificate.leaf
    if leaf is None:
        return Unknown(certificate.unknown or "not read")
    match leaf.key_type:
        case "RSA" if leaf.key_bits is not None:
            minimum_bits = rsa_bits
        case "ECDSA" if leaf.key_bits is not None:
            minimum_bits = ec_bits
        case "Ed25519" | "Ed448":
            return PASS
        case _:
            return Fail(f"its key is of a kind that clients do not take ({leaf.key_type})")
    if leaf.key_bits >= minimum_bits:
        return PASS
    return Fail(f"its {leaf.key_type} key has {leaf.key_bits} bits; {minimum_bits} are wanted")


@control(
    "cert.digest",
    title="The certificate is signed with SHA-256 or better",
    place="certificate",
    severity="high",
    why="A collision in the digest makes a second certificate with the same signature.",
    references=("RFC 8446 4.4.2.4", "BR 7.1.3.2"),
    cwe=("CWE-328",),
    evidence=("files", "wire"),
    change=Change("certificate", {"what": "signed with SHA-256 or better"}),
    remedy="Have the certificate issued anew; every authority signs with SHA-256 or better today.",
)
def digest(certificate: CertificateFile, *, weak: tuple[str, ...]) -> Judgement:
    leaf = certificate.leaf
    if leaf is None:
        return Unknown(certificate.unknown or "not read")
    for one in (leaf, *certificate.chain):
        if one.digest in weak and not (one.self_signed and one is not leaf):  # an anchor's own signature does not count
            return Fail(f"{one.subject} is signed with {one.digest}")
    return PASS


@control(
    "cert.stapling",
    title="A revocation response is stapled",
    place="endpoint",
    severity="low",
    why="Without it each client asks the authority itself, which tells it who visits, or does not ask at all.",
    references=("RFC 6066 8", "RFC 7633"),
    cwe=("CWE-299",),
    only="tls",
    evidence=("config", "files", "wire"),
    change=Change("stapling"),
    remedy="Switch stapling on.",
)
def stapling(endpoint: Endpoint, known: KnownCertificates) -> Judgement:
    assert endpoint.tls is not None
    leaves = [known.leaf_at(use.certificate) for use in endpoint.tls.certificates]
    read = [leaf for leaf in leaves if leaf is not None]
    setting = endpoint.tls.stapling
    demanded = any(leaf.must_staple for leaf in read)
    if read and len(read) == len(leaves) and not any(leaf.ocsp_responders for leaf in read) and not demanded:
        return EXEMPT  # what a certificate is, not what is set
    if setting.value is None:
        return Unknown(setting.why_unknown, setting.provenance)
    if setting.value:
        return Pass(setting.provenance)
    if not read:
        return Unknown("whether the certificate names a responder is not known", setting.provenance)
    if demanded:
        return Fail("the certificate demands a stapled response, and none is sent", setting.provenance, "demanded")
    return Fail("no response is stapled", setting.provenance)


@control(
    "cert.key-shared",
    title="No key is shared by hosts of different owners",
    place="host",
    severity="medium",
    why="A key that two owners have is lost when either loses it, and neither can replace it alone.",
    references=("operational: whoever answers for a host answers for its key",),
    change=Change("key"),
    remedy="Make a key of its own for each owner, and have its certificate issued anew.",
)
def key_shared(host: Host) -> Judgement:
    if host.shared is None:
        return EXEMPT
    if not host.shared:
        return PASS
    first = host.shared[0]
    more = f", and {len(host.shared) - 1} more keys are shared so" if len(host.shared) > 1 else ""
    return Fail(f"the key of {first.place} is that of {', '.join(first.others[:4])} too{more}")
