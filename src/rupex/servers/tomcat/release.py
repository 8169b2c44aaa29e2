"""Which Tomcat it is, on which Java, and what they do by default."""

from __future__ import annotations

import re
from typing import Final

from msgspec import Struct

from rupex.host import TreeError
from rupex.host.facts.packages import installed_packages
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
_JAVA_PACKAGE = re.compile(r"(?:openjdk|temurin|zulu)-?([0-9]{1,3})\b")
_FIRST_WITHOUT_OLD: Final = 16
"""The first Java release that starts with TLS 1.0 and 1.1 switched off."""
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
    if refused is None:
        return _by_release(host_context)
    return Java(refused, place)


def _by_release(host_context: HostContext) -> Java:
    """What a Java runtime switches off by itself, by its release: as the user says, or by the package of it."""
    number: int | None = None
    place = Provenance("default", note="as assumed by the user")
    if "java" in host_context.assumed:
        found = re.match(r"(?:1\.)?([0-9]{1,4})", host_context.assumed["java"])
        number = None if found is None else int(found[1])
    else:
        packages = [name for name in installed_packages(host_context.tree) if _JAVA_PACKAGE.match(name)]
        numbers = [int(found[1]) for name in packages if (found := _JAVA_PACKAGE.match(name)) is not None]
        number = min(numbers, default=None)  # of several, the one that switches off least
        place = Provenance("default", note=f"by the package {packages[0]}" if packages else None)
    if number is None or number < _FIRST_WITHOUT_OLD:
        return Java(None, None)
    return Java(frozenset(word.lower() for word in _OLD), place)


__all__ = ["RELEASES", "Java", "Release", "default", "find_java", "find_release"]
