"""Cipher suites that a listener negotiates."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Final

from rupex.controls._lists import nothing_bad
from rupex.controls.catalogue import control
from rupex.model import Fail, Judgement, Pass, Tls, Unknown
from rupex.model.change import Change
from rupex.tls.suites import CipherSuite, suite_called


@lru_cache(maxsize=4096)
def _suites(names: tuple[str, ...]) -> tuple[CipherSuite, ...]:
    return tuple(suite for suite in map(suite_called, names) if suite is not None)


@lru_cache(maxsize=4096)
def _bad_ones(names: tuple[str, ...], is_bad: Callable[[CipherSuite], bool]) -> tuple[str, ...]:
    return tuple(suite.name for suite in _suites(names) if is_bad(suite))


def _none(tls: Tls, is_bad: Callable[[CipherSuite], bool], what: str) -> Judgement:
    """Pass when no negotiable suite ``is_bad``; otherwise name them."""
    suites, seen = tls.suites, tls.suites.seen or ()
    bad = _bad_ones(seen, is_bad)
    if not bad:
        return nothing_bad(suites)
    count = f"{len(bad)} of {len(seen)} suites" if suites.is_known else f"{len(bad)} of the {len(seen)} suites seen"
    return Fail(f"{count} {what}: {_some(bad)}", suites.provenance, evidence=" ".join(bad))


def _some(names: tuple[str, ...], shown: int = 2) -> str:
    more = len(names) - shown
    return ", ".join(names[:shown]) + (f" and {more} more" if more > 0 else "")


def _is_unencrypted(suite: CipherSuite) -> bool:
    return suite.bits == 0


def _is_anonymous(suite: CipherSuite) -> bool:
    return suite.anonymous


def _is_short(suite: CipherSuite) -> bool:
    return 0 < suite.bits < 112


def _is_rc4(suite: CipherSuite) -> bool:
    return suite.encryption.startswith("RC4")


def _has_small_block(suite: CipherSuite) -> bool:
    return suite.block_bits == 64


def _has_md5(suite: CipherSuite) -> bool:
    return suite.mac == "MD5"


def _is_static(suite: CipherSuite) -> bool:
    return not suite.forward_secrecy


def _is_not_aead(suite: CipherSuite) -> bool:
    return suite.version != "TLSv1.3" and not suite.aead


@control(
    "tls.suite.unencrypted", title="No suite without encryption", place="endpoint", severity="critical", only="tls",
    why="With a NULL suite the connection looks like TLS and is in clear.",
    references=("RFC 9325 4.1",), cwe=("CWE-327",), change=Change("suites", {"suites": "EECDH+AESGCM:EECDH+CHACHA20"}),
    remedy="Offer only suites with forward secrecy and AEAD, without eNULL.",
)  # fmt: skip
def suite_unencrypted(tls: Tls) -> Judgement:
    return _none(tls, _is_unencrypted, "do not encrypt")


@control(
    "tls.suite.anonymous", title="No suite without authentication", place="endpoint", severity="critical", only="tls",
    why="Without authentication anybody on the way can be the server.",
    references=("RFC 5246 F.1.1.1",), cwe=("CWE-322",),
    change=Change("suites", {"suites": "EECDH+AESGCM:EECDH+CHACHA20"}),
    remedy="Offer only suites with forward secrecy and AEAD, without aNULL.",
)  # fmt: skip
def suite_anonymous(tls: Tls) -> Judgement:
    return _none(tls, _is_anonymous, "do not authenticate the server")


@control(
    "tls.suite.export", title="No suite below 112 bits", place="endpoint", severity="critical", only="tls",
    why="Export and single DES keys are found by trying, in hours or less.",
    references=("RFC 9325 4.1",), cwe=("CWE-326",),
    change=Change("suites", {"suites": "EECDH+AESGCM:EECDH+CHACHA20"}),
    remedy="Offer only suites with forward secrecy and AEAD, without EXP, LOW and DES.",
)  # fmt: skip
def suite_export(tls: Tls) -> Judgement:
    return _none(tls, _is_short, "have keys below 112 bits")


@control(
    "tls.suite.rc4", title="No RC4", place="endpoint", severity="high", only="tls",
    why="RC4's output is biased enough to recover cookies from repeated requests.",
    references=("RFC 7465",), cwe=("CWE-327",), change=Change("suites", {"suites": "EECDH+AESGCM:EECDH+CHACHA20"}),
    remedy="Offer only suites with forward secrecy and AEAD, without RC4.",
)  # fmt: skip
def suite_rc4(tls: Tls) -> Judgement:
    return _none(tls, _is_rc4, "use RC4")


@control(
    "tls.suite.block64", title="No cipher with a 64-bit block", place="endpoint", severity="high", only="tls",
    why="After some gigabytes under one key, blocks repeat and tell about the text behind them.",
    references=("RFC 9325 4.1", "SP 800-131Ar2"), cwe=("CWE-327",),
    change=Change("suites", {"suites": "EECDH+AESGCM:EECDH+CHACHA20"}),
    remedy="Offer only suites with forward secrecy and AEAD, without 3DES and IDEA.",
)  # fmt: skip
def suite_block64(tls: Tls) -> Judgement:
    return _none(tls, _has_small_block, "have a 64-bit block")


@control(
    "tls.suite.md5", title="No MD5 MAC", place="endpoint", severity="high", only="tls",
    why="MD5 is broken, and what still uses it is old in every other way.",
    references=("RFC 6151 2",), cwe=("CWE-327",), change=Change("suites", {"suites": "EECDH+AESGCM:EECDH+CHACHA20"}),
    remedy="Offer only suites with forward secrecy and AEAD, without MD5.",
)  # fmt: skip
def suite_md5(tls: Tls) -> Judgement:
    return _none(tls, _has_md5, "protect records with MD5")


@control(
    "tls.suite.static-key", title="Every suite has forward secrecy", place="endpoint", severity="medium", only="tls",
    why="Without ephemeral keys, whoever gets the private key later reads everything recorded before.",
    references=("RFC 9325 4.1",), cwe=("CWE-327",), change=Change("suites", {"suites": "EECDH+AESGCM:EECDH+CHACHA20"}),
    remedy="Offer only suites with forward secrecy and AEAD, without kRSA.",
)  # fmt: skip
def suite_static_key(tls: Tls) -> Judgement:
    return _none(tls, _is_static, "have no forward secrecy")


@control(
    "tls.suite.aead", title="Every TLS 1.2 suite is AEAD", place="endpoint", severity="medium", only="tls",
    why="CBC suites have leaked plain text through their padding again and again.",
    references=("RFC 9325 4.2",), cwe=("CWE-327",), change=Change("suites", {"suites": "EECDH+AESGCM:EECDH+CHACHA20"}),
    remedy="Offer only suites with forward secrecy and AEAD, without CBC.",
)  # fmt: skip
def suite_aead(tls: Tls) -> Judgement:
    return _none(tls, _is_not_aead, "are not AEAD")


@control(
    "tls.suite.order", title="The server prefers its best suites", place="endpoint", severity="low", only="tls",
    why="Left to the client, the order is that of the oldest client.",
    references=("RFC 9325 4.2.1",), cwe=("CWE-757",),
    change=Change("suite-preference"),
    remedy="Let the server choose, suites with forward secrecy and AEAD first.",
)  # fmt: skip
def suite_order(tls: Tls) -> Judgement:
    setting, preference = tls.suites, tls.preference
    if setting.value is None:
        return Unknown(setting.why_unknown, setting.provenance)
    best = [suite.aead and suite.forward_secrecy for suite in _suites(setting.value) if suite.version != "TLSv1.3"]
    if all(best):
        return Pass(setting.provenance, "every suite has both forward secrecy and AEAD")
    if preference.value is None:
        return Unknown(preference.why_unknown, preference.provenance)
    if preference.value == "client":
        return Fail("the client decides the order, and weaker suites are among those offered", preference.provenance)
    if best != sorted(best, reverse=True):
        return Fail("a suite without forward secrecy or AEAD stands before one with both", setting.provenance)
    return Pass(setting.provenance)


@control(
    "tls.suite.http2", title="HTTP/2 does not meet a suite it prohibits", place="endpoint", severity="low", only="tls",
    why="A browser that gets one of them over HTTP/2 ends the connection.",
    references=("RFC 9113 9.2.2", "RFC 9113 Appendix A"), cwe=(),
    change=Change("suites", {"suites": "EECDH+AESGCM:EECDH+CHACHA20"}),
    remedy="Offer only suites with forward secrecy and AEAD, which are the ones that HTTP/2 allows.",
)  # fmt: skip
def suite_http2(tls: Tls) -> Judgement:
    setting, preference, alpn = tls.suites, tls.preference, tls.alpn
    if alpn.value is not None and "h2" not in alpn.value:
        return Pass(alpn.provenance, "h2 is not offered")
    if setting.value is None:
        return Unknown(setting.why_unknown, setting.provenance)
    allowed = [_http2_allows(suite) for suite in _suites(setting.value)]
    if all(allowed):
        return Pass(setting.provenance)
    if preference.value is None:
        return Unknown(preference.why_unknown, preference.provenance)
    if preference.value == "client":
        return Pass(preference.provenance, "the client decides, and one that speaks HTTP/2 puts what it allows first")
    if allowed != sorted(allowed, reverse=True):
        return Fail("a suite that HTTP/2 prohibits stands before one that it allows", setting.provenance)
    return Pass(setting.provenance)


def _http2_allows(suite: CipherSuite) -> bool:
    """RFC 9113, Appendix A, lists every suite of TLS 1.2 that is not ephemeral and AEAD, and the anonymous ones."""
    return suite.version == "TLSv1.3" or (suite.aead and suite.forward_secrecy and not suite.anonymous)


_PER_SUITE: Final[tuple[tuple[str, Callable[[CipherSuite], bool]], ...]] = (
    ("tls.suite.unencrypted", _is_unencrypted),
    ("tls.suite.anonymous", _is_anonymous),
    ("tls.suite.export", _is_short),
    ("tls.suite.rc4", _is_rc4),
    ("tls.suite.block64", _has_small_block),
    ("tls.suite.md5", _has_md5),
    ("tls.suite.static-key", _is_static),
    ("tls.suite.aead", _is_not_aead),
)


def broken_controls(suite: CipherSuite) -> tuple[str, ...]:
    """The controls that a listener fails which negotiates ``suite``, the worst first."""
    return tuple(name for name, is_bad in _PER_SUITE if is_bad(suite))
