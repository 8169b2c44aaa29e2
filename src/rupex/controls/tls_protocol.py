"""Protocol versions that a listener negotiates."""

from __future__ import annotations

from rupex.controls.catalogue import control
from rupex.model import PASS, Endpoint, Fail, Judgement, Pass, Unknown
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
    remedy={
        "nginx": "Set ssl_protocols TLSv1.2 TLSv1.3; in the http block, and remove other ssl_protocols lines.",
        "*": "Enable TLS 1.2 and TLS 1.3 only.",
    },
)
def protocol_floor(endpoint: Endpoint, *, floor: ProtocolVersion) -> Judgement:
    assert endpoint.tls is not None
    protocols = endpoint.tls.protocols
    if protocols.value is None:
        return Unknown(protocols.why_unknown, protocols.provenance)
    lowest = PROTOCOL_VERSIONS.index(floor)
    old = [version for version in protocols.value if PROTOCOL_VERSIONS.index(version) < lowest]
    if not old:
        return Pass(protocols.provenance)
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
    remedy={
        "nginx": "Add TLSv1.3 to ssl_protocols (nginx 1.13 or newer with OpenSSL 1.1.1 or newer).",
        "*": "Enable TLS 1.3.",
    },
)
def protocol_newest(endpoint: Endpoint, *, newest: ProtocolVersion) -> Judgement:
    assert endpoint.tls is not None
    protocols = endpoint.tls.protocols
    if protocols.value is None:
        return Unknown(protocols.why_unknown, protocols.provenance)
    if newest in protocols.value:
        return PASS
    offered = ", ".join(protocols.value) or "no version at all"
    return Fail(f"{newest} is not offered (offered: {offered})", protocols.provenance)
