"""Files of certificates, keys and key stores, described: what ``rupex credential`` tells."""

from __future__ import annotations

import base64
import binascii
import json
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any, Final, Literal

from msgspec import structs

from rupex.documents.inspection import (
    AccountItem,
    CertificateItem,
    CertifiedKey,
    ChainDocument,
    CredentialDocument,
    CredentialItem,
    KeyItem,
    KeystoreItem,
    PairDocument,
)
from rupex.documents.run import ProblemDocument
from rupex.host import HostTree, open_tree
from rupex.host.tree.host_tree import TreeError
from rupex.host.tree.opening import Located, is_archive
from rupex.model import Certificate, FileFacts, Key, RupexError, bounds, lifetime_days
from rupex.pki.certificates import CredentialError, parse_certificates
from rupex.pki.keys import parse_private_key, rsa_is_whole
from rupex.pki.keystores import looks_like_keystore, open_keystore

_LARGEST_CHECKED_BITS: Final = 8192
"""RSA keys up to this size are checked whole; a larger one would take seconds."""

_MOST_CHECKED: Final = 20
"""RSA keys of one run that are checked whole: each takes from a tenth of a second up to seconds."""

_MOST_PAIRS: Final = 100
"""Pairs of a certificate and a key up to which those are told too that do not match."""


def inspect_credentials(paths: Sequence[Path], now: datetime, password: str | None = None) -> CredentialDocument:
    """Describe the files at ``paths``, and which keys belong to which certificates. What cannot be read is a problem."""
    found = _Found(now, password)
    for path in paths:
        try:
            found.read(path)
        except (CredentialError, RupexError) as error:
            found.problems.append(ProblemDocument("unreadable", str(path), None, str(error).removeprefix(f"{path}: ")))
        except TreeError as error:
            found.problems.append(ProblemDocument(error.kind, str(path), None, error.message))
    return CredentialDocument(
        items=tuple(found.items),
        pairs=tuple(_pairs(found.items)),
        chains=tuple(found.chains),
        problems=tuple(found.problems),
    )


class _Found:
    def __init__(self, now: datetime, password: str | None) -> None:
        self.now, self.password = now, password
        self.items: list[CredentialItem] = []
        self.chains: list[ChainDocument] = []
        self.problems: list[ProblemDocument] = []
        self.checked = 0
        self.folders: dict[Path, tuple[HostTree, str]] = {}

    def read(self, path: Path) -> None:
        """Everything in one file. Raises :class:`CredentialError`, :class:`TreeError` or :class:`RupexError`."""
        located = self._located(path)
        content = located.tree.read(located.start, bounds.CREDENTIAL_FILE_BYTES)
        where = _Where(str(path), located)
        if looks_like_keystore(content):
            self._keystore(where, content)
            return
        if content.lstrip()[:1] == b"{":
            self._account(where, content)
            return
        before = len(self.items)
        reasons = []
        for read in (self._certificates, self._keys):
            try:
                read(where, content)
            except CredentialError as error:
                reasons.append(str(error))
        if len(self.items) == before:
            telling = [reason for reason in reasons if not reason.startswith("no ")]
            raise CredentialError("; ".join(telling) or "neither a certificate nor a key is in it")

    def _located(self, path: Path) -> Located:
        """The tree of ``path``, shared with the other files of its folder: it remembers what it has listed."""
        folder = path.absolute().parent
        known = self.folders.get(folder)
        if known is None or is_archive(path) or not path.exists():
            located = open_tree(path)
            if not is_archive(path):
                self.folders[folder] = (located.tree, located.start.removesuffix(path.name))
            return located
        tree, start = known
        return Located(tree, start + path.name)

    def _certificates(self, where: _Where, content: bytes) -> None:
        found = _bundle(content)
        self._add_certificates(where, found)
        self._add_chain(where, found)

    def _add_certificates(self, where: _Where, certificates: Iterable[Certificate], entry: str | None = None) -> None:
        for position, one in enumerate(certificates, 1):
            self.items.append(
                CertificateItem(
                    **where.rights, position=position, subject=one.subject, issuer=one.issuer, names=one.names,
                    not_before=_written(one.not_before), not_after=_written(one.not_after),
                    days_left=(one.not_after - self.now) // timedelta(days=1),
                    lifetime_days=lifetime_days(one.not_before, one.not_after),
                    key=CertifiedKey(one.key_type, one.key_bits), digest=one.digest,
                    self_signed=one.self_signed, is_ca=one.is_ca, usable=one.server_auth and not one.is_ca,
                    serial=one.serial, sha256=one.sha256, public_sha256=one.public_sha256, entry=entry,
                )
            )  # fmt: skip

    def _add_chain(self, where: _Where, chain: Sequence[Certificate]) -> None:
        if not chain:
            return
        here, position, ordered = chain[0], {0}, True
        while here.subject != here.issuer:
            above = next((i for i, one in enumerate(chain) if i not in position and one.subject == here.issuer), None)
            if above is None:
                break
            ordered = ordered and above == max(position) + 1
            position.add(above)
            here = chain[above]
        missing = None if here.subject == here.issuer else here.issuer
        self.chains.append(ChainDocument(where.file, ordered and len(position) == len(chain), missing))

    def _keys(self, where: _Where, content: bytes) -> None:
        key = parse_private_key(content, self.password)
        if key.type != "RSA" or key.flaw != "":
            self._add_key(where, key)
            return
        is_checked = (key.bits or 0) <= _LARGEST_CHECKED_BITS and self.checked < _MOST_CHECKED
        self.checked += is_checked
        if is_checked and not rsa_is_whole(content, self.password if key.encrypted else None):
            key = structs.replace(key, flaw="its numbers do not fit together, or its primes are none")
        self._add_key(where, key, primes="tried" if is_checked else "not tried")

    def _add_key(
        self, where: _Where, key: Key, entry: str | None = None, primes: Literal["tried", "not tried"] | None = None
    ) -> None:
        readers = where.facts.readers.value
        sound = None if key.flaw is None else not key.flaw
        self.items.append(
            KeyItem(
                **where.rights, type=key.type, bits=key.bits, encrypted=key.encrypted, sound=sound, flaw=key.flaw or None,
                public_sha256=key.public_sha256, readers=None if readers is None else readers.accounts,
                everyone=None if readers is None else readers.everyone, entry=entry, primes=primes,
            )
        )  # fmt: skip

    def _keystore(self, where: _Where, content: bytes) -> None:
        store = open_keystore(content, self.password)
        count = None if store.entries is None else len(store.entries)
        self.items.append(KeystoreItem(**where.rights, format=store.format, entries=count, password=store.password))
        for entry in store.entries or ():
            self._add_certificates(where, entry.certificates, entry.name)
            self._add_chain(where, entry.certificates)
            if entry.key is not None:
                self._add_key(where, entry.key, entry.name)

    def _account(self, where: _Where, content: bytes) -> None:
        """The store of a proxy that gets its certificates by itself: a table of resolvers, each with certificates."""
        try:
            account = json.loads(content)
        except (ValueError, RecursionError):
            raise CredentialError("JSON that cannot be read") from None
        stored = [c for part in _tables(account) for c in part.get("Certificates") or () if isinstance(c, dict)]
        if not stored and not any("Account" in part for part in _tables(account)):
            raise CredentialError("JSON, and no store of an automatic certificate client")
        self.items.append(AccountItem(**where.rights, certificates=len(stored)))
        for one in stored[: bounds.CERTIFICATES_IN_FILE]:
            try:
                pem = base64.b64decode(str(one.get("certificate", "")), validate=True)
                self._add_certificates(where, parse_certificates(pem))
            except (binascii.Error, ValueError, CredentialError):
                self.problems.append(
                    ProblemDocument("unreadable", where.file, None, "a certificate in the store cannot be read")
                )


def _tables(value: Any) -> list[dict[str, Any]]:
    """The parts of a store that may hold an account and certificates: itself, and what it names."""
    if not isinstance(value, dict):
        return []
    return [value, *(part for part in value.values() if isinstance(part, dict))]


class _Where:
    """A file, with what its tree knows of its owner and mode."""

    def __init__(self, file: str, located: Located) -> None:
        self.file = file
        self.facts: FileFacts = located.tree.file_facts(located.start, "key")
        mode = self.facts.mode.value
        self.rights: dict[str, Any] = {
            "file": file,
            "mode": None if mode is None else f"{mode:04o}",
            "owner": self.facts.owner.value,
            "group": self.facts.group.value,
        }


def _bundle(content: bytes) -> list[Certificate]:
    """Certificates in PEM or DER, or in a PKCS #7 bundle (RFC 2315). Raises :class:`CredentialError`."""
    if b"-----BEGIN PKCS7-----" in content or b"-----BEGIN CMS-----" in content:
        return _pkcs7(content, pem=True)
    try:
        return parse_certificates(content)
    except CredentialError:
        if content[:1] == b"\x30" and bytes.fromhex("06092a864886f70d010702") in content[:32]:
            return _pkcs7(content, pem=False)
        raise


def _pkcs7(content: bytes, *, pem: bool) -> list[Certificate]:
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.serialization import Encoding, pkcs7

    from rupex.pki.certificates import parse_der

    try:
        load = pkcs7.load_pem_pkcs7_certificates if pem else pkcs7.load_der_pkcs7_certificates
        return [parse_der(one.public_bytes(Encoding.DER)) for one in load(content)]
    except (ValueError, UnsupportedAlgorithm):
        raise CredentialError("the PKCS #7 bundle in it cannot be read") from None


def _written(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


def _pairs(items: Sequence[CredentialItem]) -> Iterable[PairDocument]:
    """Each leaf with each key: all of them where they are few, else those that match."""
    leaves = [item for item in items if isinstance(item, CertificateItem) and item.position == 1]
    keys = [item for item in items if isinstance(item, KeyItem) and item.public_sha256 is not None]
    by_public: dict[str, list[KeyItem]] = {}
    for key in keys:
        by_public.setdefault(key.public_sha256 or "", []).append(key)
    few = len(leaves) * len(keys) <= _MOST_PAIRS
    for leaf in leaves:
        matching = by_public.get(leaf.public_sha256, [])
        for key in keys if few else matching:
            yield PairDocument(leaf.file, key.file, key in matching)
