"""What a listener can negotiate: the declared suites and versions, less what it has no certificate, parameters or
library support for."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from functools import lru_cache
from typing import Final

from msgspec import Struct

from rupex.model.budget import spend
from rupex.model.endpoint import ProtocolVersion
from rupex.tls.openssl import LEVEL_BITS, Library, expand, expand_uncounted, has_short_tag
from rupex.tls.suites import PROTOCOL_VERSIONS, CipherSuite, suite_called

TLS13_DEFAULT: Final = ("TLS_AES_256_GCM_SHA384", "TLS_CHACHA20_POLY1305_SHA256", "TLS_AES_128_GCM_SHA256")
"""OpenSSL's TLS 1.3 suites and their order where nothing sets them (SSL_CTX_set_ciphersuites(3))."""

_AUTHENTICATION: Final = {"RSA": "RSA", "ECDSA": "ECDSA", "DSA": "DSS", "Ed25519": "ECDSA", "Ed448": "ECDSA"}
"""How a suite calls what keys of a kind sign with (RFC 8422, 5.10, for the Edwards curves)."""


class Abilities(Struct, frozen=True):
    """What a listener has to negotiate with.

    ``key_kinds``: the kinds of its certificates' keys (``RSA``, ``ECDSA``, ``DSA``, ``Ed25519``, ``Ed448``), None when they are
    not known and any is assumed; ``dh_parameters``: whether finite-field ephemeral keys can be made.
    """

    key_kinds: frozenset[str] | None
    dh_parameters: bool


def negotiable(
    protocols: tuple[ProtocolVersion, ...],
    expression: str,
    library: Library,
    abilities: Abilities,
    ciphersuites: str = "",
) -> tuple[tuple[ProtocolVersion, ...], tuple[str, ...]]:
    """The versions and suites (IANA names, in order of preference) that a listener really negotiates.

    ``protocols``: those its configuration enables; ``expression``: its cipher list; ``ciphersuites``: its list for
    TLS 1.3, empty for the library's own. Raises :class:`~rupex.model.budget.ExhaustedError`.
    """
    expand(expression, library)  # is counted each time, whatever is known already
    spend(1 + len(ciphersuites))
    return _negotiable(protocols, expression, library, abilities, ciphersuites)


@lru_cache(maxsize=1024)
def _negotiable(
    protocols: tuple[ProtocolVersion, ...],
    expression: str,
    library: Library,
    abilities: Abilities,
    ciphersuites: str,
) -> tuple[tuple[ProtocolVersion, ...], tuple[str, ...]]:
    selection = expand_uncounted(expression, library)
    level = library.security_level if selection.security_level is None else selection.security_level
    enabled = tuple(p for p in protocols if _library_speaks(p, library, level))
    newest_old = max((PROTOCOL_VERSIONS.index(p) for p in enabled if p != "TLSv1.3"), default=-1)
    suites = [
        suite
        for suite in selection.suites
        if PROTOCOL_VERSIONS.index(suite.version) <= newest_old
        and level_allows(suite, level, library)
        and _can_authenticate(suite, abilities)
    ]
    if not suites:
        enabled = tuple(p for p in enabled if p == "TLSv1.3")
    else:
        enabled = tuple(p for p in enabled if p == "TLSv1.3" or _usable(p, suites))
    newest = _newest_suites(ciphersuites) if "TLSv1.3" in enabled else ()
    if not newest:
        enabled = tuple(p for p in enabled if p != "TLSv1.3")
    return enabled, newest + tuple(suite.name for suite in suites)


def refusals(
    declared: Iterable[ProtocolVersion], spoken: Collection[ProtocolVersion], expression: str, library: Library
) -> tuple[str, ...]:
    """Why versions that a configuration enables are not ``spoken``: a sentence for each reason. ``expression``: its cipher
    list."""
    level = security_level(expression, library)
    lost = [version for version in PROTOCOL_VERSIONS if version in declared and version not in spoken]
    by_level = [version for version in lost if not _library_speaks(version, library, level)]
    by_level = [version for version in by_level if _library_speaks(version, library, 0)]
    by_release = [version for version in lost if not _library_speaks(version, library, 0)]
    by_suites = [version for version in lost if version not in (*by_level, *by_release)]
    return tuple(
        f"{' and '.join(versions)} {'are' if len(versions) > 1 else 'is'} configured and {why}"
        for versions, why in (
            (by_release, f"not in {library}"),
            (by_level, f"refused by {library} at security level {level}"),
            (by_suites, "no suite that can be negotiated goes with it"),
        )
        if versions
    )


def security_level(expression: str, library: Library) -> int:
    """The level in force where ``expression`` is the cipher list."""
    stated = expand(expression, library).security_level
    return library.security_level if stated is None else stated


def _newest_suites(declared: str) -> tuple[str, ...]:
    if not declared:
        return TLS13_DEFAULT
    found = (suite_called(name) for name in dict.fromkeys(declared.split(":")))
    return tuple(suite.name for suite in found if suite is not None and suite.version == "TLSv1.3")


def _usable(protocol: ProtocolVersion, suites: Iterable[CipherSuite]) -> bool:
    return any(PROTOCOL_VERSIONS.index(suite.version) <= PROTOCOL_VERSIONS.index(protocol) for suite in suites)


def _library_speaks(protocol: ProtocolVersion, library: Library, level: int) -> bool:
    release = library.release
    if release is None:
        return True
    if protocol == "SSLv2":
        return release < (1, 1, 0)
    if protocol == "SSLv3":
        return release < (1, 1, 0)  # later builds of the distributions have it compiled out (no-ssl3)
    if protocol in ("TLSv1", "TLSv1.1"):
        # OpenSSL 3.0: SHA-1 in handshake signatures has no place at level 1 (changes of 3.0, "deprecated at level 1").
        return release < (3, 0, 0) or level == 0
    if protocol == "TLSv1.3":
        return release >= (1, 1, 1)
    return True


def level_allows(suite: CipherSuite, level: int, library: Library) -> bool:
    """Whether security ``level`` lets ``suite`` be negotiated (ssl_security_default_callback)."""
    if library.release is not None and library.release < (1, 1, 0):
        return True  # levels came with 1.1.0
    if level == 0:
        return True
    bits = 112 if suite.encryption.startswith("3DES") else suite.bits
    bits = 64 if has_short_tag(suite, library.release) else bits
    if bits < LEVEL_BITS[level] or suite.anonymous:
        return False
    if suite.mac == "MD5" or (level >= 2 and suite.encryption.startswith("RC4")):
        return False
    return level < 3 or suite.forward_secrecy


def _can_authenticate(suite: CipherSuite, abilities: Abilities) -> bool:
    if suite.key_exchange in ("PSK", "RSA_PSK", "SRP", "KRB5", "KEA") or suite.authentication in ("PSK", "SRP"):
        return False  # no server here is given pre-shared keys or verifiers
    if suite.key_exchange == "DHE" and not abilities.dh_parameters:
        return False
    if suite.anonymous:
        return True
    return signs(suite.authentication, abilities.key_kinds)


def signs(authentication: str | None, key_kinds: frozenset[str] | None) -> bool:
    """Whether one of the keys, any where they are not known, authenticates as a suite says."""
    return authentication in map(_AUTHENTICATION.get, key_kinds or _AUTHENTICATION)
