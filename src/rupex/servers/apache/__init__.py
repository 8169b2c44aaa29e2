"""Apache httpd: its language, its rules, its defaults by release."""

from __future__ import annotations

import re
from typing import Final

from rupex.host import HostTree
from rupex.servers.contract import Configured, HostContext

_MAIN_FILES: Final = (
    "etc/apache2/apache2.conf",
    "etc/httpd/conf/httpd.conf",
    "etc/apache2/httpd.conf",
    "usr/local/apache2/conf/httpd.conf",
    "usr/local/etc/apache24/httpd.conf",
    "opt/bitnami/apache/conf/httpd.conf",
)
_LOOKS_LIKE = re.compile(
    r"^[ \t]*+(?:<(?:VirtualHost|Directory|IfModule|Location|Files)\b"
    r"|(?:ServerRoot|DocumentRoot|LoadModule|SSLEngine|ServerName)\s)",
    re.MULTILINE | re.IGNORECASE,
)


class _Apache:
    name = "apache"

    def find(self, tree: HostTree, start: str) -> list[str]:
        if start and tree.is_file(start):
            return [start]
        for name in ("apache2.conf", "httpd.conf", "conf/httpd.conf"):
            if start and tree.is_file(f"{start}/{name}"):
                return [f"{start}/{name}"]
        below = f"{start}/" if start else ""
        found = [path for path in _MAIN_FILES if path.startswith(below) and tree.is_file(path)]
        return found[:1] or (["httpd.conf"] if not start and tree.is_file("httpd.conf") else [])

    def looks_like(self, text: str) -> bool:
        return _LOOKS_LIKE.search(text) is not None

    def resolve(self, main_path: str, host_context: HostContext) -> Configured:
        from rupex.servers.apache.resolve import ApacheConfiguration

        return ApacheConfiguration(main_path, host_context)


FAMILY: Final = _Apache()
