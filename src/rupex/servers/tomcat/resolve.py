"""A Tomcat configuration as endpoints and scopes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Final, NamedTuple

from rupex.host import TreeError
from rupex.host.tree import inside
from rupex.http.urls import authority_of
from rupex.model import (
    Alike,
    CertificateUse,
    Dropped,
    Endpoint,
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
    StoreUse,
    default_of,
    unknown,
)
from rupex.servers.family import WHOLE, Answer, Because, Request, Share, Surroundings
from rupex.servers.patterns import UndeterminedError, search
from rupex.servers.samples import ANY_NAME, EVERY, SAMPLE_QUERY, SAMPLE_TAIL
from rupex.servers.tomcat.deployed import Context, Reader, contexts, samples
from rupex.servers.tomcat.release import default, find_java, find_release
from rupex.servers.tomcat.rewrite import Rule, Subject, parse_rules, rewrite
from rupex.servers.tomcat.syntax import Element, parse_properties
from rupex.servers.tomcat.tls import TlsResolver

_WELL_KNOWN_STORES: Final = frozenset(("changeit", "changeme", "password", "secret", "rupex-well-known-secret-removed"))
_STRANGER: Final = "198.51.100.7"
"""An address that no rule speaks of (RFC 5737)."""
_PASSWORDS: Final = ("certificateKeystorePassword", "keystorePass", "truststorePassword", "truststorePass")


class Member(NamedTuple):
    """A host at a connector: what becomes one endpoint."""

    id: str
    connector: Element
    engine: Element
    host: Element


class Asked(NamedTuple):
    """What valves see of a request besides its path."""

    method: str
    name: str
    query: str | None
    sent: str
    exact: bool
    is_rewritten: bool


class Outcome(NamedTuple):
    """What becomes of a request. ``status`` None: the application decides. ``headers``: those of its filters."""

    context: Context | None
    status: int | None = None
    location: str | None = None
    by: Provenance | None = None
    headers: tuple[Header, ...] = ()
    unknown: str | None = None
    extra: tuple[tuple[str, str], ...] = ()


class TomcatConfiguration:
    """One Tomcat configuration, resolved. The protocol is :class:`~rupex.servers.family.Configured`."""

    family = "tomcat"
    overrides: tuple[str, ...] = ()

    def __init__(self, main_path: str, around: Surroundings) -> None:
        self.main_path, self.around = main_path, around
        self.release = find_release(around, main_path)
        self.version = self.release.setting()
        folder = main_path.rpartition("/")[0]
        self.base = _base_of(around, folder)
        self.reader = Reader(around.tree, self.base, self._properties(folder))
        self.java = find_java(around)
        self.tls = TlsResolver(self.release, self.java, around, self.base)
        server = self.reader.xml(main_path, must=True)
        self.server = server
        self.server_web = self.reader.xml(f"{folder}/web.xml")
        self.default_context = self.reader.xml(f"{folder}/context.xml")
        self.users = self.reader.xml(f"{folder}/tomcat-users.xml")
        self.members: list[Member] = []
        self.deployed: dict[int, list[Context]] = {}
        if server is not None:
            self._find_members(server)
        if server is not None and not self.members and not self.reader.problems:
            self.reader.problems.append(
                Problem("missing", main_path, None, "no connector in it, so nothing is known of what it answers", True)
            )
        self._parsed_rules: dict[str, tuple[Rule, ...]] = {}
        self._read_rules()
        self.stores: tuple[StoreUse, ...] = tuple(self._stores())
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
                found |= parse_properties(self.around.tree.read(path).decode("latin-1"))
            except TreeError:
                continue
        for path in (
            "etc/default/tomcat10",
            "etc/default/tomcat9",
            "etc/tomcat/tomcat.conf",
            f"{self.base}/bin/setenv.sh",
        ):
            try:
                text = self.around.tree.read(path).decode("utf-8", "replace")
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
                text = self.around.tree.read(path).decode("utf-8", "replace")
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
            for connector in service.all("Connector"):
                if _is_ajp(connector) or not connector.get("port", "8080").lstrip("-").isdecimal():
                    continue
                for host in hosts:
                    where = f"{self._address(connector)}:{connector.get('port', '8080')}"
                    self.members.append(Member(f"tomcat:{where}/{host.get('name')}", connector, engine, host))

    @staticmethod
    def _address(connector: Element) -> str:
        return connector.get("address") or EVERY

    def _stores(self) -> Iterator[StoreUse]:
        """Key stores with the kind of their password: the factory one where nothing else is said."""
        seen = set()
        for member in self.members:
            if not member.connector.flag("SSLEnabled"):
                continue
            for config in list(member.connector.all("SSLHostConfig")) or [member.connector]:
                for place in list(config.all("Certificate")) or [config]:
                    store = place.get("certificateKeystoreFile") or place.get("keystoreFile")
                    if store and store not in seen:
                        seen.add(store)
                        yield self._store(store, place, config)

    def _store(self, store: str, place: Element, config: Element) -> StoreUse:
        word = next(
            (one.attributes[name] for one in (place, config) for name in _PASSWORDS if name in one.attributes), None
        )
        path = self.tls.path(store)
        self.around.credentials.passwords[path] = "changeit" if word is None else word
        is_reference = word is not None and "${" in word
        in_clear = word is not None and not is_reference and not (place.get("certificateKeystorePasswordFile"))
        return StoreUse(path, word is None or word in _WELL_KNOWN_STORES, in_clear, place.provenance())

    # The protocol

    def certificate_uses(self) -> Mapping[CertificateUse, tuple[str, ...]]:
        found: dict[CertificateUse, tuple[str, ...]] = {}
        for member in self.members:
            if member.connector.flag("SSLEnabled"):
                for use in self.tls.certificates(self.tls.host_config(member.connector, member.host.get("name"))):
                    found[use] = (*found.get(use, ()), member.id)
        return found

    def samples(self, endpoints: Iterable[Endpoint]) -> Iterator[Sample]:
        every = {id(c): c for found in self.deployed.values() for c in found}
        yield from samples(self.reader, list(every.values()), self.users)

    def endpoints(
        self, share: Share = WHOLE, *, outlines: bool = False
    ) -> tuple[tuple[Endpoint, ...], Mapping[str, Alike]]:
        found = [self._endpoint(member) for member in self.members] + list(self._control_ports())
        first, end = share.bounds(len(found))
        return tuple(found[first:end]), {}

    def _control_ports(self) -> Iterator[Endpoint]:
        """The shutdown port, and connectors for a proxy in front (AJP)."""
        if self.server is None:
            return
        port = self.server.get("port", "8005")
        if port.isdecimal() and int(port):
            word = self.server.get("shutdown", "SHUTDOWN")
            yield self._control(
                self.server.get("address", "127.0.0.1"),
                int(port),
                "shutdown",
                self.server,
                is_default=word == "SHUTDOWN",
            )
        for service in self.server.all("Service"):
            for connector in service.all("Connector"):
                if _is_ajp(connector) and connector.get("port", "8009").isdecimal():
                    usual = EVERY if default("ajp_address", self.release).value == "any" else "127.0.0.1"
                    address = connector.get("address") or usual
                    yield self._control(address, int(connector.get("port", "8009")), "AJP", connector, is_default=False)

    def _control(self, address: str, port: int, what: str, element: Element, *, is_default: bool) -> Endpoint:
        return Endpoint(
            id=f"tomcat:{address}:{port}/{what}", family=self.family, address=address, port=port, names=(), default=False,
            transport="plain", provenance=element.provenance("the word that it takes is the factory one" if is_default else None),
            sources=("config",), control=what,
        )  # fmt: skip

    def _endpoint(self, member: Member) -> Endpoint:
        connector, host = member.connector, member.host
        is_tls = connector.flag("SSLEnabled")
        names = tuple(dict.fromkeys([host.get("name").lower(), *(alias.text.lower() for alias in host.all("Alias"))]))
        is_default = host.get("name") == member.engine.get("defaultHost", host.get("name"))
        return Endpoint(
            id=member.id,
            family=self.family,
            address=self._address(connector),
            port=int(connector.get("port", "8080")),
            names=tuple(name for name in names if name != "localhost"),
            default=is_default,
            transport="tls" if is_tls else "plain",
            provenance=connector.provenance(),
            sources=("config",),
            tls=self.tls.resolve(connector, host.get("name")) if is_tls else None,
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

    def _trusted_peers(self, member: Member) -> Setting[tuple[str, ...]] | None:
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
            number = int(word) if word.lstrip("-").isdecimal() else 0
            return Setting(None if number <= 0 else -(-number // 1000), place)

        wait = seconds("connectionTimeout", 60)
        size = connector.attributes.get("maxPostSize")
        bytes_allowed = 2 << 20 if size is None else int(size) if size.lstrip("-").isdecimal() else 0
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

    def _scopes(self, member: Member) -> Iterator[Scope]:
        found = self.deployed[id(member.host)]
        order = 0
        for context in found:
            if context.path:
                yield self._scope(member, context, context.path, order)
                order += 1
        root = next((context for context in found if not context.path), None)
        yield self._scope(member, root, "", order)

    def _scope(self, member: Member, context: Context | None, path: str, order: int) -> Scope:
        sample = f"{path}/{SAMPLE_TAIL}"
        connector = member.connector
        outcome = self.answer_path(member, sample, "GET", exact=False)
        place = member.host.provenance() if context is None else context.provenance
        redirect = refusal = listing = None
        names = [alias.text for alias in member.host.all("Alias")]
        if outcome.location is not None and outcome.status is not None:
            samples = tuple(
                self._redirect_sample(member, name, sample)
                for name in (member.host.get("name"), *names)
                if name != "localhost"
            )
            samples = samples or (self._redirect_sample(member, ANY_NAME, sample),)
            is_default = member.host.get("name") == member.engine.get("defaultHost", member.host.get("name"))
            stranger = self._redirect_sample(member, ANY_NAME, sample) if is_default else None
            redirect = Redirect(outcome.status, outcome.location, outcome.by or place, samples, stranger)
        elif outcome.status is not None and outcome.status >= 400:
            refusal = Refusal(outcome.status, outcome.by or place)
        elif context is not None:
            on, by = context.app.listings()
            listing = Listing(on, by or default_of(f"Tomcat {self.release}"))
        signature, signed_by = self._signature(member)
        headers = (*self._server_headers(connector), *outcome.headers)
        dropped = tuple(
            Dropped(
                "X-Content-Type-Options",
                "nosniff",
                element.provenance(),
                "the filter is declared, and mapped to no path",
            )
            for element in (context.app.unmapped_filters() if context is not None else ())
        )
        return Scope(
            id=f"prefix:{path}" if path else "any",
            match="prefix" if path else "any",
            path=path,
            order=order,
            provenance=place,
            redirect=redirect,
            headers=headers,
            dropped=dropped,
            refusal=refusal,
            listing=listing,
            signature=Setting(signature, signed_by),
            undecided=outcome.unknown,
            closed=self._closed(member, context),
            role="admin" if context is not None and context.role else None,
        )

    def _redirect_sample(self, member: Member, name: str, path: str) -> RedirectSample:
        port = int(member.connector.get("port", "8080"))
        url = f"http://{authority_of(name, port, 80)}{path}?{SAMPLE_QUERY}"
        return RedirectSample(
            url, self.answer_path(member, path, "GET", name=name, query=SAMPLE_QUERY, exact=False).location, name
        )

    def _server_headers(self, connector: Element) -> Iterator[Header]:
        said = connector.attributes.get("server")
        usual = default("server_header", self.release)
        if said or usual.value:
            value = said or str(usual.value)
            yield Header(
                "Server", value, "all", connector.provenance() if said else usual.provenance or Provenance("default")
            )
        if connector.flag("xpoweredBy"):
            yield Header("X-Powered-By", f"Servlet JSP (Apache Tomcat/{self.release})", "all", connector.provenance())

    def _signature(self, member: Member) -> tuple[str, Provenance]:
        """What error pages say (ErrorReportValve): product, version and report, unless it is told not to."""
        for element in (member.host, member.engine):
            for valve in element.all("Valve"):
                if valve.get("className").endswith("ErrorReportValve"):
                    said = f"Apache Tomcat/{self.release}" if valve.flag("showServerInfo", otherwise=True) else ""
                    return said, valve.provenance()
        return f"Apache Tomcat/{self.release}", default_of(f"Tomcat {self.release}", "ErrorReportValve")

    # One request

    def _closed(self, member: Member, context: Context | None) -> Setting[bool]:
        """Whether strangers are kept out of an application: by address or by a login."""
        valve = self._refusing_valve(member, context)
        if valve is not None:
            return Setting(True, valve.provenance())
        if context is not None:
            for constraint in context.app.constraints("/index", "GET"):
                if constraint.roles is not None and context.app.login():
                    return Setting(True, constraint.element.provenance())
            if context.role == "admin" and context.app.login():
                return Setting(True, context.provenance)
            if context.role == "admin" and not context.app.descriptors[1:]:
                return unknown("the application's own descriptor is not in the tree")
        return Setting(False, None)

    def _valves(self, member: Member, context: Context | None) -> Iterator[tuple[Element, Element]]:
        """The valves that a request passes, in order, each with the element that it stands in."""
        elements: list[Element] = [member.engine, member.host]
        if context is not None:
            elements += [self.default_context] if self.default_context is not None else []
            elements += context.elements
        for element in elements:
            for valve in element.all("Valve"):
                yield valve, element

    def _refusing_valve(self, member: Member, context: Context | None) -> Element | None:
        """The valve that refuses a stranger's address."""
        valves = (valve for valve, _ in self._valves(member, context))
        return next((valve for valve in valves if _refuses(_kind(valve), valve.get("allow"), valve.get("deny"))), None)

    def _rules(self, member: Member, context: Context | None, element: Element) -> tuple[Rule, ...]:
        """The rules of a rewrite valve that stands in ``element``."""
        if element is member.host:
            names = member.engine.get("name", "Catalina"), member.host.get("name", "localhost")
            folder = self.reader.path(f"conf/{'/'.join(names)}")
        elif element is not member.engine and context is not None and context.folder is not None:
            folder = f"{context.folder}/WEB-INF"
        else:
            return (Rule("", "", {}, (), element.provenance(), "a rewrite valve's rules are not in the tree"),)
        path = f"{folder}/rewrite.config"
        if path not in self._parsed_rules:
            self._parsed_rules[path] = parse_rules(path, self.reader.text(path))
        return self._parsed_rules[path]

    def _read_rules(self) -> None:
        for member in self.members:
            for context in (None, *self.deployed[id(member.host)]):
                for valve, element in self._valves(member, context):
                    if _kind(valve) == "RewriteValve":
                        self._rules(member, context, element)

    def _before(self, member: Member, context: Context | None, path: str, asked: Asked) -> Outcome | str | None:
        """What the valves make of a request: an answer, another path to go on with, or nothing."""
        for valve, element in self._valves(member, context):
            if _refuses(_kind(valve), valve.get("allow"), valve.get("deny")):
                return Outcome(context, int(valve.get("denyStatus") or 403), by=valve.provenance())
            if _kind(valve) == "RewriteValve" and not asked.is_rewritten:
                below = None if element is member.host or context is None else context.path
                connector = member.connector
                variables = {
                    "HTTPS": "on" if connector.flag("SSLEnabled") or connector.flag("secure") else "off",
                    "HTTP_HOST": asked.name or member.host.get("name"), "SERVER_PORT": connector.get("port", "8080"),
                    "REQUEST_URI": asked.sent or path, "QUERY_STRING": asked.query or "",
                    "REQUEST_METHOD": asked.method, "REQUEST_SCHEME": "",
                }  # fmt: skip
                subject = Subject(path[len(below or "") :], asked.query, variables, below)
                done = rewrite(self._rules(member, context, element), subject, self.release.number)
                if done.status is not None:
                    found = Outcome(context, done.status, done.location, by=done.by)
                    is_refusal = done.status >= 400
                    if not done.goes_on or self.release.number < (10, 1) or (is_refusal and below is None):
                        return found
                    # The request goes on, and an error of its own on top of this answer is one too many (10.1.60).
                    own = self.answer_path(
                        member,
                        path,
                        asked.method,
                        name=asked.name,
                        query=asked.query,
                        exact=asked.exact,
                        is_rewritten=True,
                    )
                    return found._replace(status=500) if (own.status or 0) >= 400 else found
                if done.by is not None:
                    return (below or "") + done.path
        return None

    def answer_path(
        self,
        member: Member,
        path: str,
        method: str,
        *,
        name: str = "",
        query: str | None = None,
        exact: bool = True,
        sent: str = "",
        is_rewritten: bool = False,
    ) -> Outcome:
        """What a request for ``path`` gets. ``exact``: look at files too; ``sent``: the path as it was sent;
        ``is_rewritten``: a rewrite valve gave it, and no other one is asked."""
        connector = member.connector
        is_secure = connector.flag("SSLEnabled") or connector.flag("secure")
        context = next(
            (c for c in self.deployed[id(member.host)] if path == c.path or path.startswith(c.path + "/")), None
        )
        asked = Asked(method, name, query, sent, exact, is_rewritten)
        try:
            before = self._before(member, context, path, asked)
        except UndeterminedError as undetermined:
            return Outcome(context, unknown=undetermined.why)
        if isinstance(before, str):
            return self.answer_path(
                member, before, method, name=name, query=query, exact=exact, sent=before, is_rewritten=True
            )
        if before is not None and (method != "TRACE" or connector.flag("allowTrace")):
            return before
        if context is None:
            return Outcome(
                None,
                404 if self._knows_apps(member) else None,
                by=None,
                unknown=None if self._knows_apps(member) else "the applications are not in the tree",
            )
        if method == "TRACE" and not connector.flag("allowTrace"):
            return Outcome(context, 405)
        inner = path[len(context.path) :]
        if not inner and context.path:
            return Outcome(
                context, 302, context.path + "/" + (f"?{query}" if query is not None else ""), by=context.provenance
            )
        if inner.upper().startswith(("/WEB-INF", "/META-INF")):
            return Outcome(context, 404)  # before any filter
        cached = (("Cache-Control", "private"),) if method != "POST" else ()
        held = list(context.app.constraints(inner or "/", method))
        if any(constraint.is_confidential for constraint in held) and not is_secure:
            return self._to_secure(member, context, held[0].element, sent or path, name, query)._replace(extra=cached)
        if any(constraint.roles == () for constraint in held):
            return Outcome(context, 403, by=held[0].element.provenance(), extra=cached)
        if any(constraint.roles for constraint in held):
            login = context.app.login()
            if login in ("BASIC", "DIGEST"):
                return Outcome(context, 401, by=held[0].element.provenance(), extra=cached)
            return Outcome(
                context,
                None if login else 403,
                by=held[0].element.provenance(),
                unknown="a page to log in answers" if login else None,
            )
        welcome = next((name for name in context.app.welcome_files() if self._has_page(context, inner, name)), "")
        headers = tuple(context.app.headers((inner or "/") + welcome, self.release, is_secure=is_secure))
        if held and method != "POST":
            headers = (*headers, Header("Cache-Control", "private", "all", held[0].element.provenance()))
        status, location = self._from_disk(context, inner, query) if exact else (None, None)
        return Outcome(context, status, location, headers=headers)

    def _to_secure(
        self, member: Member, context: Context, constraint: Element, path: str, name: str, query: str | None
    ) -> Outcome:
        """The transport guarantee on a plain connector: a redirect to its redirectPort, or a refusal without one."""
        port = member.connector.get("redirectPort", "443")
        if not port.isdecimal() or int(port) <= 0:
            return Outcome(context, 403, by=constraint.provenance())
        realm = next((r for element in (member.host, member.engine) for r in element.all("Realm")), None)
        status = realm.get("transportGuaranteeRedirectStatus", "302") if realm is not None else "302"
        host = name or member.host.get("name")
        target = f"https://{authority_of(host, int(port), 443)}{path}" + (f"?{query}" if query is not None else "")
        return Outcome(
            context,
            int(status) if status.isdecimal() else 302,
            target,
            by=constraint.provenance(),
        )

    def _knows_apps(self, member: Member) -> bool:
        return self.around.tree.is_folder(self.reader.path(member.host.get("appBase", "webapps")))

    def _has_page(self, context: Context, inner: str, name: str) -> bool:
        """Whether a folder has a page that stands for it, by whose path filters are chosen."""
        path = inside(f"{context.folder}{inner}{name}")
        return inner.endswith("/") and context.folder is not None and self.around.tree.is_file(path)

    def _from_disk(self, context: Context, inner: str, query: str | None) -> tuple[int | None, str | None]:
        """What the default servlet makes of a file or folder; (None, None) where something else of the application may answer."""
        tree, folder = self.around.tree, context.folder
        if folder is None or context.app.has_servlets() or inner.endswith((".jsp", ".jspx")):
            return None, None
        path = inside(f"{folder}{inner}")
        if tree.is_folder(path):
            if not inner.endswith("/"):
                return 302, context.path + inner + "/" + (f"?{query}" if query is not None else "")
            for name in context.app.welcome_files() or ("index.html", "index.htm", "index.jsp"):
                if tree.is_file(f"{path}/{name}"):
                    return (None if name.endswith(".jsp") else 200), None
            return (200 if context.app.listings()[0] else 404), None
        return (200 if tree.is_file(path) and not inner.endswith("/") else 404), None

    def answer(self, request: Request) -> Answer | None:
        """Follow a request: the connector of its port, the host of its name, the application of its path."""
        here = [m for m in self.members if int(m.connector.get("port", "8080")) == request.port]
        if request.address is not None:
            here = [m for m in here if self._address(m.connector) in (request.address, EVERY)]
        if not here:
            return None
        member = next((m for m in here if request.name.lower() in self._names(m.host)), None)
        member = member or next((m for m in here if m.host.get("name") == m.engine.get("defaultHost")), here[0])
        connector = member.connector
        is_tls = connector.flag("SSLEnabled")
        transport = "tls" if is_tls else "plain"
        why = [
            Because(f"the request meets the connector at {connector.get('port', '8080')}", connector.provenance()),
            Because(f"the host {member.host.get('name')} answers", member.host.provenance()),
        ]
        if is_tls != (request.scheme == "https"):
            return Answer(
                endpoint=member.id,
                scope="",
                transport=transport,
                why=tuple(why),
                status=400 if is_tls else None,
                closed=not is_tls,
            )
        from rupex.servers.tomcat.paths import normalise

        outcome = self.answer_path(
            member,
            normalise(request.path or "/"),
            request.method,
            name=request.name,
            query=request.query,
            sent=request.path,
        )
        if outcome.context is not None:
            why.append(Because(f"the application {outcome.context.path or '/'} is meant", outcome.context.provenance))
        if outcome.by is not None:
            why.append(Because("decided here", outcome.by))
        path = outcome.context.path if outcome.context is not None else ""
        headers = [(h.name, h.value) for h in (*self._server_headers(connector), *outcome.headers)]
        why += [Because(f"{h.name}: {h.value}", h.provenance) for h in outcome.headers]
        headers += outcome.extra
        if outcome.location is not None:
            headers.append(("Location", outcome.location))
        if outcome.status == 401 and outcome.context is not None:
            headers.append(("WWW-Authenticate", f'Basic realm="{outcome.context.app.realm()}"'))
        return Answer(
            endpoint=member.id, scope=f"prefix:{path}" if path else "any", transport=transport,
            status=outcome.status if request.status is None else request.status, location=outcome.location,
            headers=tuple(headers), why=tuple(why), unknown=outcome.unknown,
        )  # fmt: skip

    @staticmethod
    def _names(host: Element) -> set[str]:
        return {host.get("name").lower(), *(alias.text.lower() for alias in host.all("Alias"))}


def _kind(valve: Element) -> str:
    return valve.get("className").rpartition(".")[2]


def _refuses(kind: str, allow: str, deny: str) -> bool:
    """Whether a valve that goes by addresses refuses a stranger's."""
    if kind == "RemoteAddrValve":
        is_denied = bool(deny) and search(f"^(?:{deny})$", _STRANGER) is not None
        return is_denied or (bool(allow) and search(f"^(?:{allow})$", _STRANGER) is None)
    return kind in ("RemoteCIDRValve", "RemoteHostValve") and bool(allow) and not allow.startswith(("0.0.0.0/0", ".*"))


def _is_ajp(connector: Element) -> bool:
    return "ajp" in connector.get("protocol").lower()


def _base_of(around: Surroundings, folder: str) -> str:
    """CATALINA_BASE: the folder above ``conf``; on Debian the one that links to the configuration."""
    name = folder.rpartition("/")[2]
    if name == "conf":
        return folder.removesuffix("/conf") if "/" in folder else ""
    for candidate in (f"var/lib/{name}", f"usr/share/{name}"):
        if around.tree.is_folder(candidate):
            return candidate
    return folder
