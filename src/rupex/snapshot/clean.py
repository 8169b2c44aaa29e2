"""What leaves the machine of a file's content: text without secrets, certificates, keys described. Bytes in, bytes out."""

from __future__ import annotations

import re
from typing import Final

from msgspec import Struct

from rupex.host.secrets import find_secrets
from rupex.pki.described import render_description

REMOVED: Final = "rupex-secret-removed"
REMOVED_WELL_KNOWN: Final = "rupex-well-known-secret-removed"
"""What stands where a secret stood; the second, where it was one that everybody tries first."""

WELL_KNOWN: Final = frozenset(
    "changeit changeme password passwd secret admin tomcat s3cret manager root test 123456".split()
)

ACCOUNT_FILES: Final = frozenset(("etc/passwd", "etc/group"))
_PASSWORD_FIELD = re.compile(rb"^([^:\n]+):[^:\n]*:", re.MULTILINE)
_PRIVATE = re.compile(
    rb"-----BEGIN [A-Z0-9 ]{0,40}PRIVATE KEY-----(?:.*?-----END [A-Z0-9 ]{0,40}PRIVATE KEY-----|.*)", re.DOTALL
)
_CONTROL = re.compile(rb"[\x00-\x08\x0e-\x1a\x1c-\x1f\x7f]")
_CLOSED_NAME: Final = re.compile(
    r"(?i)passw|htpass|(?:^|[._-])pass(?:$|[._-])|shadow|secret|token|ticket|credential|\.(?:jks|p12|pfx|keystore)$"
)
"""A file of such a name may hold a secret and nothing that says so: a line of a password file is only a word."""
_PACKAGES: Final = re.compile(
    r"nginx[\w.-]*|apache2[\w.-]*|httpd?|libssl[\w.]*|openssl|gnutls[\w.-]*|tomcat[\w.-]*|haproxy|caddy|lighttpd|traefik|certbot|"
    r"openjdk[\w.-]*|default-jre[\w.-]*|libapache2-mod-[\w.-]*|libnginx-mod-[\w.-]*|nftables|iptables|ufw|firewalld"
)
_STANZA = re.compile(r"(?:^Package: |^P:)(\S+)$.*?(?=\n\n|\Z)", re.MULTILINE | re.DOTALL)
_KEPT_ROW = re.compile(r"^(?:Package|Status|Version|Architecture|P|V|A): ?.*$", re.MULTILINE)


class Cleaned(Struct, frozen=True):
    """``content``: what may leave, None for nothing but the name; ``how``: what was done, for a person."""

    content: bytes | None
    how: str


def clean_content(path: str, content: bytes) -> Cleaned:
    """The file at ``path`` as it may leave: never with a private key or, as far as its place can be told, a secret."""
    if path in ACCOUNT_FILES:
        return Cleaned(_PASSWORD_FIELD.sub(rb"\1:x:", content), "as it is")
    closed = _described(content)
    if closed is not None:
        return closed
    if _CONTROL.search(content):
        return Cleaned(content, "certificate") if _is_certificate(content) else Cleaned(None, "not text, only its name")
    has_key = _PRIVATE.search(content) is not None
    if not has_key and _CLOSED_NAME.search(path.rpartition("/")[2]) and b"-----BEGIN CERTIFICATE-----" not in content:
        return Cleaned(None, "may be secret as a whole, only its name")
    if has_key:
        content = _PRIVATE.sub(lambda block: _description_of(block[0]).rstrip(b"\n"), content)
    text = content.decode("utf-8", "surrogateescape")
    kept, behind, count = [], 0, 0
    for secret in find_secrets(text):
        value = text[secret.start : secret.end]
        if secret.kind == "key" or value in (REMOVED, REMOVED_WELL_KNOWN):
            continue
        kept += [text[behind : secret.start], REMOVED_WELL_KNOWN if value in WELL_KNOWN else REMOVED]
        behind, count = secret.end, count + 1
    kept.append(text[behind:])
    done = [*(["key described"] if has_key else []), *([f"{count} secret{'s'[: count > 1]} removed"] if count else [])]
    return Cleaned("".join(kept).encode("utf-8", "surrogateescape"), ", ".join(done) or "as it is")


def clean_store(content: bytes, password: str) -> Cleaned | None:
    """A key store as it may leave, in place of its encrypted form; None for what is none, or is not opened by ``password``."""
    from rupex.pki.certificates import CredentialError
    from rupex.pki.keystores import describe_store, looks_like_keystore

    try:
        told = describe_store(content, password) if looks_like_keystore(content) else None
    except CredentialError:
        return None
    return None if told is None else Cleaned(told, "certificates, and its key described")


def clean_packages(content: bytes) -> Cleaned:
    """A package database with the servers and crypto libraries only, and of those only name, state and version."""
    text = content.decode("utf-8", "replace")
    stanzas = [
        "\n".join(_KEPT_ROW.findall(found[0])) for found in _STANZA.finditer(text) if _PACKAGES.fullmatch(found[1])
    ]
    return Cleaned("".join(f"{stanza}\n\n" for stanza in stanzas).encode(), f"{len(stanzas)} packages")


def _description_of(block: bytes) -> bytes:
    from rupex.model import Key
    from rupex.pki.certificates import CredentialError
    from rupex.pki.keys import parse_private_key

    try:
        key = parse_private_key(block)
    except CredentialError:
        key = Key("other", None, encrypted=b"ENCRYPTED" in block, public_sha256=None)
    return render_description(key).encode()


def _described(content: bytes) -> Cleaned | None:
    """A key that is not PEM, described; None when ``content`` is none."""
    from rupex.pki.certificates import CredentialError
    from rupex.pki.keys import parse_private_key

    if not content.startswith(b"\x30") or _is_certificate(content):
        return None
    try:
        return Cleaned(render_description(parse_private_key(content)).encode(), "key described")
    except CredentialError:
        return None


def _is_certificate(content: bytes) -> bool:
    from rupex.pki.certificates import CredentialError, parse_certificates

    try:
        return content.startswith(b"\x30") and bool(list(parse_certificates(content)))
    except CredentialError:
        return False
