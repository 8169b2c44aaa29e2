"""Files under a document root, where the host tree has that root: which URL path gets which file.

A snapshot of a host seldom has its content. Where it has none, nobody can say whether a file is there, and the answer is
:data:`None`: content decides.
"""

from __future__ import annotations

import re
from typing import Final, Literal

from rupex.host import HostTree, TreeError
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.variables import Exchange

Kind = Literal["file", "folder", "missing"]

_NAMES: Final = frozenset(("root", "alias"))


OWN_PAGES: Final = "text/html"
"""The content type of nginx's own error pages, redirects and listings (ngx_http_special_response_handler)."""
_WITHOUT_PAGE: Final = frozenset((*range(417, 421), *range(422, 429), *range(430, 494), 499, 506, *range(508, 1000)))
"""The errors that nginx has no page for (ngx_http_error_pages): they have no body and no type."""
_BUILT_IN_TYPES: Final = {"html": "text/html", "gif": "image/gif", "jpg": "image/jpeg"}
_EXTENSION = re.compile(r"(?<!/)\.([^./]+)$")


def own_page(status: int) -> str | None:
    """The content type of the server's own answer with an error's or redirect's status, empty for none; None for 407, for which
    1.31.3 has a page and 1.22.1 has none."""
    if status == 407:
        return None
    return "" if status in _WITHOUT_PAGE else OWN_PAGES


def content_type(uri: str, chain: tuple[Block, ...]) -> str:
    """The content type of a file, or of a text of the configuration's own, by the ending of its path
    (ngx_http_set_content_type)."""
    found = _EXTENSION.search(uri, 1)
    ending = found[1].lower() if found else ""
    table = next((block for block in reversed(chain) if "types" in block.by_name), None)
    if table is None:
        known = _BUILT_IN_TYPES.get(ending)
    else:
        entries = (entry for types in table.blocks("types") for entry in types.children)
        known = (
            next((entry.name for entry in entries if ending in map(str.lower, entry.args)), None) if ending else None
        )
    default = next((one for block in reversed(chain) if (one := block.last("default_type")) is not None), None)
    return known or (default.args[0] if default is not None and default.args else "text/plain")


class Content:
    """What lies under document roots. ``prefix``: where relative roots start (nginx's own ``-p``)."""

    def __init__(self, tree: HostTree, prefix: str) -> None:
        self.tree, self.prefix = tree, prefix
        self._roots: dict[str, bool] = {}

    def root_of(self, chain: tuple[Block, ...], exchange: Exchange) -> str:
        """The document root in force, without the slash at its end. Raises ``UndeterminedError``."""
        for block in reversed(chain):
            if _NAMES.isdisjoint(block.by_name):
                continue
            found = block.last("root") or block.last("alias")
            if found is not None and found.args:
                word = found.args[0]
                if found.name == "alias" and "$" in word:  # a file by a capture: what stands before is the folder
                    word = word[: word.index("$")].rpartition("/")[0]
                root = exchange.fill(word).rstrip("/")
                return root if root.startswith("/") else f"/{self.prefix}/{root}"
        return f"/{self.prefix}/html"

    @staticmethod
    def is_alias(chain: tuple[Block, ...]) -> bool:
        """Whether an alias is in force."""
        for block in reversed(chain):
            if block.last("alias") is not None:
                return True
            if block.last("root") is not None:
                return False
        return False

    def path_of(self, uri: str, chain: tuple[Block, ...], exchange: Exchange) -> str:
        """The file for ``uri`` (ngx_http_map_uri_to_path). Raises ``UndeterminedError``."""
        for block in reversed(chain):
            if _NAMES.isdisjoint(block.by_name):
                continue
            alias = block.last("alias")
            if alias is not None and alias.args:
                target = exchange.fill(alias.args[0])
                pattern = block.args[-1] if block.args else ""
                is_pattern = len(block.args) == 2 and block.args[0] in ("~", "~*")
                return target if is_pattern else target + uri[len(pattern) :]
            if block.last("root") is not None:
                break
        return self.root_of(chain, exchange) + uri

    def has_root(self, root: str) -> bool:
        """Whether the tree has this document root."""
        found = self._roots.get(root)
        if found is None:
            path = self.tree.named(root)
            found = self._roots[root] = any(self.tree.folders_among((path,))) and self.tree.is_listed(path)
        return found

    def kind(self, path: str, root: str) -> Kind | None:
        """What lies at ``path``; None where the tree has no such root."""
        if not self.has_root(root):
            return None
        try:
            entry = self.tree.entry(self.tree.real(path))
        except TreeError:
            return None
        if entry is None:
            return "missing"
        return "folder" if entry.is_folder else "file"
