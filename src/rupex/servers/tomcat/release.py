"""Which Tomcat it is, on which Java, and what they do by default."""

from __future__ import annotations

import re
from functools import cache
from importlib import resources
from typing import Any, Final

import msgspec
from msgspec import Struct

from rupex.host import TreeError
from rupex.host.packages import taken_version, upstream_version
from rupex.model import Provenance, RupexError, Setting, default_of
from rupex.servers.family import Surroundings
from rupex.servers.tomcat.syntax import parse_properties

_PACKAGES: Final = ("tomcat11", "tomcat10", "tomcat9", "libtomcat9-java", "tomcat8", "tomcat")
_JAVA_SECURITY: Final = ("etc/java-*-openjdk/security/java.security", "usr/lib/jvm/*/conf/security/java.security",
                         "usr/lib/jvm/*/lib/security/java.security", "usr/lib/jvm/*/jre/lib/security/java.security")  # fmt: skip
_OLD: Final = ("SSLv3", "TLSv1", "TLSv1.1")


class Release(Struct, frozen=True):
    """One release of Tomcat."""

    number: tuple[int, ...]
    provenance: Provenance
    is_assumed: bool = False

    def __str__(self) -> str:
        return ".".join(map(str, self.number))

    def setting(self) -> Setting[str]:
        return Setting(str(self), self.provenance)


class Java(Struct, frozen=True):
    """What the Java runtime refuses. ``refused``: protocol versions and algorithms that its security file switches off (lower
    case), None where nothing is known of it."""

    refused: frozenset[str] | None
    provenance: Provenance | None


@cache
def _table() -> dict[str, Any]:
    text = resources.files("rupex.servers.tomcat").joinpath("defaults.toml").read_bytes()
    table: dict[str, Any] = msgspec.toml.decode(text)
    return table


def parse_release(text: str) -> tuple[int, ...]:
    """``9.0`` or ``10.1.34`` as numbers. Raises :class:`~rupex.model.RupexError`."""
    if not re.fullmatch(r"\d{1,4}(\.\d{1,4}){1,2}", text):
        raise RupexError(f"{text!r} is no Tomcat version; one looks like 10.1.34")
    numbers = tuple(int(part) for part in text.split("."))
    return numbers if len(numbers) == 3 else (*numbers, 0)


def find_release(around: Surroundings, main_path: str) -> Release:
    """The release by what the user says, else by the package that the path or the database tells, else the newest known."""
    said = around.assumed.get("tomcat")
    if said is not None:
        return Release(parse_release(said), Provenance("default", note="as assumed by the user"))
    told = taken_version(around.tree, "tomcat")
    line = re.search(r"tomcat-?(\d+)(?:\.(\d+)\.(\d+))?", main_path)
    if line is not None and line[2]:
        return Release(
            (int(line[1]), int(line[2]), int(line[3])), Provenance("explicit", main_path, note="by its folder")
        )
    packages = sorted(_PACKAGES, key=lambda name: line is None or line[1] not in name)
    for found in (told, *(upstream_version(around.tree, package) for package in packages)):
        if found is not None and re.match(r"\d+\.\d+\.\d+", found.version):
            return Release(parse_release(re.match(r"\d+\.\d+\.\d+", found.version)[0]), found.provenance)  # type: ignore[index]
    newest = parse_release(_table()["newest"])
    note = f"no version found in the tree; {_table()['newest']} assumed, give --assume tomcat=VERSION"
    return Release(newest, Provenance("default", note=note), is_assumed=True)


def default(name: str, release: Release) -> Setting[Any]:
    """What ``release`` does where nothing is said."""
    value = None
    for row in _table()[name]:
        if parse_release(row["since"]) <= release.number:
            value = row["value"]
    return Setting(value, default_of(f"Tomcat {release}", "version assumed" if release.is_assumed else ""))


def find_java(around: Surroundings) -> Java:
    """What the security file of the tree's Java runtime switches off; of several runtimes, what all of them do."""
    refused: frozenset[str] | None = None
    place: Provenance | None = None
    for pattern in _JAVA_SECURITY:
        try:
            paths = around.tree.glob(pattern)
        except TreeError:
            continue
        for path in paths:
            try:
                text = around.tree.read(path).decode("latin-1")
            except TreeError:
                continue
            said = parse_properties(text).get("jdk.tls.disabledAlgorithms", "")
            words = frozenset(word.strip().split(" ")[0].lower() for word in said.split(","))
            refused = words if refused is None else refused & words
            line = text.count("\n", 0, text.find("\njdk.tls.disabledAlgorithms") + 1) + 1
            place = place or Provenance("explicit", path, line, 1)
    if refused is None and "java" in around.assumed:
        number = re.match(r"(?:1\.)?(\d+)", around.assumed["java"])
        if (
            number is not None and int(number[1]) >= 16
        ):  # the first release that starts with TLS 1.0 and 1.1 switched off
            return Java(frozenset(word.lower() for word in _OLD), Provenance("default", note="as assumed by the user"))
    return Java(refused, place)
