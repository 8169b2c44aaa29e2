"""Protocol versions that a listener negotiates."""

from __future__ import annotations

from datetime import datetime

from rupex.controls._lists import nothing_bad
from rupex.controls.catalogue import control
from rupex.model import PASS, Fail, Judgement, Pass, Setting, Tls, Unknown
from rupex.model.change import Change
from rupex.model.endpoint import ProtocolVersion
from rupex.tls.suites import PROTOCOL_VERSIONS


@control(
    "tls.protocol.floor",
    title="No protocol version older than the floor",
    place="endpoint",
    severity="high",
    why="Older versions rest on broken ciphers and digests, and a client can be pushed down to them.",
    references=("RFC 8996", "RFC 7568", "RFC 6176", "RFC 9325 3.1.1"),
    cwe=("CWE-327",),
    only="tls",
    change=Change("protocol-versions", {"versions": "TLSv1.2 TLSv1.3"}),
    remedy="Enable TLS 1.2 and TLS 1.3 only.",
)
def protocol_floor(tls: Tls, *, floor: ProtocolVersion) -> Judgement:
    protocols = tls.protocols
    lowest = PROTOCOL_VERSIONS.index(floor)
    old = [version for version in protocols.seen or () if PROTOCOL_VERSIONS.index(version) < lowest]
    if not old:
        return nothing_bad(protocols)
    case = "ssl" if old[0].startswith("SSL") else None
    return Fail(f"offers {', '.join(old)}; the floor is {floor}", protocols.provenance, case)


@control(
    "tls.protocol.newest",
    title="TLS 1.3 is offered",
    place="endpoint",
    severity="medium",
    why="TLS 1.3 leaves out every construction that was broken in older versions, and is faster to set up.",
    references=("RFC 9325 3.1.1", "SP 800-52r2 3.1"),
    cwe=("CWE-327",),
    only="tls",
    change=Change("protocol-versions", {"versions": "TLSv1.2 TLSv1.3"}),
    remedy="Enable TLS 1.3.",
)
def protocol_newest(tls: Tls, *, newest: ProtocolVersion) -> Judgement:
    protocols = tls.protocols
    if newest in (protocols.seen or ()):
        return PASS
    if protocols.value is None:
        return Unknown(protocols.why_unknown, protocols.provenance)
    offered = ", ".join(protocols.value) or "no version at all"
    return Fail(f"{newest} is not offered (offered: {offered})", protocols.provenance)


def _is_old(protocols: tuple[ProtocolVersion, ...], version: ProtocolVersion) -> bool:
    """Whether anything older than ``version`` is among ``protocols``."""
    return any(PROTOCOL_VERSIONS.index(offered) < PROTOCOL_VERSIONS.index(version) for offered in protocols)


def _switch(setting: Setting[bool] | None, required: bool, message: str) -> Judgement:
    """Pass when a switch stands as ``required``; a setting that nobody looked at is unknown."""
    if setting is None:
        return Unknown("not looked at")
    if setting.value is None:
        return Unknown(setting.why_unknown, setting.provenance)
    return Pass(setting.provenance) if setting.value is required else Fail(message, setting.provenance)


@control(
    "tls.compression",
    title="TLS compression is off",
    place="endpoint",
    severity="high",
    why="The length of a compressed record tells what secret stands beside a guess.",
    references=("RFC 9325 3.3",),
    cwe=("CWE-310",),
    only="tls",
    change=Change("compression"),
    remedy="Switch TLS compression off, or use a crypto library that has none.",
)
def compression(tls: Tls) -> Judgement:
    return _switch(tls.compression, False, "records are compressed before they are encrypted")


@control(
    "tls.renegotiation",
    title="Renegotiation is secure",
    place="endpoint",
    severity="high",
    why="Without it an attacker's own request can be spliced in front of a victim's.",
    references=("RFC 5746", "RFC 9325 3.5"),
    cwe=("CWE-310",),
    only="tls",
    change=Change("crypto-library"),
    remedy="Use a crypto library that acknowledges renegotiation_info (OpenSSL 0.9.8m or newer).",
)
def renegotiation(tls: Tls) -> Judgement:
    protocols = tls.protocols
    if protocols.value is not None and not _is_old(protocols.value, "TLSv1.3"):
        return Pass(protocols.provenance, "TLS 1.3 has no renegotiation")
    return _switch(tls.secure_renegotiation, True, "renegotiation_info is not acknowledged")


@control(
    "tls.renegotiation.client",
    title="Clients cannot start a renegotiation",
    place="endpoint",
    severity="low",
    why="A handshake costs the server far more than the client, so one connection can keep a core busy.",
    references=("RFC 9325 3.5",),
    cwe=("CWE-400",),
    only="tls",
    change=Change("renegotiation"),
    remedy="Refuse renegotiation that a client starts.",
)
def renegotiation_by_client(tls: Tls) -> Judgement:
    protocols = tls.protocols
    if protocols.value is not None and not _is_old(protocols.value, "TLSv1.3"):
        return Pass(protocols.provenance, "TLS 1.3 has no renegotiation")
    return _switch(tls.client_renegotiation, False, "a client may start a renegotiation")


@control(
    "tls.fallback-signal",
    title="A signalled fallback is refused",
    place="endpoint",
    severity="low",
    why="Clients that try again with an older version can be made to by whoever drops their first try.",
    references=("RFC 7507", "RFC 8446 4.1.3"),
    cwe=("CWE-757",),
    only="tls",
    change=Change("crypto-library"),
    remedy="Offer nothing older than TLS 1.2; or use a crypto library that knows TLS_FALLBACK_SCSV.",
)
def fallback_signal(tls: Tls) -> Judgement:
    protocols = tls.protocols
    if protocols.value is None:
        return Unknown(protocols.why_unknown, protocols.provenance)
    if not _is_old(protocols.value, "TLSv1.2") or len(protocols.value) < 2:
        return Pass(protocols.provenance, "there is no older version to fall back to")
    return _switch(tls.fallback_signal, True, "a signalled fallback to an older version is taken")


@control(
    "tls.master-secret",
    title="TLS 1.2 uses the extended master secret",
    place="endpoint",
    severity="low",
    why="Without it two sessions can be given the same master secret, and one resumed as the other.",
    references=("RFC 7627", "RFC 9325 3.5"),
    cwe=("CWE-310",),
    only="tls",
    change=Change("crypto-library"),
    remedy="Use a crypto library that knows it (OpenSSL 1.1.0 or newer).",
)
def master_secret(tls: Tls) -> Judgement:
    protocols = tls.protocols
    if protocols.value is not None and "TLSv1.2" not in protocols.value:
        return Pass(protocols.provenance, "TLS 1.2 is not offered")
    return _switch(tls.master_secret, True, "the extended master secret is not used")


@control(
    "tls.early-data",
    title="Early data is off",
    place="endpoint",
    severity="medium",
    why="What comes as early data can be recorded and sent again, and is taken a second time.",
    references=("RFC 8446 8", "RFC 8470", "RFC 9325 3.10"),
    cwe=("CWE-294",),
    only="tls",
    change=Change("early-data"),
    remedy="Switch 0-RTT off, or refuse requests that must not be replayed.",
)
def early_data(tls: Tls, *, allowed: bool) -> Judgement:
    if allowed:
        return Pass(message="the baseline allows it")
    protocols = tls.protocols
    if protocols.value is not None and "TLSv1.3" not in protocols.value:
        return Pass(protocols.provenance, "only TLS 1.3 has it")
    return _switch(tls.early_data, False, "early data is taken, and can be replayed")


@control(
    "tls.tickets",
    title="Session ticket keys do not grow old",
    place="endpoint",
    severity="low",
    why="A ticket key opens every session it was used for, so forward secrecy is no younger than the key.",
    references=("RFC 9325 3.4", "RFC 9325 7.3"),
    cwe=("CWE-324",),
    only="tls",
    change=Change("tickets"),
    remedy="Switch tickets off, or have their keys made anew each week.",
)
def tickets(tls: Tls, *, now: datetime, days: int) -> Judgement:
    setting, keys = tls.tickets, tls.ticket_keys
    if setting.value is None:
        return Unknown(setting.why_unknown, setting.provenance)
    if not setting.value:
        return Pass(setting.provenance)
    if keys is None or keys.value is None:
        return Unknown("how old the ticket keys are is not known", setting.provenance)
    if keys.value.rotates:
        return Pass(keys.provenance)
    if keys.value.file is None and keys.value.since is not None:  # seen from outside, in an earlier run
        age = (now - keys.value.since).days
        message = f"the ticket key was seen {age} days ago already"
        return (
            Fail(message, keys.provenance)
            if age > days
            else Unknown(f"{message}, and has not been replaced yet", keys.provenance)
        )
    if keys.value.file is None:
        return Fail("ticket keys are made when the server starts, and kept as long as it runs", keys.provenance)
    if keys.value.since is None:
        return Unknown(f"when {keys.value.file} was written is not known", keys.provenance)
    age = (now - keys.value.since).days
    if age < days:
        return Pass(keys.provenance)
    return Fail(f"{keys.value.file} is {age} days old; less than {days} are wanted", keys.provenance)


@control(
    "tls.client-certificate",
    title="A client's certificate is verified",
    place="endpoint",
    severity="medium",
    why="A certificate that is asked for and not verified says whatever its sender likes.",
    references=("operational: RFC 8446 4.4.2.4 leaves the verdict to the server",),
    cwe=("CWE-295",),
    only="tls",
    change=Change("client-certificates"),
    remedy="Verify client certificates against an anchor of your own.",
)
def client_certificate(tls: Tls) -> Judgement:
    setting = tls.client_certificate
    if setting is None:
        return Unknown("not looked at")
    if setting.value is None:
        return Unknown(setting.why_unknown, setting.provenance)
    if setting.value == "unverified":
        return Fail("client certificates are asked for, and nothing looks at the result", setting.provenance)
    return Pass(setting.provenance)


@control(
    "tls.http2",
    title="HTTP/2 is offered",
    place="endpoint",
    severity="low",
    why="Reported for completeness: it makes sites faster, not safer.",
    references=("RFC 9113", "RFC 7301"),
    only="tls",
    any_protocol=False,
    change=Change("alpn", {"protocols": "h2 http/1.1"}),
    remedy="Offer h2 by ALPN.",
)
def http2(tls: Tls) -> Judgement:
    alpn = tls.alpn
    if alpn.value is None:
        return Unknown(alpn.why_unknown, alpn.provenance)
    if "h2" in alpn.value or "h3" in alpn.value:
        return Pass(alpn.provenance)
    return Fail(f"h2 is not offered (offered: {', '.join(alpn.value) or 'nothing'})", alpn.provenance)
