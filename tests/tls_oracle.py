"""What OpenSSL's and GnuTLS's own clients see of a TLS listener: oracles that share nothing with Rupex's probe."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Iterable, Sequence
from functools import cache
from typing import Any

from rupex.tls.negotiate import TLS13_DEFAULT
from rupex.tls.suites import CipherSuite, all_suites
from tests.oracle import _binary, handshake, is_agreed, s_client

VERSIONS = ("TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3")
ASKED_GROUPS = tuple(
    "sect233k1 secp192r1 secp224r1 secp256k1 secp256r1 secp384r1 secp521r1 x25519 x448 ffdhe2048 ffdhe3072 ffdhe4096".split()
)
"""Groups that are asked for one by one: each takes a process. Of the old ones, one of each kind."""
_SELDOM = re.compile("ARIA|CAMELLIA|CCM|SEED|IDEA|anon|ADH|AECDH|NULL|GOST")
_OF_GNUTLS = {"TLSv1.2": "VERS-TLS1.2", "TLSv1.3": "VERS-TLS1.3"}


@cache
def known_to_the_library() -> tuple[str, ...]:
    """The suites of TLS 1.2 and older that the local library can ask for, by OpenSSL's names."""
    command = ["openssl", "ciphers", "ALL:COMPLEMENTOFALL:@SECLEVEL=0"]
    said = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    names = said.strip().split(":")
    return tuple(name for name in names if not name.startswith("TLS_") and "PSK" not in name and "SRP" not in name)


@cache
def _standard_names() -> dict[str, str]:
    return {
        str(suite.openssl): suite.name for suite in all_suites() if isinstance(suite, CipherSuite) and suite.openssl
    }


def seen_by_openssl(port: int, name: str, *, with_groups: bool = True) -> dict[str, Any]:
    """What a listener of loopback negotiates for ``name``: the values of :class:`~rupex.model.Tls` that a client can tell; of
    the suites those that :func:`are_asked`."""
    spoken = [version for version in VERSIONS if handshake(port, name, version) is not None]
    older = next((version for version in reversed(spoken) if version != "TLSv1.3"), None)
    suites: list[str] = []
    preference = None
    if "TLSv1.3" in spoken:
        suites += _newest_in_order(port, name)
    if older is not None:
        found = _in_order(port, name, older)
        suites += [_standard_names()[suite] for suite in found]
        if len(found) > 1:
            first = [handshake(port, name, older, ":".join(order)) for order in (found, found[::-1])]
            preference = "server" if first[0] == first[1] else "client"
    session = s_client(port, name, *(("-tls1_2",) if "TLSv1.2" in spoken else ()))
    asked = {protocol: s_client(port, name, "-alpn", protocol) for protocol in ("h2", "http/1.1")}
    finite = re.search(
        r"Server Temp Key: DH, (\d+) bits", s_client(port, name, "-tls1_2", "-cipher", "DHE:@SECLEVEL=0")
    )
    return {
        "protocols": spoken,
        "suites": suites,
        "preference": preference,
        "groups": _groups(port, name, spoken) if with_groups else set(),
        "tickets": "ticket lifetime hint" in session,
        "alpn": [protocol for protocol, said in asked.items() if f"ALPN protocol: {protocol}" in said],
        "compression": "Compression: NONE" not in session,
        "dh_bits": int(finite[1]) if finite else None,
    }


def are_asked(names: Iterable[str]) -> list[str]:
    """The suites of ``names`` that are asked for one by one: a third of what the library has, for each takes a handshake."""
    return [name for name in names if not _SELDOM.search(name)]


def _in_order(port: int, name: str, version: str) -> list[str]:
    """The suites that are accepted, in the server's order where it has one: each time the one that is taken drops out."""
    left, found = are_asked(known_to_the_library()), list[str]()
    while left:
        agreed = handshake(port, name, version, ":".join(left))
        if agreed is None or agreed[0] not in left:
            return found
        found.append(agreed[0])
        left.remove(agreed[0])
    return found


def _newest_in_order(port: int, name: str) -> list[str]:
    left, found = list(TLS13_DEFAULT), list[str]()
    while left:
        said = s_client(port, name, "-tls1_3", "-ciphersuites", ":".join(reversed(left)))
        agreed = re.search(r"Cipher is (TLS_\w+)", said)
        if agreed is None or agreed[1] not in left:
            return found
        found.append(agreed[1])
        left.remove(agreed[1])
    return found


def _groups(port: int, name: str, spoken: Iterable[str]) -> set[str]:
    """The groups that are agreed on, in any version."""
    ways = {"TLSv1.2": ("-tls1_2", "-cipher", "ECDHE:@SECLEVEL=0"), "TLSv1.3": ("-tls1_3",)}
    asked = [options for version, options in ways.items() if version in spoken]
    return {g for g in ASKED_GROUPS for options in asked if is_agreed(s_client(port, name, "-groups", g, *options))}


def versions_by_gnutls(port: int, name: str) -> list[str]:
    """Those of TLS 1.2 and 1.3 in which GnuTLS comes to terms with a listener."""
    return [version for version in _OF_GNUTLS if _agrees_with_gnutls(port, name, [_OF_GNUTLS[version]])]


def _agrees_with_gnutls(port: int, name: str, versions: Sequence[str]) -> bool:
    priority = ":".join(("NORMAL", "-VERS-ALL", *(f"+{version}" for version in versions)))
    command = [
        _binary("gnutls-cli"),
        "--insecure",
        "--sni-hostname",
        name,
        "--priority",
        priority,
        "-p",
        str(port),
        "127.0.0.1",
    ]
    done = subprocess.run(command, input=b"", capture_output=True, timeout=20, check=False)
    return b"Handshake was completed" in done.stdout
