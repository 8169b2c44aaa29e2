"""The files of a host that are judged: its configuration and keys, and what lies about: deployment files, ACME stores, copies."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from msgspec import structs

from rupex.host import CredentialStore, HostTree, TreeError
from rupex.host.facts.search import Found, search
from rupex.masking.secrets import find_secrets
from rupex.model import FileFacts, KeyCopy, KeyFile, SecretPlace, StoreUse, bounds
from rupex.servers.contract import Configured, Share


def judged_files(
    store: CredentialStore, configurations: Sequence[Configured], keys: Sequence[KeyFile], share: Share
) -> Iterator[FileFacts]:
    """A share of the configuration files, with the ``keys`` of the share; the first share has what else there is."""
    tree = store.tree
    for configuration in configurations:
        first, end = share.bounds(len(configuration.files))
        for path, named_by in list(configuration.files.items())[first:end]:
            if tree.is_file(path):
                text = configuration.texts.get(path)
                facts = tree.file_facts(path, "configuration", named_by, (configuration.family,))
                yield facts if text is None else structs.replace(facts, secrets=_plain_secrets(text))
        if share.is_first:
            for use in configuration.file_uses:
                facts = tree.file_facts(use.path, use.kind, use.named_by, (configuration.family,))
                yield facts if use.store is None else _with_store(tree, facts, use.store)
            roots = sorted({root for service in configuration.services for root in service.document_roots})
            for root in tree.folders_among(roots):
                yield tree.file_facts(root, "document root", (), (configuration.family,))
    if not configurations:
        return
    found = search(tree)
    if share.is_first:
        configuration_files = {path for configuration in configurations for path in configuration.files}
        yield from _lying_about(tree, (one for one in found if one.path not in configuration_files))
    services = tuple(configuration.family for configuration in configurations)
    copies = _keys_about(store, found)
    for key in keys:
        facts = tree.file_facts(key.path, "key", key.named_by, services, key.key)
        yield structs.replace(facts, copies=_copies_of(key, facts, copies, tree)) if copies else facts


def _with_store(tree: HostTree, facts: FileFacts, store: StoreUse) -> FileFacts:
    """A key store; where its password is written out, with those who can read that."""
    said_in = store.provenance.file
    if store.in_clear and said_in is not None:
        facts = structs.replace(facts, readers=tree.file_facts(said_in, "configuration").readers)
    return structs.replace(facts, store=store)


def _lying_about(tree: HostTree, found: Iterable[Found]) -> Iterator[FileFacts]:
    """Deployment files, with what is secret in them, and ACME stores."""
    for one in found:
        if one.kind == "acme store":
            yield tree.file_facts(one.path, "acme store")
        elif one.kind == "deployment":
            facts = tree.file_facts(one.path, "deployment")
            try:
                text = tree.read(one.path, bounds.DEPLOYMENT_FILE_BYTES).decode("utf-8", "replace")
            except TreeError:
                yield facts
            else:
                yield structs.replace(facts, secrets=_plain_secrets(text))


def _keys_about(store: CredentialStore, found: Iterable[Found]) -> dict[str, list[KeyCopy]]:
    """The private keys among ``found``, by the digest of their public half."""
    keys: dict[str, list[KeyCopy]] = {}
    for one in found:
        if one.kind == "key":
            key = store.key(one.path)
            if not isinstance(key, str) and key.public_sha256 is not None:
                readers = store.tree.file_facts(one.path, "key").readers
                keys.setdefault(key.public_sha256, []).append(KeyCopy(one.path, readers))
    return keys


def _plain_secrets(text: str) -> tuple[SecretPlace, ...]:
    return tuple(
        SecretPlace(secret.line, secret.name)
        for secret in find_secrets(text)
        if secret.kind != "hash" and not secret.commented
    )


def _copies_of(
    key: KeyFile, facts: FileFacts, copies: Mapping[str, Sequence[KeyCopy]], tree: HostTree
) -> tuple[KeyCopy, ...]:
    if key.key is None or key.key.public_sha256 is None:
        return ()
    try:
        itself = tree.real(key.path)
    except TreeError:
        return ()
    named: Iterable[KeyCopy] = copies.get(key.key.public_sha256, ())
    return tuple(copy for copy in named if copy.path != itself and copy.path not in facts.backups)
