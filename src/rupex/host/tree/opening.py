"""Finding the host tree that a path belongs to: a folder, something inside one, or an archive."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Final

from msgspec import Struct

from rupex.host.tree.disk import DiskTree
from rupex.host.tree.host_tree import MANIFEST_NAME, HostTree, TreeError
from rupex.host.tree.mtree import ManifestEntry, parse_mtree
from rupex.model import RupexError, bounds
from rupex.user_files import read_bounded

_ARCHIVES: Final = (".tar", ".tar.gz", ".tgz", ".tar.xz", ".txz", ".tar.bz2", ".tbz2", ".tar.zst", ".tzst")


def is_archive(path: Path) -> bool:
    """Whether a file is an archive by its name."""
    return path.name.lower().endswith(_ARCHIVES)


def archive_name(path: Path) -> str:
    """The name of an archive without what tells that it is one."""
    name = path.name
    suffix = next((s for s in sorted(_ARCHIVES, key=len, reverse=True) if name.lower().endswith(s)), "")
    return name[: len(name) - len(suffix)] or name


class Located(Struct, frozen=True):
    """A host tree and the ``start`` inside it that the user pointed at (``""``: the whole tree)."""

    tree: HostTree
    start: str


def open_tree(path: Path, *, root: Path | None = None, manifest: Path | None = None) -> Located:
    """Find the host tree that ``path`` (its root, or a folder or file in it) belongs to.

    A tar archive is a tree of its own, whose root is its top, or the one folder in it that holds ``etc/``.

    The root is ``root`` if given; else ``path`` when it holds ``etc/``; else the folder above the last ``etc`` on the
    way to ``path``; else ``path`` itself, or the folder of that file. ``manifest``: an mtree file; one called
    ``manifest.mtree`` at the root is found by itself. Raises :class:`~rupex.model.RupexError` for what is not there.
    """
    given = Path(os.path.abspath(path))
    if not given.exists():
        raise RupexError(f"{path}: no such file or folder")
    if root is None and is_archive(given) and given.is_file():
        from rupex.host.tree.archive import ArchiveTree

        listed = _read_manifest(manifest) if manifest is not None else None
        return Located(ArchiveTree(given, listed), "")
    top = Path(os.path.abspath(root)) if root is not None else _root_of(given)
    if not top.is_dir():
        raise RupexError(f"{top}: the root of a host tree must be a folder")
    if not given.is_relative_to(top):
        raise RupexError(f"{path}: not inside the root {top}")
    relative = given.relative_to(top).as_posix()
    tree = DiskTree(top, _manifest_in(top) if manifest is None else _read_manifest(manifest))
    return Located(tree, "" if relative == "." else relative)


def _manifest_in(top: Path) -> dict[str, ManifestEntry]:
    """The manifest at the root of a tree: read like any file of the tree, so that it may be no link that leads out of it."""
    tree = DiskTree(top)
    if not tree.is_file(MANIFEST_NAME):
        return {}
    try:
        content = tree.read(MANIFEST_NAME, bounds.CONFIG_TOTAL_BYTES)
    except TreeError as error:
        raise RupexError(f"{top / MANIFEST_NAME}: cannot be read ({error.message})") from None
    return parse_mtree(content.decode("utf-8", "surrogateescape"))


def _read_manifest(path: Path) -> dict[str, ManifestEntry]:
    return parse_mtree(read_bounded(path, "manifest", bounds.CONFIG_TOTAL_BYTES).decode("utf-8", "surrogateescape"))


def _root_of(given: Path) -> Path:
    folder = given if given.is_dir() else given.parent
    if (folder / "etc").is_dir():
        return folder
    for above in (folder, *folder.parents):
        if above.name == "etc":
            return above.parent
    return folder
