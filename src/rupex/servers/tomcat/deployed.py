"""What is deployed on a Tomcat: the contexts of a host, from its own elements, descriptors and application folders."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Final

from msgspec import Struct

from rupex.host import HostTree, TreeError
from rupex.http.defaults import default_page
from rupex.masking.secrets import is_factory_word
from rupex.model import Problem, Provenance, Sample, bounds
from rupex.model.budget import PER_MEMBER, allow_for, spend
from rupex.servers.tomcat.syntax import Element, XmlError, parse_xml
from rupex.servers.tomcat.webapp import WebApp

_SAMPLES: Final = {
    "/docs": "application",
    "/examples": "application",
    "/manager": "application",
    "/host-manager": "application",
}
_VERSION = re.compile(r"##.*$")


class Context(Struct, frozen=True):
    """One application: its URL ``path`` (empty for the root), the ``folder`` of its files in the tree (None for none at hand),
    its descriptors, and the elements in which valves and settings stand."""

    path: str
    folder: str | None
    app: WebApp
    elements: tuple[Element, ...]
    provenance: Provenance

    @property
    def role(self) -> str | None:
        return "admin" if self.path in ("/manager", "/host-manager") else None


class Reader:
    """Reads files of one Tomcat, each once; what cannot be read becomes a problem."""

    def __init__(self, tree: HostTree, base: str, properties: Mapping[str, str]) -> None:
        self.tree, self.base, self.properties = tree, base, properties
        self.problems: list[Problem] = []
        self.files: dict[str, list[Provenance]] = {}
        self.texts: dict[str, str] = {}
        self._read: dict[str, Element | None] = {}

    def path(self, name: str) -> str:
        return self.tree.named(name if name.startswith("/") else f"{self.base}/{name}")

    def xml(self, path: str, named_by: Provenance | None = None, *, must: bool = False) -> Element | None:
        if path in self._read:
            return self._read[path]
        found: Element | None = None
        if must or self.tree.is_file(path):
            try:
                content = self.tree.read(path, bounds.CONFIG_FILE_BYTES)
                self.files.setdefault(path, []).extend([named_by] if named_by is not None else [])
                self.texts[path] = content.decode("utf-8", "replace")
                allow_for(len(content))
                found = parse_xml(path, content, self.properties)
            except TreeError as error:
                self.problems.append(Problem(error.kind, path, None, error.message, True))
            except XmlError as error:
                self.problems.append(Problem("syntax", path, error.line, error.message, True))
        self._read[path] = found
        return found

    def text(self, path: str) -> str:
        """A file that is no XML; empty where there is none."""
        if path not in self.texts and self.tree.is_file(path):
            try:
                content = self.tree.read(path, bounds.CONFIG_FILE_BYTES)
            except TreeError as error:
                self.problems.append(Problem(error.kind, path, None, error.message, True))
                content = b""
            self.files.setdefault(path, [])
            self.texts[path] = content.decode("utf-8", "replace")
        return self.texts.get(path, "")


def contexts(reader: Reader, engine: Element, host: Element, server_web: Element | None) -> list[Context]:
    """The applications of a host, the root's last."""
    tree = reader.tree
    app_base = reader.path(host.get("appBase", "webapps"))
    found: dict[tuple[str, str], Context] = {}

    def add(
        path: str,
        folder: str | None,
        elements: tuple[Element, ...],
        place: Provenance,
        *,
        version: str = "",
        reads_own: bool = True,
    ) -> None:
        if (path, version) in found:
            return
        spend(PER_MEMBER)
        own = reader.xml(f"{folder}/WEB-INF/web.xml") if folder else None
        inner = reader.xml(f"{folder}/META-INF/context.xml") if folder and reads_own else None
        descriptors = tuple(one for one in (server_web, own) if one is not None)
        found[path, version] = Context(
            path, folder, WebApp(descriptors), (*elements, *((inner,) if inner is not None else ())), place
        )

    for element in host.all("Context"):
        path = element.get("path", "").rstrip("/")
        add(path, _folder(reader, app_base, element.get("docBase")), (element,), element.provenance())
    descriptors = reader.path(f"conf/{engine.get('name', 'Catalina')}/{host.get('name', 'localhost')}")
    for name in _names(tree, descriptors):
        if name.endswith(".xml"):
            described = reader.xml(f"{descriptors}/{name}")
            path = path_of(name.removesuffix(".xml"))
            if described is not None:
                base = described.get("docBase") or f"{app_base}/{name.removesuffix('.xml')}"
                # A descriptor there stands in place of the application's own (HostConfig.deployDescriptor).
                folder, version = _folder(reader, app_base, base), version_of(name.removesuffix(".xml"))
                add(path, folder, (described,), described.provenance(), version=version, reads_own=False)
    kept_out = kept_out_of(reader, host)
    if host.flag("autoDeploy", otherwise=True) or host.flag("deployOnStartup", otherwise=True):
        for name in _names(tree, app_base):
            is_folder = tree.is_folder(f"{app_base}/{name}")
            if name in kept_out:
                continue
            if is_folder or name.endswith(".war"):
                unpacked = f"{app_base}/{name}" if is_folder else None
                add(
                    path_of(name.removesuffix(".war")),
                    unpacked,
                    (),
                    host.provenance(f"deployed from {app_base}/{name}"),
                    version=version_of(name.removesuffix(".war")),
                )
    newest = {path: found[path, version] for path, version in sorted(found)}  # who has no session gets the last of them
    return sorted(newest.values(), key=lambda context: -len(context.path))


def _folder(reader: Reader, app_base: str, name: str) -> str | None:
    if not name:
        return None
    path = reader.tree.named(name if name.startswith("/") else f"{app_base}/{name}")
    return path if reader.tree.is_folder(path) else None


def version_of(name: str) -> str:
    """The version of an application called ``name``, of which several may run beside each other: ``app##2``."""
    return name.partition("##")[2]


def path_of(name: str) -> str:
    """The URL path of an application called ``name``: ``#`` stands for a slash, ``ROOT`` for the root."""
    bare = _VERSION.sub("", name)
    return "" if bare == "ROOT" else "/" + bare.replace("#", "/")


def _names(tree: HostTree, folder: str) -> list[str]:
    try:
        return tree.names_in(tree.real(folder))
    except TreeError:
        return []


def kept_out_of(reader: Reader, host: Element) -> tuple[str, ...]:
    """The names of applications that a host does not deploy: those that say something of themselves where they may not
    (``deployXML``; HostConfig.deployDirectory)."""
    if host.flag("deployXML", otherwise=True):
        return ()
    app_base = reader.path(host.get("appBase", "webapps"))
    names = _names(reader.tree, app_base)
    return tuple(name for name in names if reader.tree.is_file(f"{app_base}/{name}/META-INF/context.xml"))


def samples(reader: Reader, deployed: list[Context], users: Element | None) -> Iterator[Sample]:
    """What came with the package: applications, its welcome page, and accounts with a password that everybody knows."""
    for context in deployed:
        if context.path in _SAMPLES:
            yield Sample("application", f"the application {context.path} of the package", context.provenance)
        elif context.path == "" and context.folder is not None:
            for name in ("index.jsp", "index.html"):
                try:
                    text = reader.tree.read(f"{context.folder}/{name}").decode("utf-8", "replace")
                except TreeError:
                    continue
                page = default_page(text)
                if page is not None:
                    yield Sample("page", page, context.provenance)
    for user in users.all("user") if users is not None else ():
        name, password = user.get("username") or user.get("name"), user.get("password")
        if is_factory_word(password) or password == name:
            yield Sample("account", f"the account {name} with a password that everybody knows", user.provenance())
