"""What leaves the machine of a file's content, by the language it is written in. Bytes in, bytes out.

Certificates leave as certificates, keys and key stores as descriptions, texts with marks for what no verdict needs
(:mod:`rupex.masking`). Nothing else leaves: what is not recognized is there by name, owner, mode and size.
"""

from __future__ import annotations

import re
import ssl
from base64 import b64decode
from binascii import Error as Base64Error
from collections.abc import Callable, Iterator
from typing import Final

from msgspec import Struct

from rupex.families import package_names
from rupex.http.defaults import default_page_words
from rupex.masking.marks import MARK
from rupex.masking.texts import LANGUAGES, Masker, mask
from rupex.pki.described import render_description

_CONTROL: Final = re.compile(rb"[\x00-\x08\x0e-\x1f\x7f]")
_PEM: Final = re.compile(rb"-----BEGIN ([A-Z0-9. ]{1,60})-----(.*?)-----END \1-----", re.DOTALL)
_CERTIFICATES: Final = (b"CERTIFICATE", b"X509 CERTIFICATE", b"TRUSTED CERTIFICATE")
_PARAMETERS: Final = (b"DH PARAMETERS", b"X9.42 DH PARAMETERS")
_PRIVATE: Final = re.compile(rb"(?i)private\s*key")
_STANZA: Final = re.compile(r"(?:^Package: |^P:)(\S+)$.*?(?=\n\n|\Z)", re.MULTILINE | re.DOTALL)
_KEPT_ROW: Final = re.compile(r"^(?:Package|Status|Version|Architecture|P|V|A): ?[\w.:+~ -]*$", re.MULTILINE)
_LISTENING: Final = re.compile(r"\s*\d+: [0-9A-F:]+ [0-9A-F:]+ 0A ")


class Cleaned(Struct, frozen=True):
    """``content``: what may leave, None for nothing but name, owner, mode and size; ``how``: what was done, for a person."""

    content: bytes | None
    how: str


def clean_content(
    language: str, content: bytes, masker: Masker, password: str | None = None, entry: str | None = None
) -> Cleaned:
    """A file's ``content``, written in ``language``, as it may leave. ``password``: what the configuration opens it with,
    where it is a key store; ``entry``: which one it takes of it, None for the first with a key."""
    if language == "unknown":
        language = "credential" if b"-----BEGIN " in content or content[:1] == b"\x30" else "map"
    special = _SPECIAL.get(language)
    if special is not None:
        return special(content, masker)
    if language == "credential" or password is not None:
        return clean_credential(content, password, entry)
    if language not in LANGUAGES:
        return Cleaned(None, "not needed, only its name")
    if _CONTROL.search(content):
        return Cleaned(None, "not text, only its name")
    masked = mask(content.decode("latin-1"), language, masker)
    count = len(MARK.findall(masked)) - len(MARK.findall(content.decode("latin-1")))
    how = (
        "as it is"
        if masked.encode("latin-1") == content
        else f"{count} value{'s'[: count != 1]} masked"
        if count
        else "without comments"
    )
    return Cleaned(masked.encode("latin-1"), how)


# Certificates, keys and key stores


def clean_credential(content: bytes, password: str | None = None, entry: str | None = None) -> Cleaned:
    """What is recognized of a file of certificates and keys, made anew from what was read of it; see :func:`clean_content`."""
    from rupex.pki.certificates import CredentialError, der_forms, parse_certificates
    from rupex.pki.keystores import describe_store, looks_like_keystore

    try:
        if looks_like_keystore(content):
            store = None if password is None else describe_store(content, password, entry)
            words = "a key store that the configuration does not open, only its name"
            return Cleaned(None, words) if store is None else Cleaned(store, "certificates, and its key described")
        blocks = list(_recognized(content))
        if blocks:
            has_key = any(b"RUPEX KEY DESCRIPTION" in block for block in blocks)
            return Cleaned(b"".join(blocks), "key described" if has_key else "certificates or parameters")
        if content[:1] == b"\x30" and b"-----BEGIN" not in content and list(parse_certificates(content)):
            return Cleaned(der_forms(content)[0], "certificate")
    except CredentialError:
        pass
    if content[:1] == b"\x30" and (described := _described(content)) is not None:
        return Cleaned(described, "key described")
    return Cleaned(None, "not recognized, only its name")


def _recognized(content: bytes) -> Iterator[bytes]:
    """The PEM blocks (RFC 7468) that may leave, in order. Raises :class:`~rupex.pki.certificates.CredentialError` for a
    certificate that cannot be read: the audit must not take the rest of such a file for the whole."""
    from rupex.pki.certificates import der_forms, parse_certificates

    for block in _PEM.finditer(content):
        label = block[1]
        if label in _CERTIFICATES:
            parse_certificates(block[0])
            yield ssl.DER_cert_to_PEM_cert(der_forms(block[0])[0]).encode()
        elif label in _PARAMETERS:
            der = _parameters(block[2])
            if der is not None:
                yield ssl.DER_cert_to_PEM_cert(der).replace("CERTIFICATE", label.decode()).encode()
        elif label == b"RUPEX KEY DESCRIPTION" or _PRIVATE.search(label):
            yield _described(block[0]) or _UNREAD_KEY
    rest = _PEM.sub(b"", content)
    if _PRIVATE.search(rest):  # cut short, or in a form of its own: that there is one is all that may be said
        yield _UNREAD_KEY


def _described(content: bytes) -> bytes | None:
    """A private key as a description; None for what is none."""
    from rupex.model import Key
    from rupex.pki.certificates import CredentialError
    from rupex.pki.keys import parse_private_key

    try:
        key = parse_private_key(content)
    except CredentialError:
        if not _PRIVATE.search(content[:200]):
            return None
        key = Key("other", None, encrypted=b"ENCRYPTED" in content, public_sha256=None)
    return render_description(key).encode()


_UNREAD_KEY: Final = (
    b"-----BEGIN RUPEX KEY DESCRIPTION-----\nType: other\nBits: unknown\nEncrypted: no\nPublic-SHA256: unknown\nFlaw: unknown\n"
    b"-----END RUPEX KEY DESCRIPTION-----\n"
)


def _parameters(text: bytes) -> bytes | None:
    """Diffie-Hellman parameters as DER: a sequence of integers (PKCS #3), and nothing behind it."""
    from rupex.pki.der import INTEGER, SEQUENCE, element, elements

    try:
        der = b64decode(b"".join(text.split()), validate=True)
        tag, start, end = element(der, 0, len(der))
        inner = elements(der, start, end)
    except (Base64Error, ValueError):
        return None
    is_whole = tag == SEQUENCE and end == len(der) and 2 <= len(inner) <= 4
    return der if is_whole and all(kind == INTEGER for kind, _, _ in inner) else None


# Files of the system


def _clean_accounts(content: bytes, _: Masker) -> Cleaned:
    """Names, numbers, homes and members; passwords and people's names do not leave."""
    kept = []
    for line in content.decode("utf-8", "surrogateescape").splitlines():
        fields = line.split(":")
        if len(fields) >= 7:
            kept.append(":".join((fields[0], "x", *fields[2:4], "", *fields[5:7])))
        elif len(fields) == 4:
            kept.append(":".join((fields[0], "x", *fields[2:4])))
        else:
            kept.append("")
    return Cleaned("".join(f"{line}\n" for line in kept).encode("utf-8", "surrogateescape"), "names and numbers")


def _clean_packages(content: bytes, _: Masker) -> Cleaned:
    """A package database with the servers and crypto libraries only, and of those only name, state and version."""
    text = content.decode("utf-8", "replace")
    stanzas = [
        "\n".join(_KEPT_ROW.findall(found[0]))
        for found in _STANZA.finditer(text)
        if package_names().fullmatch(found[1])
    ]
    return Cleaned("".join(f"{stanza}\n\n" for stanza in stanzas).encode(), f"{len(stanzas)} packages")


def _clean_sockets(content: bytes, _: Masker) -> Cleaned:
    """The sockets that listen; of the others not even the peers' addresses."""
    rows = [line for line in content.decode("ascii", "replace").splitlines() if _LISTENING.match(line)]
    kept = ["  sl  local_address rem_address   st", *(" ".join(row.split()[:4]).join(("   ", " ")) for row in rows)]
    return Cleaned("".join(f"{row}\n" for row in kept).encode(), f"{len(rows)} listening sockets")


def _clean_page(content: bytes, _: Masker) -> Cleaned:
    """The words by which a page that came with a package is known, where they are in it."""
    words = default_page_words(content.decode("utf-8", "replace"))
    return (
        Cleaned(None, "site content, only its name")
        if words is None
        else Cleaned(words.encode(), "a package's page, named")
    )


_SPECIAL: Final[dict[str, Callable[[bytes, Masker], Cleaned]]] = {
    "accounts": _clean_accounts, "packages": _clean_packages, "sockets": _clean_sockets, "page": _clean_page,
}  # fmt: skip

__all__ = ["Cleaned", "clean_content", "clean_credential"]
