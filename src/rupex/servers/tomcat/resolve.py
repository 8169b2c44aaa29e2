"""A Tomcat configuration as endpoints and scopes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Final

from msgspec import structs

from rupex.host import TreeError
from rupex.http.urls import authority_of
from rupex.masking.secrets import is_factory_word
from rupex.model import (
    Backend,
    CertificateUse,
    Dropped,
    Endpoint,
    FileUse,
    Header,
    Limits,
    Listing,
    Problem,
    Provenance,
    Redirect,
    RedirectSample,
    Refusal,
    Sample,
    Scope,
    Service,
    Setting,
    Source,
    StoreUse,
    default_of,
    unknown,
)
from rupex.model.budget import PER_MEMBER, PER_SCOPE, spend
from rupex.model.numbers import signed_number, whole_number
from rupex.pki.keystores import key_entry
from rupex.servers.common.endpoints import by_certificate
from rupex.servers.common.groups import Endpoints, resolve_members
from rupex.servers.common.samples import ANY_NAME, EVERY, SAMPLE_QUERY, SAMPLE_TAIL
from rupex.servers.common.scopes import Part, Reply, Role, redirect_samples, scope_of
from rupex.servers.contract import WHOLE, Answer, HostContext, Request, Share, Socket
from rupex.servers.tomcat.accounts import Accounts
from rupex.servers.tomcat.answer import answer_request
from rupex.servers.tomcat.deployed import Context, Reader, contexts, samples
from rupex.servers.tomcat.process import Outcome, Processor, VirtualHostBinding, address_of, port_of
from rupex.servers.tomcat.release import default, find_java, find_release
from rupex.servers.tomcat.syntax import Element, parse_properties
from rupex.servers.tomcat.tls import TlsResolver

_PASSWORDS: Final = ("certificateKeystorePassword", "keystorePass")
_SPECIFICATIONS: Final = {
    (8, 5): "Servlet/3.1 JSP/2.3", (9,): "Servlet/4.0 JSP/2.3", (10,): "Servlet/5.0 JSP/3.0", (10, 1): "Servlet/6.0 JSP/3.1",
    (11,): "Servlet/6.1 JSP/4.0",
}  # fmt: skip
"""What a release of Tomcat implements (Tomcat's own "Which Version Do I Want?")."""
_OWN_TYPES: Final = ("JKS", "PKCS12", "JCEKS")
"""Types of key stores that Java reads by itself; the first two are one to it (keystore.type.compat)."""
_UNMAPPED: Final = "the filter is declared, and mapped to no path"


class TomcatConfiguration:
    """One Tomcat configuration, resolved. The protocol is :class:`~rupex.servers.contract.Configured`."""

    family = "tomcat"
    passes_to: tuple[Backend, ...] = ()

    def __init__(self, main_path: str, host_context: HostContext) -> None:
        self.main_path, self.host_context = main_path, host_context
        self.release = find_release(host_context, main_path)
        self.version = self.release.setting()
        self.sources: tuple[Source, ...] = (Source("config", self.family, self.version.value, main_path),)
        folder = main_path.rpartition("/")[0]
        self.base = _base_of(host_context, folder)
        self.reader = Reader(host_context.tree, self.base, self._properties(folder))
        self.java = find_java(host_context)
        self.tls = TlsResolver(self.release, self.java, host_context, self.base)
        server = self.reader.xml(main_path, must=True)
        self.server = server
        self.server_web = self.reader.xml(f"{folder}/web.xml")
        self.default_context = self.reader.xml(f"{folder}/context.xml")
        self.users = self.reader.xml(f"{folder}/tomcat-users.xml")
        self.connectors: list[Element] = []
        self.members: list[VirtualHostBinding] = []
        self.deployed: dict[int, list[Context]] = {}
        if server is not None:
            self._find_members(server)
        if server is not None and not self.members and not self.reader.problems:
            self.reader.problems.append(
                Problem("missing", main_path, None, "no connector in it, so nothing is known of what it answers", True)
            )
        accounts = Accounts(self.reader, server)
        self.processor = Processor(self.reader, self.release, self.default_context, self.deployed, accounts)
        self.processor.read_rules(self.members)
        self.file_uses = tuple(FileUse("keystore", use.path, (use.provenance,), use) for use in self._stores())
        self.problems: tuple[Problem, ...] = tuple(self.reader.problems)
        self.texts: Mapping[str, str] = self.reader.texts
        self.files: Mapping[str, tuple[Provenance, ...]] = {path: tuple(by) for path, by in self.reader.files.items()}
        roots = frozenset(context.folder for found in self.deployed.values() for context in found if context.folder)
        self.services: tuple[Service, ...] = (
            Service("tomcat", self.version, self._workers(), None, opens_keys=self._workers(), document_roots=roots),
        )

    def _properties(self, folder: str) -> dict[str, str]:
        found = {"catalina.base": f"/{self.base}", "catalina.home": f"/{self.base}"}
        for path in (f"{folder}/catalina.properties",):
            try:
                found |= parse_properties(self.host_context.tree.read(path).decode("latin-1"))
            except TreeError:
                continue
        for path in (
            "etc/default/tomcat10",
            "etc/default/tomcat9",
            "etc/tomcat/tomcat.conf",
            f"{self.base}/bin/setenv.sh",
        ):
            try:
                text = self.host_context.tree.read(path).decode("utf-8", "replace")
            except TreeError:
                continue
            found |= {
                name: value.strip("\"'")
                for name, value in re.findall(r"-D([\w.]+)=(\"[^\"]*\"|'[^']*'|[^\s\"']+)", text)
            }
        return found

    def _workers(self) -> Setting[str]:
        """The account that runs it, from the unit that starts it."""
        units = [f"{folder}/systemd/system/{name}.service" for folder in ("etc", "usr/lib", "lib")
                 for name in ("tomcat10", "tomcat9", "tomcat")]  # fmt: skip
        for path in units:
            try:
                text = self.host_context.tree.read(path).decode("utf-8", "replace")
            except TreeError:
                continue
            user = re.search(r"^User=(\S+)", text, re.MULTILINE)
            line = text.count("\n", 0, user.start()) + 1 if user else 1
            return Setting(user[1] if user else "root", Provenance("explicit", path, line, 1))
        return unknown("the account is that of whoever starts it, and no unit in the tree says who")

    def _find_members(self, server: Element) -> None:
        for service in server.all("Service"):
            engine = service.first("Engine")
            if engine is None:
                continue
            hosts = list(engine.all("Host"))
            for host in hosts:
                self.deployed[id(host)] = contexts(self.reader, engine, host, self.server_web)
            for written in service.all("Connector"):
                connector = _shifted(written, server)
                if _is_ajp(connector) or port_of(connector) is None:
                    continue
                self.connectors.append(connector)
                if not self._starts(connector):
                    continue
                self.members += self._members_of(connector, engine, hosts)

    def _starts(self, connector: Element) -> bool:
        """Whether a connector comes up; a problem says so where it does not. Where the release is only guessed, it does."""
        place = connector.provenance()
        words: str | None = None
        has_config = next(connector.all("SSLHostConfig"), None) is not None
        if (
            connector.flag("SSLEnabled")
            and not has_config
            and not self.release.is_assumed
            and self.release.number >= (10, 1)
        ):
            words = "it has no SSLHostConfig, and attributes of the connector are not read since Tomcat 10.1"
        for config, element in _key_places(connector) if words is None else ():
            words = self._why_store_fails(connector, config, element)
            if words is not None:
                place = element.provenance()
                break
        if words is None:
            return True
        self.reader.problems.append(
            Problem("syntax", place.file, place.line, f"{words}: the connector does not start", False)
        )
        return False

    def _why_store_fails(self, connector: Element, config: Element, element: Element) -> str | None:
        """Why the key store of an element does not open with what is said of it; None where it does, or that is not known."""
        store, word = _store_of(element), _password_of(element, config)
        if not store or word is None:
            return None
        found = self.host_context.credentials.store(self.tls.path(store), word)
        if found is None or found.entries is None:
            return None  # not in the tree, or nothing opens it that Rupex knows
        if found.password != "given":  # noqa: S105  which password it was
            return f"the key store {store} does not open with the password that is said"
        kind = (element.get("certificateKeystoreType") or connector.get("keystoreType")).upper()
        if kind in _OWN_TYPES and (found.format == "JCEKS") != (kind == "JCEKS"):
            return f"the key store {store} is of the type {found.format}, and not {kind}"
        alias = _alias_of(connector, config, element)
        if (
            alias and found.format != "PKCS#12" and key_entry(found, alias) is None
        ):  # of others not all entries can be seen
            return f"the key store {store} has no key called {alias}"
        return None

    def _members_of(self, connector: Element, engine: Element, hosts: list[Element]) -> Iterator[VirtualHostBinding]:
        """The hosts at one connector, by the SSLHostConfig that their names choose; and the host that answers for what no host is
        called, for each SSLHostConfig that is left."""
        where = f"tomcat:{address_of(connector)}:{port_of(connector)}"
        is_tls = connector.flag("SSLEnabled")
        reached: set[int] = set()
        for host in hosts:
            by_config: dict[int, tuple[Element | None, list[str]]] = {}
            for name in dict.fromkeys([host.get("name").lower(), *(alias.text.lower() for alias in host.all("Alias"))]):
                config = self.tls.host_config(connector, name) if is_tls else None
                by_config.setdefault(id(config), (config, []))[1].append(name)
            for config, names in by_config.values():
                spend(PER_MEMBER)
                reached.add(id(config))
                called = host.get("name") if host.get("name").lower() in names else names[0]
                yield VirtualHostBinding(f"{where}/{called}", connector, engine, host, tuple(names), config)
        default_name = engine.get("defaultHost")
        answering = next((host for host in hosts if host.get("name") == default_name), None)
        for config in connector.all("SSLHostConfig") if is_tls and answering is not None else ():
            if id(config) not in reached and answering is not None:
                name = config.get("hostName", "_default_").lower()
                own = () if name == "_default_" else (name,)
                yield VirtualHostBinding(f"{where}/{name}", connector, engine, answering, own, config)

    def _stores(self) -> Iterator[StoreUse]:
        """Key stores with the kind of their password: the factory one where nothing else is said."""
        seen = set()
        for connector in self.connectors:
            entries = self.host_context.credentials.entries
            for config, place in _key_places(connector):
                store, alias = _store_of(place), _alias_of(connector, config, place)
                if not store:
                    continue
                path = self.tls.path(store)
                entries[path] = alias if entries.get(path, alias) == alias else None
                if store not in seen:
                    seen.add(store)
                    yield self._store(store, place, config)

    def _store(self, store: str, place: Element, config: Element) -> StoreUse:
        word = _said_password(place, config)
        path = self.tls.path(store)
        self.host_context.credentials.passwords[path] = "changeit" if word is None else word
        is_reference = word is not None and "${" in word
        in_clear = word is not None and not is_reference and not (place.get("certificateKeystorePasswordFile"))
        return StoreUse(path, word is None or is_factory_word(word), in_clear, place.provenance())

    # The protocol

    def certificate_uses(self) -> Mapping[CertificateUse, tuple[str, ...]]:
        return by_certificate(
            (use, member.id)
            for member in self.members
            if member.secured is not None
            for use in self.tls.certificates(member.secured)
        )

    @property
    def sockets(self) -> frozenset[Socket]:
        return frozenset((endpoint.address, endpoint.port) for endpoint in self.endpoints().alone)

    def samples(self, endpoints: Iterable[Endpoint]) -> Iterator[Sample]:
        every = {id(c): c for found in self.deployed.values() for c in found}
        yield from samples(self.reader, list(every.values()), self.users)

    def endpoints(self, share: Share = WHOLE, *, complete: bool = True) -> Endpoints:
        management = list(self._control_ports())
        first, end = share.bounds(len(self.members))
        found = resolve_members(self.members[first:end], self._endpoint, complete=complete)
        return Endpoints((*found.alone, *(management if end == len(self.members) else ())))

    def why_idle(self, path: str, line: int) -> str | None:
        return None

    def answer(self, request: Request) -> Answer | None:
        return answer_request(self, request)

    def _control_ports(self) -> Iterator[Endpoint]:
        """The shutdown port, and connectors for a proxy in front (AJP)."""
        if self.server is None:
            return
        port = whole_number(self.server.get("port", "8005"), most=65_535)
        if port:
            word = self.server.get("shutdown", "SHUTDOWN")
            yield self._control(
                self.server.get("address", "127.0.0.1"),
                port,
                "shutdown",
                self.server,
                is_default=word == "SHUTDOWN",
            )
        for service in self.server.all("Service"):
            for connector in service.all("Connector"):
                port = port_of(connector, "8009")
                if _is_ajp(connector) and port is not None:
                    default_address = EVERY if default("ajp_address", self.release).value == "any" else "127.0.0.1"
                    address = connector.get("address") or default_address
                    yield self._control(address, port, "AJP", connector, is_default=False)

    def _control(self, address: str, port: int, what: str, element: Element, *, is_default: bool) -> Endpoint:
        return Endpoint(
            id=f"tomcat:{address}:{port}/{what}", family=self.family, address=address, port=port, names=(), default=False,
            transport="plain", provenance=element.provenance("the word that it takes is the factory one" if is_default else None),
            sources=("config",), management=what,
        )  # fmt: skip

    def _endpoint(self, member: VirtualHostBinding) -> Endpoint:
        connector, host = member.connector, member.host
        is_tls = connector.flag("SSLEnabled")
        is_default = host.get("name") == member.engine.get("defaultHost", host.get("name"))
        if member.secured is not None:  # of the default host, the one that a handshake without a name reaches
            is_default = is_default and member.secured is self.tls.host_config(connector, "")
        return Endpoint(
            id=member.id,
            family=self.family,
            address=address_of(connector),
            port=port_of(connector),
            names=tuple(name for name in member.names if name != "localhost"),
            default=is_default,
            transport="tls" if is_tls else "plain",
            provenance=connector.provenance(),
            sources=("config",),
            tls=None if member.secured is None else self.tls.resolve(connector, member.secured),
            scopes=tuple(self._scopes(member)),
            trace=Setting(
                connector.flag("allowTrace"),
                connector.provenance()
                if "allowTrace" in connector.attributes
                else default_of(f"Tomcat {self.release}"),
            ),
            trusted_peers=self._trusted_peers(member),
            limits=self._limits(connector),
            inode_etags=Setting(False, default_of(f"Tomcat {self.release}", "an ETag has size and time only")),
        )

    def _trusted_peers(self, member: VirtualHostBinding) -> Setting[tuple[str, ...]] | None:
        for element in (member.engine, member.host):
            for valve in element.all("Valve"):
                if valve.get("className").endswith("RemoteIpValve"):
                    pattern = valve.get("internalProxies", "private addresses")
                    return Setting(("0.0.0.0/0",) if pattern in (".*", ".+") else (pattern,), valve.provenance())
        return None

    def _limits(self, connector: Element) -> Limits:
        place = connector.provenance()

        def seconds(name: str, otherwise: int) -> Setting[int]:
            word = connector.attributes.get(name)
            if word is None:
                return Setting(otherwise, default_of(f"Tomcat {self.release}"))
            number = signed_number(word) or 0
            return Setting(None if number <= 0 else -(-number // 1000), place)

        wait = seconds("connectionTimeout", 60)
        size = connector.attributes.get("maxPostSize")
        bytes_allowed = 2 << 20 if size is None else signed_number(size) or 0
        body = Setting(
            None if bytes_allowed < 0 else bytes_allowed,
            place if size is not None else default_of(f"Tomcat {self.release}"),
        )
        return Limits(
            wait,
            wait,
            seconds("keepAliveTimeout", (wait.value or 0)) if "keepAliveTimeout" in connector.attributes else wait,
            body,
        )

    # Scopes

    def _scopes(self, member: VirtualHostBinding) -> Iterator[Scope]:
        found = self.deployed[id(member.host)]
        order = 0
        for context in found:
            if context.path:
                yield self._scope(member, context, context.path, order)
                order += 1
        root = next((context for context in found if not context.path), None)
        yield self._scope(member, root, "", order)

    def _scope(self, member: VirtualHostBinding, context: Context | None, path: str, order: int) -> Scope:
        spend(PER_SCOPE)
        outcome = self.processor.answer_path(member, f"{path}/{SAMPLE_TAIL}", "GET", exact=False)
        place = member.host.provenance() if context is None else context.provenance
        part = Part(f"prefix:{path}" if path else "any", "prefix" if path else "any", path, order, place)
        signature, signed_by = self._signature(member)
        unmapped = context.app.unmapped_filters() if context is not None else ()
        return structs.replace(
            scope_of(part, self._reply(member, context, path, outcome, place)),
            headers=(*self.server_headers(member.connector), *outcome.headers),
            dropped=tuple(
                Dropped("X-Content-Type-Options", "nosniff", element.provenance(), _UNMAPPED) for element in unmapped
            ),
            signature=Setting(signature, signed_by),
            undecided=outcome.unknown,
            closed=self.processor.closed(member, context),
        )

    def _reply(
        self, member: VirtualHostBinding, context: Context | None, path: str, outcome: Outcome, place: Provenance
    ) -> Reply:
        role: Role | None = "admin" if context is not None and context.role else None
        if outcome.location is not None and outcome.status is not None:
            return Reply(redirect=self._redirect(member, path, outcome, place), role=role)
        if outcome.status is not None and outcome.status >= 400:
            return Reply(refusal=Refusal(outcome.status, outcome.by or place), role=role)
        if context is None:
            return Reply(role=role)
        is_on, by = context.app.listings()
        return Reply(listing=Listing(is_on, by or default_of(f"Tomcat {self.release}")), role=role)

    def _redirect(self, member: VirtualHostBinding, path: str, outcome: Outcome, place: Provenance) -> Redirect:
        def sample(name: str | None) -> RedirectSample:
            return self._redirect_sample(member, name or ANY_NAME, f"{path}/{SAMPLE_TAIL}")

        assert outcome.status is not None
        assert outcome.location is not None
        own_name = member.host.get("name")
        names = [own_name, *(alias.text for alias in member.host.all("Alias"))]
        is_default = own_name == member.engine.get("defaultHost", own_name)
        samples, unnamed = redirect_samples(
            tuple(name for name in names if name != "localhost") or (ANY_NAME,), sample, is_default=is_default
        )
        return Redirect(outcome.status, outcome.location, outcome.by or place, samples, unnamed)

    def _redirect_sample(self, member: VirtualHostBinding, name: str, path: str) -> RedirectSample:
        port = port_of(member.connector) or 0
        url = f"http://{authority_of(name, port, 80)}{path}?{SAMPLE_QUERY}"
        return RedirectSample(
            url,
            self.processor.answer_path(member, path, "GET", name=name, query=SAMPLE_QUERY, exact=False).location,
            name,
        )

    def server_headers(self, connector: Element) -> Iterator[Header]:
        configured = connector.attributes.get("server")
        default_setting = default("server_header", self.release)
        if configured or default_setting.value:
            value = configured or str(default_setting.value)
            yield Header(
                "Server",
                value,
                "all",
                connector.provenance() if configured else default_setting.provenance or Provenance("default"),
            )
        if connector.flag("xpoweredBy"):
            yield Header("X-Powered-By", self._powered_by(), "all", connector.provenance())

    def _powered_by(self) -> str:
        """What ``xpoweredBy`` sends; the maker and the release of the Java runtime are not known."""
        line = next((line for line in sorted(_SPECIFICATIONS, reverse=True) if self.release.number >= line), (8, 5))
        maker = (
            " (Debian)" if self.main_path.startswith("etc/tomcat") else ""
        )  # the package's, not one that was unpacked
        return f"{_SPECIFICATIONS[line]} (Apache Tomcat/{self.release}{maker} Java/…)"

    def _signature(self, member: VirtualHostBinding) -> tuple[str, Provenance]:
        """What error pages say (ErrorReportValve): product, version and report, unless it is told not to."""
        for element in (member.host, member.engine):
            for valve in element.all("Valve"):
                if valve.get("className").endswith("ErrorReportValve"):
                    shown = f"Apache Tomcat/{self.release}" if valve.flag("showServerInfo", otherwise=True) else ""
                    return shown, valve.provenance()
        return f"Apache Tomcat/{self.release}", default_of(f"Tomcat {self.release}", "ErrorReportValve")


def _key_places(connector: Element) -> Iterator[tuple[Element, Element]]:
    """The elements in which a TLS connector names keys, each with its SSLHostConfig; the connector itself in the old style."""
    if connector.flag("SSLEnabled"):
        for config in list(connector.all("SSLHostConfig")) or [connector]:
            yield from ((config, place) for place in list(config.all("Certificate")) or [config])


def _store_of(place: Element) -> str:
    """The key store that an element names; empty without one."""
    return place.get("certificateKeystoreFile") or place.get("keystoreFile")


def _said_password(place: Element, config: Element) -> str | None:
    return next(
        (one.attributes[name] for one in (place, config) for name in _PASSWORDS if name in one.attributes), None
    )


def _password_of(place: Element, config: Element) -> str | None:
    """What a key store is opened with; None where a file or a property says it."""
    word = _said_password(place, config)
    if place.get("certificateKeystorePasswordFile") or (word is not None and "${" in word):
        return None
    return "changeit" if word is None else word


def _alias_of(connector: Element, config: Element, place: Element) -> str:
    """The entry of a key store that is used; empty for the first with a key."""
    return place.get("certificateKeyAlias") or config.get("certificateKeyAlias") or connector.get("keyAlias")


def _shifted(connector: Element, server: Element) -> Element:
    """A connector at the port that it opens: the server's ``portOffset`` is added to it, and to that of its redirects."""
    offset, port = signed_number(server.get("portOffset", "0")), port_of(connector)
    if not offset or not port:
        return connector
    secure_port = (signed_number(connector.get("redirectPort", "443")) or 0) + offset
    ports = {"port": str(port + offset), "redirectPort": str(secure_port)}
    return structs.replace(connector, attributes={**connector.attributes, **ports})


def _is_ajp(connector: Element) -> bool:
    return "ajp" in connector.get("protocol").lower()


def _base_of(host_context: HostContext, folder: str) -> str:
    """CATALINA_BASE: the folder above ``conf``; on Debian the one that links to the configuration."""
    name = folder.rpartition("/")[2]
    if name == "conf":
        return folder.removesuffix("/conf") if "/" in folder else ""
    for candidate in (f"var/lib/{name}", f"usr/share/{name}"):
        if host_context.tree.is_folder(candidate):
            return candidate
    return folder
