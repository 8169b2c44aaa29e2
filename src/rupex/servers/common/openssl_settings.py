"""TLS settings that are the crypto library's, for every server that is built with OpenSSL."""

from __future__ import annotations

from typing import Final

from rupex.model import Provenance, Setting, default_of, unknown
from rupex.tls.openssl import Library
from rupex.tls.signatures import signing_schemes

ANY_KIND: Final = frozenset({"RSA", "ECDSA"})
"""The kinds of keys that a certificate may have of which nothing is known."""


def by_library(library: Library, since: tuple[int, ...], what: str) -> Setting[bool]:
    """Whether the library does something that it does ``since`` a release."""
    if library.release is None:
        return unknown(f"whether the crypto library {what}: its release is not known")
    return Setting(library.release >= since, default_of(str(library), what))


def signatures(
    library: Library,
    command: tuple[str, Provenance] | None,
    level: int,
    kinds: frozenset[str] | None,
    *,
    tls12: bool,
    any_version: bool,
) -> Setting[tuple[str, ...]]:
    """The schemes that a server signs handshakes with. ``command``: what its configuration says of them; ``level``: the security
    level in force; ``kinds``: of the keys of its certificates; ``any_version``: TLS 1.2 or 1.3 is spoken at all."""
    place = command[1] if command is not None else library.provenance if library.signatures else None
    if library.release is None and command is None:
        return unknown("the crypto library's own list of signature schemes, and its release is not known", place)
    if not any_version:
        return Setting((), place or default_of(str(library)))
    declared = command[0] if command is not None else library.signatures or ""
    schemes = signing_schemes(declared, library, level, kinds or ANY_KIND, tls12)
    return Setting(schemes, place or default_of(str(library), f"at security level {level}"))
