"""nginx: its language, its rules, its defaults by release."""

from __future__ import annotations

import re
from typing import Final

from rupex.host import HostTree
from rupex.servers.contract import Configured, HostContext

_MAIN_FILES: Final = (
    "etc/nginx/nginx.conf",
    "usr/local/etc/nginx/nginx.conf",
    "usr/local/nginx/conf/nginx.conf",
    "opt/nginx/conf/nginx.conf",
)
_LOOKS_LIKE = re.compile(
    r"^[ \t]*+(?:http|events|server|stream|upstream)\s*+\{|^[ \t]*+(?:worker_processes|server_name|listen)\s[^\n]*;",
    re.MULTILINE,
)


class _Nginx:
    name = "nginx"

    def find(self, tree: HostTree, start: str) -> list[str]:
        if start and tree.is_file(start):
            return [start]
        if start and tree.is_file(f"{start}/nginx.conf"):
            return [f"{start}/nginx.conf"]
        below = f"{start}/" if start else ""
        return [path for path in _MAIN_FILES if path.startswith(below) and tree.is_file(path)] or (
            ["nginx.conf"] if not start and tree.is_file("nginx.conf") else []
        )

    def looks_like(self, text: str) -> bool:
        return _LOOKS_LIKE.search(text) is not None

    def resolve(self, main_path: str, host_context: HostContext) -> Configured:
        from rupex.servers.nginx.resolve import NginxConfiguration

        return NginxConfiguration(main_path, host_context)


FAMILY: Final = _Nginx()
