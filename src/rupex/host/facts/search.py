"""What lies about on a host outside the configuration: deployment files, the stores of ACME clients, stray keys.

One bounded walk over the places where people and tools leave such things; found by name, read by others.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cache
from typing import Final, Literal

from msgspec import Struct

from rupex.families import all_facts
from rupex.host.tree.host_tree import HostTree, TreeError

FoundKind = Literal["deployment", "acme store", "key"]

FIXED: Final[tuple[tuple[str, FoundKind], ...]] = (
    ("etc/environment", "deployment"),
    ("etc/default/*", "deployment"),
    ("etc/sysconfig/*", "deployment"),
    ("etc/systemd/system/*.service", "deployment"),
    ("etc/systemd/system/*.service.d/*.conf", "deployment"),
    ("etc/kubernetes/manifests/*.yaml", "deployment"),
    ("etc/letsencrypt/*.ini", "deployment"),
    ("root/.secrets/*", "deployment"),
    ("root/.secrets/certbot/*", "deployment"),
    ("etc/letsencrypt/accounts/*/*/*/private_key.json", "acme store"),
    ("root/.acme.sh/*/*.key", "acme store"),
    ("root/.acme.sh/account.conf", "acme store"),
    ("root/.lego/accounts/*/*/keys/*.key", "acme store"),
    ("root/.lego/certificates/*.key", "acme store"),
)
"""Patterns, from the root of the tree, of what is where its program puts it."""

_NAMES: Final[tuple[tuple[re.Pattern[str], FoundKind], ...]] = (
    (re.compile(r"(?:docker-)?compose[\w.-]*\.ya?ml|[\w.-]*\.compose\.ya?ml|docker-stack[\w.-]*\.ya?ml"), "deployment"),
    (re.compile(r"\.env(?:\.[\w-]+)?|[\w.-]+\.env|Dockerfile[\w.-]*|Containerfile|[\w.-]+\.tfvars"), "deployment"),
    (re.compile(r"(?:values|secrets?|vars)[\w.-]*\.ya?ml"), "deployment"),
    (re.compile(r"acme[\w.-]*\.json"), "acme store"),
    (re.compile(r"[\w.@+-]+\.(?:key|pem|p8|pk8)(?:[.~][\w.~-]*)?|id_(?:rsa|ecdsa|ed25519)|privkey[\w.-]*"), "key"),
)
"""Names, of what may be anywhere."""

_SYSTEM: Final = frozenset(
    "bin boot dev etc lib lib32 lib64 libx32 lost+found media mnt proc run sbin sys usr var .git".split()
)
"""Top folders of a system itself (FHS 3.0, 3.2): what people make stands beside them."""
_WALKED: Final = (
    "etc/docker",
    "var/tmp",
    "var/backups",
    "usr/local/etc",
)
_PASSED_OVER: Final = frozenset(("node_modules", ".git", ".cache", "__pycache__", "site-packages", ".venv", "venv"))

DEPTH: Final = 3
"""Folders below a place that is walked: a project's, its service's, and that one's settings."""
FOLDERS: Final = 400
FILES: Final = 1_000
"""A host of containers has dozens of each; a data folder has more, and is none of this."""
_CROWD: Final = 200
"""A folder with more entries than this holds data; its names are looked at, and no folder in it."""


class Found(Struct, frozen=True):
    path: str
    kind: FoundKind


def search(tree: HostTree) -> tuple[Found, ...]:
    """What was found, each path once, links left out."""
    found: dict[str, Found] = {}
    stores: list[tuple[str, FoundKind]] = [(store, "acme store") for facts in all_facts() for store in facts.stores]
    for pattern, kind in (*FIXED, *stores):
        try:
            paths = tree.glob(pattern)
        except TreeError:
            continue  # a folder that the auditor may not list holds nothing that can be judged
        for path in paths:
            if len(found) < FILES and tree.is_file(path):
                found.setdefault(path, Found(path, kind))
    for path, kind in _walk(tree):
        if len(found) >= FILES:
            break
        found.setdefault(path, Found(path, kind))
    return tuple(found.values())


def _walk(tree: HostTree) -> Iterator[tuple[str, FoundKind]]:
    tops = [name for name in _names(tree, "") if name not in _SYSTEM]
    own = [folder for facts in all_facts() for folder in facts.folders]
    waiting = [(path, 0) for path in (*_WALKED, *own, *tops) if tree.link_target(path) is None and tree.is_folder(path)]
    for name in tops:
        yield from _matching(tree, name, name)
    visited = 0
    while waiting and visited < FOLDERS:
        folder, depth = waiting.pop(0)
        visited += 1
        names = _names(tree, folder)
        for name in names:
            path = f"{folder}/{name}"
            yield from _matching(tree, path, name)
            may_be_folder = "." not in name[1:] and name not in _PASSED_OVER and len(names) <= _CROWD
            if may_be_folder and depth < DEPTH and tree.link_target(path) is None and tree.is_folder(path):
                waiting.append((path, depth + 1))


def _matching(tree: HostTree, path: str, name: str) -> Iterator[tuple[str, FoundKind]]:
    for pattern, kind in _names_of_all():
        if pattern.fullmatch(name):
            if tree.link_target(path) is None and tree.is_file(path):
                yield path, kind
            return


@cache
def _names_of_all() -> tuple[tuple[re.Pattern[str], FoundKind], ...]:
    """The names that are looked for, those of families among them."""
    begins = "|".join(begin for facts in all_facts() for begin in facts.deployment_files)
    return (*_NAMES, (re.compile(rf"(?:{begins})[\w.-]*\.ya?ml"), "deployment"))


def _names(tree: HostTree, folder: str) -> list[str]:
    try:
        return tree.names_in(folder)
    except TreeError:
        return []
