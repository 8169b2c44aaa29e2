"""Certificate and key files of a host tree, each read once."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from functools import cached_property
from typing import TYPE_CHECKING

from rupex.host.tree.host_tree import HostTree, TreeError
from rupex.model import bounds

if TYPE_CHECKING:
    from rupex.model import Certificate, Key, TrustPath, Words


class CredentialStore:
    """Reads certificates and keys of ``tree`` when they are asked for, and keeps what they are."""

    def __init__(self, tree: HostTree) -> None:
        self.tree = tree
        self.passwords: dict[str, str] = {}
        """What a configuration opens its key stores with, by path."""
        self._words: Words | None = None

    @contextmanager
    def of_site(self, words: Words) -> Iterator[None]:
        """In the block, a path in the words of a template is that of the site with these ``words``."""
        self._words = words
        try:
            yield
        finally:
            self._words = None

    def own_path(self, path: str) -> str:
        """``path``, or the site's own where it is one of a template (see :meth:`of_site`)."""
        return path if self._words is None else self._words.put_in(path)

    @cached_property
    def _certificates(self) -> dict[str, tuple[Certificate, ...] | str]:
        return {}

    @cached_property
    def _keys(self) -> dict[str, Key | str]:
        return {}

    def key_kinds(self, paths: Iterable[str | None]) -> frozenset[str] | None:
        """The kinds of keys that the leaf certificates of files have; None where one is not known (as of a path that is None),
        or there is none."""
        kinds = set()
        for path in paths:
            found = "no file" if path is None else self.certificates(path)
            if isinstance(found, str) or found[0].key_type == "other":
                return None
            kinds.add(found[0].key_type)
        return frozenset(kinds) or None

    def certificates(self, path: str) -> tuple[Certificate, ...] | str:
        """The certificates of the file in order, leaf first as configured; or why there are none."""
        path = self.own_path(path)
        found = self._certificates.get(path)
        if found is None:
            from rupex.pki.certificates import CredentialError, parse_certificates

            try:
                content = self.tree.read(path, bounds.CREDENTIAL_FILE_BYTES)
                found = self._of_store(path, content) if path in self.passwords else tuple(parse_certificates(content))
            except TreeError as error:
                found = error.message
            except CredentialError as error:
                found = str(error)
            self._certificates[path] = found
        return found

    def _key_of_store(self, path: str, content: bytes) -> Key:
        """The first key of a key store."""
        from rupex.pki.certificates import CredentialError
        from rupex.pki.keys import parse_private_key
        from rupex.pki.keystores import looks_like_keystore, open_keystore

        if not looks_like_keystore(content):
            return parse_private_key(content)
        found = next(
            (entry.key for entry in open_keystore(content, self.passwords[path]).entries or () if entry.key), None
        )
        if found is None:
            raise CredentialError("the key store cannot be opened, or has no key in it")
        return found

    def _of_store(self, path: str, content: bytes) -> tuple[Certificate, ...]:
        """The certificates that belong to the first key of a key store."""
        from rupex.pki.certificates import CredentialError, parse_certificates
        from rupex.pki.keystores import looks_like_keystore, open_keystore

        if not looks_like_keystore(content):
            return tuple(parse_certificates(content))
        for entry in open_keystore(content, self.passwords[path]).entries or ():
            if entry.key is not None and entry.certificates:
                return entry.certificates
        raise CredentialError("the key store cannot be opened, or has no key with a certificate in it")

    def trust(self, path: str) -> TrustPath | None:
        """The way from the leaf of the file to an anchor; None where a certificate on it cannot be read."""
        chain = self.certificates(path)
        if isinstance(chain, str):
            return None
        from rupex.pki.chains import path_by_names

        # Only what says that it keeps the rules of public authorities can be one of theirs (BR 7.1.6.1), and only then are
        # the public list and signatures worth their time.
        if not chain[0].public_policy:
            return path_by_names(chain)
        from rupex.pki.certificates import CredentialError, der_forms
        from rupex.pki.chains import trust_path

        try:
            return trust_path(der_forms(self.tree.read(path, bounds.CREDENTIAL_FILE_BYTES)))
        except (TreeError, CredentialError):
            return None

    def chains(self) -> dict[str, tuple[Certificate, ...]]:
        """The certificates of every file that was read so far."""
        return {path: found for path, found in self._certificates.items() if not isinstance(found, str)}

    def key(self, path: str) -> Key | str:
        """The private key of the file; or why nothing is known of it."""
        found = self._keys.get(path)
        if found is None:
            from rupex.pki.certificates import CredentialError
            from rupex.pki.keys import parse_private_key

            try:
                content = self.tree.read(path, bounds.CREDENTIAL_FILE_BYTES)
                found = self._key_of_store(path, content) if path in self.passwords else parse_private_key(content)
            except TreeError as error:
                found = error.message
            except CredentialError as error:
                found = str(error)
            self._keys[path] = found
        return found
