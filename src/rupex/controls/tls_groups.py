"""Groups for the key exchange, and the digests of handshake signatures."""

from __future__ import annotations

from typing import Final

from rupex.controls._lists import nothing_bad
from rupex.controls.catalogue import control
from rupex.model import Fail, Judgement, Pass, Tls, Unknown
from rupex.model.change import Change
from rupex.tls.groups import group_called
from rupex.tls.signatures import scheme_called
from rupex.tls.suites import suite_called

_GOOD_PRIMES: Final = frozenset(
    f"{family}{bits}" for family in ("ffdhe", "modp") for bits in (2048, 3072, 4096, 6144, 8192)
)


@control(
    "tls.group.strength",
    title="Every curve gives enough security",
    place="endpoint",
    severity="high",
    why="The key exchange is as strong as the weakest group that a client can be made to take.",
    references=("RFC 9325 4.5", "SP 800-52r2 3.3.1"),
    cwe=("CWE-326",),
    only="tls",
    change=Change("groups", {"groups": "X25519:prime256v1:secp384r1"}),
    remedy="Offer X25519, P-256 and P-384 only, and a hybrid group where the library has one.",
)
def group_strength(tls: Tls, *, minimum_bits: int) -> Judgement:
    groups = tls.groups
    weak = [
        f"{group.name} ({group.bits} bits)"
        for group in map(group_called, groups.seen or ())
        if group is not None and group.kind != "ff" and group.bits < minimum_bits
    ]
    if not weak:
        return nothing_bad(groups)
    return Fail(f"offers {', '.join(weak[:4])}; {minimum_bits} bits of security are wanted", groups.provenance)


@control(
    "tls.group.dh",
    title="Finite-field parameters are strong",
    place="endpoint",
    severity="high",
    why="One precomputation breaks every exchange over the same short prime, and a prime that is not safe leaks.",
    references=("RFC 9325 4.1", "RFC 7919"),
    cwe=("CWE-326",),
    only="tls",
    change=Change("dh-parameters", {"bits": "2048"}),
    remedy="Use an RFC 7919 group of 2048 bits or more, or no DHE suites.",
)
def group_dh(tls: Tls, *, minimum_bits: int) -> Judgement:
    suites, setting = tls.suites, tls.dh
    if not any(suite is not None and suite.key_exchange == "DHE" for suite in map(suite_called, suites.seen or ())):
        return nothing_bad(suites, "no suite with finite-field parameters is offered")
    if setting is None or setting.value is None:
        why = setting.why_unknown if setting is not None else ""
        return Unknown(why or "the parameters are not known", setting.provenance if setting else None)
    dh = setting.value
    if dh.bits < minimum_bits:
        return Fail(f"the prime has {dh.bits} bits; {minimum_bits} are wanted", setting.provenance)
    if not suites.is_known:
        return Unknown(suites.why_unknown, suites.provenance)
    if dh.group in _GOOD_PRIMES or dh.safe:
        return Pass(setting.provenance, dh.group or "a safe prime of one's own")
    if dh.safe is None:
        return Unknown(f"whether its prime of {dh.bits} bits is a safe one was not worked out", setting.provenance)
    return Fail("the prime is neither a known group's nor a safe one", setting.provenance)


@control(
    "tls.group.post-quantum",
    title="A hybrid group with ML-KEM is offered",
    place="endpoint",
    severity="low",
    why="What is recorded today can be read by the quantum computer of tomorrow, unless the exchange holds against it.",
    references=("FIPS 203", "IANA TLS Supported Groups"),
    cwe=("CWE-327",),
    only="tls",
    change=Change("groups", {"groups": "X25519MLKEM768:X25519:prime256v1"}),
    remedy="Offer X25519MLKEM768 first.",
)
def group_post_quantum(tls: Tls) -> Judgement:
    groups = tls.groups
    if any(group is not None and group.is_post_quantum for group in map(group_called, groups.seen or ())):
        return Pass(groups.provenance)
    if groups.value is None:
        return Unknown(groups.why_unknown, groups.provenance)
    return Fail(f"offers only {', '.join(groups.value[:5]) or 'no group at all'}", groups.provenance)


@control(
    "tls.signature.digest",
    title="Handshakes are not signed with SHA-1 or MD5",
    place="endpoint",
    severity="medium",
    why="Whoever finds a collision can have the server sign one handshake and show it in another.",
    references=("RFC 9155",),
    cwe=("CWE-328",),
    only="tls",
    change=Change("crypto-library"),
    remedy="Sign with SHA-256 or better only.",
)
def signature_digest(tls: Tls) -> Judgement:
    setting = tls.signatures
    if setting is None:
        return Unknown("not looked at")
    bad = [
        name for name in setting.seen or () if (s := scheme_called(name)) is not None and s.digest in ("SHA-1", "MD5")
    ]
    if not bad:
        return nothing_bad(setting)
    return Fail(f"signs with {', '.join(bad)} when a client asks for it", setting.provenance)
