"""What a sweep finds, and which suites are offered in which parts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final, Literal

from msgspec import Struct, field

from rupex.model.endpoint import ProtocolVersion
from rupex.tls.openssl import Library, expand
from rupex.tls.suites import PROTOCOL_VERSIONS, CipherSuite, all_suites
from rupex.wire.codec.answers import SentCertificates
from rupex.wire.sweep.query import NoAnswer

SUITES_BY_CODE: Final = {suite.code: suite for suite in all_suites()}


def suites_for(version: ProtocolVersion) -> tuple[CipherSuite, ...]:
    """Every suite that can be negotiated in ``version``, in the order that servers most often have: OpenSSL's."""
    rank = {s.code: at for at, s in enumerate(expand("ALL:COMPLEMENTOFALL", Library()).suites)}
    if version in ("SSLv2", "TLSv1.3"):
        return tuple(suite for suite in all_suites() if suite.version == version)
    index = PROTOCOL_VERSIONS.index(version)
    found = [s for s in all_suites() if 1 <= PROTOCOL_VERSIONS.index(s.version) <= index and s.version != "TLSv1.3"]
    return tuple(sorted(found, key=lambda suite: rank.get(suite.code, len(rank) + suite.code)))


_LIKELY: Final = frozenset(
    s.code
    for s in expand("HIGH:!aNULL:!PSK:!SRP:!DSS", Library((3, 0, 0))).suites
    if s.key_exchange in ("RSA", "ECDHE")
)


def parts_of(suites: Sequence[CipherSuite], count: int) -> list[tuple[int, ...]]:
    """``suites`` cut into ``count`` contiguous parts that have as many likely ones each."""
    likely = sum(1 for suite in suites if suite.code in _LIKELY and suite.authentication != "ECDSA")
    found: list[list[int]] = [[]]
    seen = 0
    for suite in suites:
        counts = suite.code in _LIKELY and suite.authentication != "ECDSA"
        if counts and seen * count >= likely * len(found) and len(found) < count:
            found.append([])
        seen += counts
        found[-1].append(suite.code)
    return [tuple(part) for part in found]


def is_good(code: int) -> bool:
    """Whether a suite has forward secrecy, AEAD and authentication."""
    suite = SUITES_BY_CODE.get(code)
    return suite is not None and suite.aead and suite.forward_secrecy and not suite.anonymous


Order = Literal["server", "client"]


class SweepResult(Struct):
    """What a sweep found. ``suites``: by version, in the server's order where it has one; a version that is not there is
    not offered, one in ``doubts`` could not be told, for that reason. ``order``: who decides it, None where it could not
    be told; ``order_note``: what is not known of it. ``dh_primes``: of finite-field exchanges. ``chains``: by kind of
    certificate (``RSA``, ``ECDSA`` …).

    ``alerts``: with which hellos were refused; ``failure``: the first that had no answer.

    Of single facts None means that they were not seen.
    """

    suites: dict[ProtocolVersion, tuple[int, ...]] = field(default_factory=dict)
    doubts: dict[ProtocolVersion, str] = field(default_factory=dict)
    order: Order | None = None
    order_doubt: str = ""
    order_note: str = ""
    groups: list[int] = field(default_factory=list)
    groups_doubt: str = ""
    schemes: list[int] = field(default_factory=list)
    schemes_doubt: str = ""
    dh_primes: list[int] = field(default_factory=list)
    chains: dict[str, SentCertificates] = field(default_factory=dict)
    stapled: bool | None = None
    compression: bool | None = None
    secure_renegotiation: bool | None = None
    master_secret: bool | None = None
    tickets: bool | None = None
    fallback_refused: bool | None = None
    protocol: str | None = None
    protocol_seen: bool = False
    asks_for_certificate: bool | None = None
    foreign: bytes | None = None
    failure: NoAnswer | None = None
    alerts: list[str] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)

    @property
    def pairs(self) -> int:
        """Versions and suites that are taken together."""
        return sum(map(len, self.suites.values()))

    @property
    def is_silent(self) -> bool:
        """Whether no handshake came about at all."""
        return not self.suites

    @property
    def refuses_all(self) -> bool:
        """Whether every hello was answered, and none taken."""
        return not self.suites and self.failure is None and bool(self.alerts)
