"""Which Tomcat it is, on which Java, and what they do by default."""

from __future__ import annotations

import re
from typing import Final

from msgspec import Struct

from rupex.host import TreeError
from rupex.model import Provenance
from rupex.servers.common.releases import Release, Releases
from rupex.servers.contract import HostContext
from rupex.servers.tomcat.syntax import parse_properties

RELEASES: Final = Releases(
    "tomcat", "Tomcat", ("tomcat11", "tomcat10", "tomcat9", "libtomcat9-java", "tomcat8", "tomcat")
)
default = RELEASES.default
_JAVA_SECURITY: Final = ("etc/java-*-openjdk/security/java.security", "usr/lib/jvm/*/conf/security/java.security",
                         "usr/lib/jvm/*/lib/security/java.security", "usr/lib/jvm/*/jre/lib/security/java.security")  # fmt: skip
_OLD: Final = ("SSLv3", "TLSv1", "TLSv1.1")


class Java(Struct, frozen=True):
    """What the Java runtime refuses. ``refused``: protocol versions and algorithms that its security file switches off (lower
    case), None where nothing is known of it."""

    refused: frozenset[str] | None
    provenance: Provenance | None


def find_release(host_context: HostContext, main_path: str) -> Release:
    """As :meth:`~rupex.servers.common.releases.Releases.find`; the folder of the configuration may tell it, or the package."""
    line = re.search(r"tomcat-?([0-9]{1,4})(?:\.([0-9]{1,4})\.([0-9]{1,4}))?(?![0-9])", main_path)
    by_path = None
    if line is not None and line[2]:
        number = (int(line[1]), int(line[2]), int(line[3]))
        by_path = Release(number, Provenance("explicit", main_path, note="by its folder"))
    return RELEASES.find(host_context, by_path, None if line is None else line[1])


def find_java(host_context: HostContext) -> Java:
    """What the security file of the tree's Java runtime switches off; of several runtimes, what all of them do."""
    refused: frozenset[str] | None = None
    place: Provenance | None = None
    for pattern in _JAVA_SECURITY:
        try:
            paths = host_context.tree.glob(pattern)
        except TreeError:
            continue
        for path in paths:
            try:
                text = host_context.tree.read(path).decode("latin-1")
            except TreeError:
                continue
            disabled = parse_properties(text).get("jdk.tls.disabledAlgorithms", "")
            words = frozenset(word.strip().split(" ")[0].lower() for word in disabled.split(","))
            refused = words if refused is None else refused & words
            line = text.count("\n", 0, text.find("\njdk.tls.disabledAlgorithms") + 1) + 1
            place = place or Provenance("explicit", path, line, 1)
    if refused is None and "java" in host_context.assumed:
        number = re.match(r"(?:1\.)?([0-9]{1,4})", host_context.assumed["java"])
        if (
            number is not None and int(number[1]) >= 16
        ):  # the first release that starts with TLS 1.0 and 1.1 switched off
            return Java(frozenset(word.lower() for word in _OLD), Provenance("default", note="as assumed by the user"))
    return Java(refused, place)


__all__ = ["RELEASES", "Java", "Release", "default", "find_java", "find_release"]
