"""The way of one request: valves, the application, its constraints and filters, and what lies on disk."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from msgspec import UNSET

from rupex.http.urls import authority_of
from rupex.model import (
    Header,
    Provenance,
    Setting,
    unknown,
)
from rupex.model.budget import PER_REQUEST, spend
from rupex.model.numbers import whole_number
from rupex.servers.common.inventory import Unmodelled
from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.common.samples import EVERY
from rupex.servers.tomcat.accounts import Accounts, may_pass
from rupex.servers.tomcat.constraints import Constraint, admission
from rupex.servers.tomcat.deployed import Context, Reader
from rupex.servers.tomcat.expiry import Expiring
from rupex.servers.tomcat.files import changes_session_cookie, from_disk, has_page, query_part
from rupex.servers.tomcat.inventory import unmodelled_attributes, unmodelled_component
from rupex.servers.tomcat.release import Release
from rupex.servers.tomcat.rewrite import Rule, Subject, parse_rules, rewrite
from rupex.servers.tomcat.syntax import Element
from rupex.servers.tomcat.tls import asked_of_clients, must_show_certificate
from rupex.servers.tomcat.visitors import BEHIND_PROXIES, BY_ADDRESS, STRANGER, Visitor, behind_proxy, refuses


class VirtualHostBinding(NamedTuple):
    """A host at a connector: what becomes one endpoint.

    ``names``: those by which it is reached, lower case; ``secured``: the element with its TLS settings, None without TLS.
    A host has one for each SSLHostConfig that its names choose, since the name of the TLS handshake chooses by itself.
    """

    id: str
    connector: Element
    engine: Element
    host: Element
    names: tuple[str, ...]
    secured: Element | None = None


class PathRequest(NamedTuple):
    """What valves see of a request besides its path.

    ``sent``: the path as it was sent.
    ``exact``: look at files too.
    ``is_rewritten``: a rewrite valve gave the path, and no other one is asked.
    ``visitor``: who asks.
    """

    method: str
    name: str
    query: str | None
    sent: str
    exact: bool
    is_rewritten: bool
    visitor: Visitor


class Outcome(NamedTuple):
    """What becomes of a request. ``status`` None: the application decides. ``headers``: those of its filters. ``let_in_by``: the
    last valve or filter that could have refused the address it comes from; ``login_by``: that for which it logged in."""

    context: Context | None
    status: int | None = None
    location: str | None = None
    by: Provenance | None = None
    headers: tuple[Header, ...] = ()
    unknown: str | None = None
    extra: tuple[tuple[str, str], ...] = ()
    let_in_by: Provenance | None = None
    login_by: Provenance | None = None


class Processor:
    """Follows requests through valves, constraints and filters. ``deployed``: the applications of each host, by its id;
    ``accounts``: those that the server's realms know."""

    def __init__(
        self,
        reader: Reader,
        release: Release,
        default_context: Element | None,
        deployed: dict[int, list[Context]],
        accounts: Accounts,
    ) -> None:
        self.accounts = accounts
        self.reader, self.release, self.default_context, self.deployed = reader, release, default_context, deployed
        self._parsed_rules: dict[str, tuple[Rule, ...]] = {}
        self._doubts: dict[tuple[int, int, int], tuple[Unmodelled, ...]] = {}

    def unmodelled(self, member: VirtualHostBinding, context: Context | None) -> tuple[Unmodelled, ...]:
        """What is in force for an application, and not modelled."""
        key = id(member.connector), id(member.host), id(context)
        if key not in self._doubts:
            self._doubts[key] = tuple(self._find_unmodelled(member, context))
        return self._doubts[key]

    def _find_unmodelled(self, member: VirtualHostBinding, context: Context | None) -> Iterator[Unmodelled]:
        elements = [member.connector, member.engine, member.host, *(context.elements if context is not None else ())]
        if context is not None and self.default_context is not None:
            elements.append(self.default_context)
        for element in elements:
            yield from unmodelled_attributes(element)
        for valve, _ in self._valves(member, context):
            found = unmodelled_component("Valve", valve.get("className"), valve)
            if found is not None:
                yield found
            kind = _kind(valve)
            yield from unmodelled_attributes(valve, "RemoteAddrValve" if kind in BY_ADDRESS else kind)

    def closed(self, member: VirtualHostBinding, context: Context | None) -> Setting[bool]:
        """Whether visitors without an account are kept out of an application: by their certificate, by address or by a login."""
        if member.secured is not None and must_show_certificate(asked_of_clients(member.connector, member.secured)):
            return Setting(True, member.secured.provenance())
        try:
            valve = self._refusing_valve(member, context)
        except UndeterminedError as undetermined:
            return unknown(undetermined.why, member.host.provenance() if context is None else context.provenance)
        if valve is not None:
            return Setting(True, valve.provenance())
        if context is not None:
            try:
                constraints = context.app.constraints("/index", "GET", self.release.number)
            except UndeterminedError as undetermined:
                return unknown(undetermined.why, context.provenance)
            if admission(constraints) == "denied" or (admission(constraints) == "login" and context.app.login()):
                return Setting(True, constraints[0].element.provenance())
            if context.role == "admin" and context.app.login():
                return Setting(True, context.provenance)
            for one in self.unmodelled(member, context):
                if "access" in one.effects:
                    return unknown(str(one), one.provenance)
            if context.role == "admin" and not context.app.descriptors[1:]:
                return unknown("the application's own descriptor is not in the tree")
        return Setting(False, None)

    def _valves(self, member: VirtualHostBinding, context: Context | None) -> Iterator[tuple[Element, Element]]:
        """The valves that a request passes, in order, each with the element that it stands in."""
        elements: list[Element] = [member.engine, member.host]
        if context is not None:
            elements += [self.default_context] if self.default_context is not None else []
            elements += context.elements
        for element in elements:
            for valve in element.all("Valve"):
                yield valve, element

    def _refusing_valve(self, member: VirtualHostBinding, context: Context | None) -> Element | None:
        """The valve that refuses a stranger's address."""
        port = port_of(member.connector)
        valves = (valve for valve, _ in self._valves(member, context) if _kind(valve) in BY_ADDRESS)
        return next((valve for valve in valves if refuses(_kind(valve), valve.attributes, STRANGER, port)), None)

    def _rules(self, member: VirtualHostBinding, context: Context | None, element: Element) -> tuple[Rule, ...]:
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

    def read_rules(self, members: Iterable[VirtualHostBinding]) -> None:
        """Read the files of all rewrite valves, so that they are files of the configuration."""
        for member in members:
            for context in (None, *self.deployed[id(member.host)]):
                for valve, element in self._valves(member, context):
                    if _kind(valve) == "RewriteValve":
                        self._rules(member, context, element)

    def _before(
        self, member: VirtualHostBinding, context: Context | None, path: str, request: PathRequest
    ) -> tuple[Outcome | str | None, Visitor]:
        """What the valves make of a request: an answer, another path to go on with, or nothing; and who asks behind them."""
        visitor = request.visitor
        for valve, element in self._valves(member, context):
            kind = _kind(valve)
            is_above = context is None or element is member.engine or element is member.host
            below = None if context is None or is_above else context.path
            if kind in BEHIND_PROXIES:
                visitor = behind_proxy(valve.attributes, visitor)
            elif kind in BY_ADDRESS:
                if refuses(kind, valve.attributes, visitor, port_of(member.connector)):
                    status = whole_number(valve.get("denyStatus")) or 403
                    return Outcome(context, status, by=valve.provenance()), visitor
                visitor = visitor._replace(let_in_by=valve.provenance())
            elif kind == "HealthCheckValve" and path[len(below or "") :] == valve.get("path", "/health"):
                return Outcome(context, 200, by=valve.provenance()), visitor
            elif kind == "RewriteValve" and not request.is_rewritten:
                rules = self._rules(member, context, element)
                found = self._by_rules(member, context, rules, below, path, request._replace(visitor=visitor))
                if found is not None:
                    return found, visitor
        return None, visitor

    def _by_rules(
        self,
        member: VirtualHostBinding,
        context: Context | None,
        rules: tuple[Rule, ...],
        below: str | None,
        path: str,
        request: PathRequest,
    ) -> Outcome | str | None:
        """What a rewrite valve makes of a request: an answer, another path, or nothing. ``below``: the application that it stands
        in, None for one of a host."""
        connector = member.connector
        variables = {
            "HTTPS": "on" if _is_secure(connector, request.visitor) else "off",
            "HTTP_HOST": request.name or member.host.get("name"), "SERVER_PORT": connector.get("port", "8080"),
            "REQUEST_URI": request.sent or path, "QUERY_STRING": request.query or "",
            "REQUEST_METHOD": request.method, "REQUEST_SCHEME": "",
        }  # fmt: skip
        subject = Subject(path[len(below or "") :], request.query, variables, below)
        done = rewrite(rules, subject, self.release.number)
        if done.status is None:
            return None if done.by is None else (below or "") + done.path
        found = Outcome(context, done.status, done.location, by=done.by)
        is_refusal = done.status >= 400
        if not done.goes_on or self.release.number < (10, 1) or (is_refusal and below is None):
            return found
        # The request goes on, and an error of its own on top of this answer is one too many (10.1.60).
        own = self.answer_path(
            member,
            path,
            request.method,
            name=request.name,
            query=request.query,
            exact=request.exact,
            is_rewritten=True,
            visitor=request.visitor,
        )
        return found._replace(status=500) if (own.status or 0) >= 400 else found

    def answer_path(
        self,
        member: VirtualHostBinding,
        path: str,
        method: str,
        *,
        name: str = "",
        query: str | None = None,
        exact: bool = True,
        sent: str = "",
        is_rewritten: bool = False,
        visitor: Visitor = STRANGER,
    ) -> Outcome:
        """What a request for ``path`` gets; see :class:`PathRequest`."""
        spend(PER_REQUEST + len(self.deployed[id(member.host)]))
        context = next(
            (c for c in self.deployed[id(member.host)] if path == c.path or path.startswith(c.path + "/")), None
        )
        if (
            context is not None and context.path and path == context.path
        ):  # before any valve (CoyoteAdapter.postParseRequest)
            found = Outcome(context, 302, f"{context.path}/{query_part(query)}", by=context.provenance)
            return self._with_doubt(member, context, found, exact=exact)
        request = PathRequest(method, name, query, sent, exact, is_rewritten, visitor)
        try:
            before, visitor = self._before(member, context, path, request)
            if isinstance(before, str):
                return self.answer_path(
                    member,
                    before,
                    method,
                    name=name,
                    query=query,
                    exact=exact,
                    sent=before,
                    is_rewritten=True,
                    visitor=visitor,
                )
            found = self._behind_valves(member, context, before, path, request._replace(visitor=visitor))
            found = found._replace(let_in_by=found.let_in_by or visitor.let_in_by)
        except UndeterminedError as undetermined:
            return Outcome(context, unknown=undetermined.why)
        return self._with_doubt(member, context, found, exact=exact)

    def _with_doubt(
        self, member: VirtualHostBinding, context: Context | None, found: Outcome, *, exact: bool
    ) -> Outcome:
        """``found`` with what is unknown of it, since something in force is not modelled. Who is let in counts for one request
        alone: of many, :meth:`closed` says it."""
        wanted = {"status"}
        wanted |= {"access"} if exact else set()
        wanted |= {"redirect"} if found.location is not None else set()
        wanted |= {"files"} if found.status == 404 else set()
        doubt = next((one for one in self.unmodelled(member, context) if one.effects & wanted), None)
        return found if doubt is None or found.unknown is not None else found._replace(unknown=str(doubt))

    def _behind_valves(
        self,
        member: VirtualHostBinding,
        context: Context | None,
        before: Outcome | None,
        path: str,
        request: PathRequest,
    ) -> Outcome:
        """What becomes of a request that valves answer with ``before``, or leave alone."""
        connector, method = member.connector, request.method
        if before is not None and (method != "TRACE" or connector.flag("allowTrace")):
            return before
        if context is None:
            if self._knows_apps(member):
                return Outcome(None, 404)
            return Outcome(None, unknown="the applications are not in the tree")
        if method == "TRACE" and not connector.flag("allowTrace"):
            return Outcome(context, 405)
        return self._in_application(member, context, path, request)

    def _in_application(self, member: VirtualHostBinding, context: Context, path: str, request: PathRequest) -> Outcome:
        """What an application makes of a request that no valve answers."""
        inner = path[len(context.path) :]
        constraints = context.app.constraints(inner or "/", request.method, self.release.number)
        is_secure = _is_secure(member.connector, request.visitor)
        if inner.endswith("/j_security_check") and context.app.login() == "FORM":  # wherever it stands
            return Outcome(context, unknown="whether the name and password are right is known at run time only")
        refused = self._constrained(member, context, constraints, path, request, is_secure=is_secure)
        if refused is not None:
            return refused
        private = (
            Header("Cache-Control", "private", "all", constraints[0].element.provenance()) if constraints else None
        )
        cached = (private,) if private is not None and request.method != "POST" else ()
        if inner.upper().startswith(("/WEB-INF", "/META-INF")):
            return Outcome(context, 404, headers=cached)  # before any filter
        welcome = next(
            (name for name in context.app.welcome_files() if has_page(self.reader.tree, context, inner, name)), ""
        )
        port = port_of(member.connector)
        site = request.name if port == (443 if is_secure else 80) else f"{request.name}:{port}"
        filtered = context.app.filtered(
            (inner or "/") + welcome,
            self.release,
            request.visitor,
            method=request.method,
            site=site,
            is_secure=is_secure,
        )
        headers = (*filtered.headers, *cached)
        if filtered.status is not None:
            if filtered.expiring is not None:  # it sees the answer of CorsFilter, which is no error of the server's own
                headers = self._kept(filtered.expiring, context, "", headers, request, filtered.status)
            return Outcome(context, filtered.status, by=filtered.by, headers=headers)
        status, location = (
            from_disk(self.reader.tree, context, inner, request.method, request.query)
            if request.exact
            else (None, None)
        )
        if filtered.expiring is not None:
            headers = self._kept(filtered.expiring, context, inner + welcome, headers, request, status)
        is_login = admission(constraints) == "login"
        return Outcome(
            context,
            status,
            location,
            headers=headers,
            unknown=filtered.unknown,
            let_in_by=filtered.let_in_by,
            login_by=constraints[0].element.provenance() if is_login else None,
        )

    def _kept(
        self,
        expiring: Expiring,
        context: Context,
        path: str,
        headers: tuple[Header, ...],
        request: PathRequest,
        status: int | None,
    ) -> tuple[Header, ...]:
        """``headers`` with what ExpiresFilter sets for the file at ``path``, in place of what was said before."""
        place = expiring.element.provenance()
        if status is None:
            words = "ExpiresFilter sets it by what the application answers"
            return (*headers, Header("Cache-Control", "…", "all", place, words))
        if not expiring.holds(status, request.method, self.release.number):
            return headers
        try:
            kept = expiring.header(context.app.content_type(path) if request.method != "OPTIONS" else None)
        except UndeterminedError as undetermined:
            return (*headers, Header("Cache-Control", "…", "all", place, undetermined.why))
        others = tuple(header for header in headers if header.name != "Cache-Control")
        return headers if kept is None else (*others, kept)

    def _constrained(
        self,
        member: VirtualHostBinding,
        context: Context,
        constraints: list[Constraint],
        path: str,
        request: PathRequest,
        *,
        is_secure: bool,
    ) -> Outcome | None:
        """What the security constraints of a path answer to a client; None where they let it through."""
        if not constraints:
            return None
        element = constraints[0].element
        by = element.provenance()
        cached = (("Cache-Control", "private"),) if request.method != "POST" else ()
        if all(constraint.is_confidential for constraint in constraints) and not is_secure:
            target = self._to_secure(member, context, element, request.sent or path, request.name, request.query)
            return target._replace(extra=cached)
        allowed = admission(constraints)
        if allowed != "login":
            return Outcome(context, 403, by=by, extra=cached) if allowed == "denied" else None
        login, account = context.app.login(), request.visitor.account
        if account is not None and login in ("BASIC", "DIGEST", "FORM"):
            roles = self.accounts.roles_of((*context.elements, member.host, member.engine), account)
            if roles is not None:
                passes = may_pass(constraints, roles, context.app.roles())
                return None if passes else Outcome(context, 403, by=by, extra=cached)
        if login in ("BASIC", "DIGEST", "CLIENT-CERT"):
            return Outcome(context, 401, by=by, extra=cached)
        if login == "FORM" and request.exact:
            return self._login_form(member, context, path, request, by, cached, is_secure=is_secure)
        if login:
            return Outcome(context, None, by=by, unknown="a page to log in answers")
        return Outcome(context, 403, by=by, extra=cached)

    def _login_form(
        self,
        member: VirtualHostBinding,
        context: Context,
        path: str,
        request: PathRequest,
        by: Provenance,
        cached: tuple[tuple[str, str], ...],
        *,
        is_secure: bool,
    ) -> Outcome:
        """The page on which people log in, to which the server itself sends a request on, and the cookie of the session in which
        it keeps that request (FormAuthenticator.forwardToLoginPage)."""
        page = context.app.login_page()
        filtered = context.app.filtered(
            page, self.release, request.visitor, method="GET", site="", is_secure=is_secure, dispatcher="FORWARD"
        )
        status = from_disk(self.reader.tree, context, page, "GET", None)[0] if page else 500
        status = status if filtered.status is None else filtered.status
        unknown = "the page to log in is made by the application" if status is None else filtered.unknown
        flags = f"Path={context.path or '/'}{'; Secure' if is_secure else ''}; HttpOnly"
        words = (
            "what is said of the session's cookie is not modelled"
            if changes_session_cookie(context, self.default_context)
            else UNSET
        )
        cookie = Header("Set-Cookie", f"JSESSIONID=…; {flags}", "all", by, words)
        return Outcome(context, status, by=by, headers=(*filtered.headers, cookie), extra=cached, unknown=unknown)

    def _to_secure(
        self, member: VirtualHostBinding, context: Context, constraint: Element, path: str, name: str, query: str | None
    ) -> Outcome:
        """The transport guarantee on a plain connector: a redirect to its redirectPort, or a refusal without one."""
        port = whole_number(member.connector.get("redirectPort", "443"), most=65_535)
        if not port:
            return Outcome(context, 403, by=constraint.provenance())
        realm = next((r for element in (member.host, member.engine) for r in element.all("Realm")), None)
        status = realm.get("transportGuaranteeRedirectStatus", "302") if realm is not None else "302"
        host = name or member.host.get("name")
        target = f"https://{authority_of(host, port, 443)}{path}{query_part(query)}"
        return Outcome(
            context,
            whole_number(status, most=999) or 302,
            target,
            by=constraint.provenance(),
        )

    def _knows_apps(self, member: VirtualHostBinding) -> bool:
        return self.reader.tree.is_folder(self.reader.path(member.host.get("appBase", "webapps")))


def _is_secure(connector: Element, visitor: Visitor) -> bool:
    """Whether applications take a request for an encrypted one: a proxy that is believed says so, or its connector."""
    if visitor.is_secure is not None:
        return visitor.is_secure
    return connector.flag("SSLEnabled") or connector.flag("secure")


def _kind(valve: Element) -> str:
    return valve.get("className").rpartition(".")[2]


def port_of(connector: Element, default_port: str = "8080") -> int | None:
    """The port of a connector; None where what it says is none."""
    return whole_number(connector.get("port", default_port), most=65_535)


def address_of(connector: Element) -> str:
    return connector.get("address") or EVERY
