"""Tomcat: its files, its rules, its defaults by release; also products that embed it, by their ``server.xml`` alone."""

from __future__ import annotations

import re
from typing import Final

from rupex.host import HostTree, TreeError
from rupex.servers.contract import Configured, HostContext

_PATTERNS: Final = (
    "etc/tomcat*/server.xml", "var/lib/tomcat*/conf/server.xml", "opt/tomcat*/conf/server.xml",
    "opt/apache-tomcat*/conf/server.xml", "usr/local/tomcat*/conf/server.xml",
    "usr/share/tomcat*/conf/server.xml", "srv/tomcat*/conf/server.xml",
)  # fmt: skip
_LOOKS_LIKE = re.compile(r"<Server\b[^>]*>.*?<(?:Service|Connector)\b", re.DOTALL)


class _Tomcat:
    name = "tomcat"

    def find(self, tree: HostTree, start: str) -> list[str]:
        if start and tree.is_file(start):
            return [start]
        for name in ("server.xml", "conf/server.xml"):
            if start and tree.is_file(f"{start}/{name}"):
                return [f"{start}/{name}"]
        below = f"{start}/" if start else ""
        found: dict[str, str] = {}
        for pattern in _PATTERNS:
            try:
                paths = tree.glob(pattern)
            except TreeError:
                continue
            for path in paths:
                if path.startswith(below) and tree.is_file(path):
                    found.setdefault(tree.real(path), path)
        return list(found.values()) or (["server.xml"] if not start and tree.is_file("server.xml") else [])

    def looks_like(self, text: str) -> bool:
        return _LOOKS_LIKE.search(text) is not None

    def resolve(self, main_path: str, host_context: HostContext) -> Configured:
        from rupex.servers.tomcat.resolve import TomcatConfiguration

        return TomcatConfiguration(main_path, host_context)


FAMILY: Final = _Tomcat()
