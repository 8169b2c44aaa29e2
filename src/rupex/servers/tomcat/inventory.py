"""Every attribute and component that Tomcat brings, and what Rupex makes of it: the table ``directives.tsv`` beside this file,
which tests/test_tomcat_inventory.py holds against the classes of Tomcat.

What Rupex does not model is not passed over: where it is in force, what it can change is unknown. An attribute that no class of a
known release has is another matter: Tomcat warns of it and goes on without.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from typing import Final

from rupex.package_files import table_of
from rupex.servers.common.inventory import EFFECTS, Known, Unmodelled, class_of, effects_and_note
from rupex.servers.tomcat.syntax import Element


@cache
def directives() -> dict[tuple[str, str], Known]:
    """The table, by element (or kind of component) and attribute (or class without its package)."""
    found: dict[tuple[str, str], Known] = {}
    for line in table_of(__package__, "directives.tsv").splitlines():
        if line.startswith("#"):
            continue
        place, kind, words, text = line.split("\t")
        effects, note = effects_and_note(kind, text)
        found |= {(place, word): Known(class_of(kind), effects, note) for word in words.split()}
    return found


_OWN_PACKAGE: Final = "org.apache.catalina."
_ANYTHING: Final = Known("unmodelled", EFFECTS, "a class that it does not bring")
_DEFAULTS: Final = {
    "addWebinfClassesResources": "false",
    "disableCompression": "true",
    "enabled": "true",
    "insecureRenegotiation": "false",
    "invalidAuthenticationWhenDeny": "false",
    "mapperContextRootRedirectEnabled": "true",
    "mapperDirectoryRedirectEnabled": "false",
    "override": "false",
    "preemptiveAuthentication": "false",
    "sslProtocol": "tls",
    "useIPVHosts": "false",
    "useInheritedChannel": "false",
    "useRelativeRedirects": "true",
}
"""Values with which an attribute changes nothing (Tomcat's manual, "Configuration Reference")."""


def component(kind: str, class_name: str) -> Known:
    """What is known of a valve or filter; one that is no class of Tomcat's own may change anything."""
    if not class_name.startswith(_OWN_PACKAGE):
        return _ANYTHING
    return directives().get((kind, class_name.rpartition(".")[2]), _ANYTHING)


def unmodelled_attributes(element: Element, place: str = "") -> Iterator[Unmodelled]:
    """The attributes of an element that are not modelled, unless they say what holds without them. ``place``: under what they are
    known, if not under the element's name."""
    for name, value in element.attributes.items():
        found = directives().get((place or element.name, name))
        if found is not None and found.effects and value.strip().lower() != _DEFAULTS.get(name):
            yield Unmodelled(name, found.effects, found.note, element.provenance())


def unmodelled_component(kind: str, class_name: str, element: Element) -> Unmodelled | None:
    """A valve or filter that is not modelled; None for any other."""
    found = component(kind, class_name)
    return Unmodelled(class_name, found.effects, found.note, element.provenance()) if found.effects else None
