"""The way to servers behind this one, who chooses it, and whose word about clients is taken."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable
from functools import lru_cache
from typing import Literal

from rupex.controls.catalogue import control
from rupex.model import EXEMPT, PASS, Backend, Endpoint, Fail, Judgement, Pass, Scope, Unknown
from rupex.model.change import Change
from rupex.model.endpoint import is_loopback

Where = Literal["local", "trusted", "private", "public", "unknown"]


@lru_cache(maxsize=4096)
def _where(address: str, trusted: tuple[str, ...]) -> Where:
    """Where a backend leads: this machine, a network the baseline trusts, a private address, elsewhere, or nobody knows."""
    if address.startswith("unix:") or is_loopback(address):
        return "local"
    try:
        parsed = ipaddress.ip_address(address)
    except ValueError:
        return "public" if "." in address.strip(".") else "unknown"
    if any(parsed.version == n.version and parsed in n for n in map(ipaddress.ip_network, trusted)):
        return "trusted"
    return "private" if parsed.is_private else "public"


def _leaving(backends: Iterable[Backend], trusted: tuple[str, ...]) -> list[tuple[Backend, Where]]:
    return [
        (backend, where)
        for backend in backends
        if (where := _where(backend.address, trusted)) not in ("local", "trusted")
    ]


@control(
    "transport.upstream.tls",
    title="The way to the upstream is encrypted",
    place="scope",
    severity="high",
    why="The padlock ends at this server: what goes on from here in clear can be read on the second half of the way.",
    references=("RFC 9325 3.2",),
    cwe=("CWE-319",),
    local_exempt=True,
    evidence=("config",),
    change=Change("upstream-tls"),
    remedy="Speak TLS to the upstream, or move it to this machine.",
)
def upstream_tls(endpoint: Endpoint, scope: Scope, *, trusted_networks: tuple[str, ...]) -> Judgement:
    upstream = scope.upstream
    if upstream is None:
        return EXEMPT
    if upstream.unknown is not None:
        return PASS if upstream.verified is not None else Unknown(upstream.unknown, upstream.provenance)
    leaving = _leaving(upstream.backends, trusted_networks)
    if not leaving:
        return EXEMPT
    for backend, where in leaving:
        if not backend.tls:
            if where == "unknown":
                return Unknown(f"{backend.address} is a name that this host alone can resolve", backend.provenance)
            words = f"requests go on to {backend.address} in clear"
            return Fail(words, backend.provenance, "private" if where == "private" else None, upstream.url)
    return Pass(upstream.provenance)


@control(
    "transport.upstream.verify",
    title="The upstream's certificate is verified",
    place="scope",
    severity="high",
    why="TLS to a server that nobody verifies is TLS with whoever answers first.",
    references=("operational: RFC 9525 6 says what to verify",),
    cwe=("CWE-295",),
    local_exempt=True,
    evidence=("config",),
    change=Change("verify-upstream"),
    remedy="Verify the upstream's certificate against an anchor of your own, and its name.",
)
def upstream_verify(endpoint: Endpoint, scope: Scope, *, trusted_networks: tuple[str, ...]) -> Judgement:
    upstream = scope.upstream
    if upstream is None or upstream.verified is None:
        return EXEMPT
    if upstream.unknown is None and not _leaving(upstream.backends, trusted_networks):
        return EXEMPT
    leaving = [backend for backend, _ in _leaving(upstream.backends, trusted_networks)]
    checks = [check for backend in leaving if (check := upstream.verification_of(backend)) is not None]
    for verified in checks or [upstream.verified]:
        if verified.value is None:
            return Unknown(verified.why_unknown, verified.provenance)
        if not verified.value:
            return Fail(f"the certificate of {upstream.url} is not verified", upstream.provenance)
    return Pass(upstream.verified.provenance)


@control(
    "proxy.open",
    title="No stranger chooses the upstream",
    place="endpoint",
    severity="critical",
    why="A proxy that goes wherever it is told reaches the inside of the house for whoever asks.",
    references=("operational: requests are made in this host's name",),
    cwe=("CWE-441",),
    local_exempt=True,
    change=Change("fixed-upstream"),
    remedy="Take the upstream from a fixed list, never from the request.",
)
def open_proxy(endpoint: Endpoint) -> Judgement:
    carries = endpoint.carries
    if carries is not None and carries.value:
        return Fail("a stranger's CONNECT is obeyed: it is carried on to where it says", carries.provenance)
    if endpoint.sources == ("wire",):
        preface = "CONNECT is refused; " if carries is not None and carries.is_known else ""
        why = "" if carries is None or carries.is_known else carries.why_unknown
        unseen = "whether a request chooses the upstream in another way cannot be seen from outside"
        return Unknown(why or preface + unseen, endpoint.provenance)
    for scope in endpoint.scopes:
        upstream = scope.upstream
        if upstream is None or upstream.chosen_by is None or (scope.closed is not None and scope.closed.value):
            continue
        return Fail(
            f"the request chooses where it goes on to, by {upstream.chosen_by}",
            upstream.provenance,
            evidence=upstream.url,
        )
    return PASS


@control(
    "proxy.client-address",
    title="Only named peers may speak for a client's address",
    place="endpoint",
    severity="medium",
    why="A forwarded-for header that anybody may write gets anybody past every rule by address.",
    references=("operational: addresses decide on access, limits and logs",),
    cwe=("CWE-348",),
    evidence=("config",),
    change=Change("trusted-peers"),
    remedy="Trust forwarded-for headers and PROXY protocol from your own proxies' addresses only.",
)
def client_address(endpoint: Endpoint, *, widest_prefix: int) -> Judgement:
    peers = endpoint.trusted_peers
    if peers is None:
        return PASS
    if peers.value is None:
        return Unknown(peers.why_unknown, peers.provenance)
    for network in peers.value:
        try:
            parsed = ipaddress.ip_network(network, strict=False)
        except ValueError:
            continue  # a name, or "unix:"
        if parsed.prefixlen < widest_prefix and not parsed.is_private:
            return Fail(f"{network} may say which client it speaks for", peers.provenance)
    return Pass(peers.provenance)
