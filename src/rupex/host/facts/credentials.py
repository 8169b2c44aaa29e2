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
    from rupex.pki.keystores import Entry, Keystore


class CredentialStore:
    """Reads certificates and keys of ``tree`` when they are asked for, and keeps what they are."""

    def __init__(self, tree: HostTree) -> None:
        self.tree = tree
        self.passwords: dict[str, str] = {}
        """What a configuration opens its key stores with, by path."""
        self.entries: dict[str, str | None] = {}
        """Which entry it takes of them, by path; None where that is more than one."""
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
    def _stores(self) -> dict[tuple[str, str], Keystore]:
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
        """The key of the entry of a key store that is used."""
        from rupex.pki.keys import parse_private_key
        from rupex.pki.keystores import looks_like_keystore

        if not looks_like_keystore(content):
            return parse_private_key(content)
        found = self._entry(path, content).key
        assert found is not None
        return found

    def _of_store(self, path: str, content: bytes) -> tuple[Certificate, ...]:
        """The certificates of the entry of a key store that is used."""
        from rupex.pki.certificates import parse_certificates
        from rupex.pki.keystores import looks_like_keystore

        return (
            self._entry(path, content).certificates
            if looks_like_keystore(content)
            else tuple(parse_certificates(content))
        )

    def _entry(self, path: str, content: bytes) -> Entry:
        """The entry of a key store that is used: the first with a key where none is named. Raises
        :class:`~rupex.pki.certificates.CredentialError`."""
        from rupex.pki.certificates import CredentialError
        from rupex.pki.keystores import key_entry

        wanted = self.entries.get(path, "")
        if wanted is None:
            raise CredentialError("several of its entries are used, and Rupex looks at one entry of a key store only")
        found = key_entry(self._opened(path, content, self.passwords[path]), wanted or None)
        if found is None:
            named = ", or not in the entry that is named" if wanted else ""
            raise CredentialError(f"the key store cannot be opened, or has no key with a certificate in it{named}")
        return found

    def _opened(self, path: str, content: bytes, password: str) -> Keystore:
        """A key store, opened once with each password. Raises :class:`~rupex.pki.certificates.CredentialError`."""
        from rupex.pki.keystores import open_keystore

        if (path, password) not in self._stores:
            self._stores[path, password] = open_keystore(content, password)
        return self._stores[path, password]

    def store(self, path: str, password: str) -> Keystore | None:
        """The key store at ``path`` opened with ``password``, or with what else opens it; None where there is none that can be
        read."""
        from rupex.pki.certificates import CredentialError
        from rupex.pki.keystores import looks_like_keystore

        try:
            content = self.tree.read(path, bounds.CREDENTIAL_FILE_BYTES)
            return self._opened(path, content, password) if looks_like_keystore(content) else None
        except (TreeError, CredentialError):
            return None

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
