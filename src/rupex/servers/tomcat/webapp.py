"""What a web application's deployment descriptor (Servlet 6.0, 14; Tomcat's own filters) says of a path: constraints, filters,
listings. The server's ``conf/web.xml`` holds for every application, its own ``WEB-INF/web.xml`` behind it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Final, NamedTuple

from msgspec import Struct

from rupex.model import Header, Provenance
from rupex.model.numbers import whole_number
from rupex.servers.common.inventory import Unmodelled
from rupex.servers.tomcat.constraints import Constraint, holding, rank_of
from rupex.servers.tomcat.cors import answer_cors, headers_for_any
from rupex.servers.tomcat.expiry import Expiring
from rupex.servers.tomcat.inventory import unmodelled_component
from rupex.servers.tomcat.release import Release, default
from rupex.servers.tomcat.syntax import Element
from rupex.servers.tomcat.visitors import BEHIND_PROXIES, BY_ADDRESS, Visitor, behind_proxy, refuses

_HEADER_FILTER: Final = "org.apache.catalina.filters.HttpHeaderSecurityFilter"
_CORS_FILTER: Final = "org.apache.catalina.filters.CorsFilter"
_EXPIRES_FILTER: Final = "org.apache.catalina.filters.ExpiresFilter"
_DEFAULT_SERVLET: Final = "org.apache.catalina.servlets.DefaultServlet"


class Filtered(NamedTuple):
    """What filters make of a request.

    ``headers``: what they set on every answer.
    ``status``: of a refusal, which ``by`` says; None where they let it through.
    ``unknown``: why it is not known whether they do.
    ``let_in_by``: the last that could have refused the address.
    ``expiring``: the last that says how long an answer may be kept, which hangs on what that is.
    """

    headers: tuple[Header, ...]
    status: int | None
    by: Provenance | None
    unknown: str | None
    let_in_by: Provenance | None = None
    expiring: Expiring | None = None


class WebApp(Struct, frozen=True):
    """The descriptors that hold for one application, the server's own first."""

    descriptors: tuple[Element, ...]

    def constraints(self, path: str, method: str, release: tuple[int, ...]) -> list[Constraint]:
        """The constraints that hold for a path and method. Raises
        :class:`~rupex.servers.common.patterns.UndeterminedError`."""
        return holding(self.descriptors, path, method, release)

    def login(self) -> str:
        """How people log in: ``BASIC``, ``FORM`` …, empty for not at all."""
        for descriptor in reversed(self.descriptors):
            config = descriptor.first("login-config")
            if config is not None:
                return config.text_of("auth-method").upper() or "BASIC"
        return ""

    def roles(self) -> frozenset[str]:
        """The roles that the descriptors name, those of constraints among them (ContextConfig.validateSecurityRoles)."""
        naming = [one for d in self.descriptors for one in d.all("security-role")]
        naming += [a for d in self.descriptors for c in d.all("security-constraint") for a in c.all("auth-constraint")]
        return frozenset(name.text for one in naming for name in one.all("role-name")) - {"*", "**"}

    def login_page(self) -> str:
        """The path of the page on which people log in."""
        for descriptor in reversed(self.descriptors):
            config = descriptor.first("login-config")
            if config is not None:
                form = config.first("form-login-config")
                return "" if form is None else form.text_of("form-login-page")
        return ""

    def says_of_sessions(self) -> bool:
        """Whether a descriptor says anything of the session's cookie."""
        configs = (one for descriptor in self.descriptors for one in descriptor.all("session-config"))
        return any(one.first("cookie-config") is not None or one.first("tracking-mode") is not None for one in configs)

    def realm(self) -> str:
        for descriptor in reversed(self.descriptors):
            config = descriptor.first("login-config")
            if config is not None:
                return config.text_of("realm-name") or "Authentication required"
        return "Authentication required"

    def filtered(
        self,
        path: str,
        release: Release,
        visitor: Visitor,
        *,
        method: str,
        site: str,
        is_secure: bool,
        dispatcher: str = "REQUEST",
    ) -> Filtered:
        """What the filters that are mapped to a path make of a request, and set on its answer. ``site``: the server's own name
        and port, as an Origin has them. ``dispatcher``: ``FORWARD`` for one that the server itself sends on.
        Raises :class:`~rupex.servers.common.patterns.UndeterminedError`.

        The descriptors are merged (Servlet 6.0, 8.2.3): a filter of one name is one filter, in which the application's
        parameters win; where it maps the name itself, the server's mapping is gone. The application's filters run first, and
        each sets its headers anew, so that the last one wins (measured on 10.1.60).
        """
        found: dict[str, Header] = {}
        doubts: list[Unmodelled] = []
        expiring: Expiring | None = None
        for name in self._mapped_filters(path, dispatcher):
            elements = [
                element
                for d in self.descriptors
                for element in d.all("filter")
                if element.text_of("filter-name") == name
            ]
            if not elements:
                continue
            kinds = [kind for element in elements if (kind := element.text_of("filter-class"))]
            given = {key: value for element in elements for key, value in _parameters(element).items()}
            kind = kinds[-1] if kinds else ""
            short = kind.rpartition(".")[2]
            if kind == _HEADER_FILTER:
                sent: Iterable[Header] = _security_headers(given, elements[-1], release, is_secure=is_secure)
            elif kind == _CORS_FILTER and "origin" in visitor.headers:
                scheme = "https" if is_secure else "http"
                cors = answer_cors(given, elements[-1], method, visitor.headers, f"{scheme}://{site}", release.number)
                if cors.status is not None:
                    headers = found | {header.name: header for header in cors.headers}
                    place = elements[-1].provenance()
                    return Filtered(tuple(headers.values()), cors.status, place, None, expiring=expiring)
                sent = cors.headers
            elif kind == _CORS_FILTER:
                sent = headers_for_any(given, elements[-1], method)
            elif kind == _EXPIRES_FILTER:
                expiring = Expiring(given, elements[-1])
                continue
            elif kind.startswith("org.apache.catalina.") and short in BEHIND_PROXIES:
                visitor = behind_proxy(given, visitor)
                is_secure = is_secure if visitor.is_secure is None else visitor.is_secure
                continue
            elif kind.startswith("org.apache.catalina.") and short in BY_ADDRESS:
                if not refuses(short, given, visitor, None):
                    visitor = visitor._replace(let_in_by=elements[-1].provenance())
                    continue
                status = whole_number(given.get("denyStatus", "")) or 403
                return Filtered(tuple(found.values()), status, elements[-1].provenance(), None)
            else:
                doubt = unmodelled_component("Filter", kind, elements[-1])
                doubts += [doubt] if doubt is not None else []
                sent = () if doubt is None else _doubted(doubt, found)
            for header in sent:  # CorsFilter adds to what another one said, the others replace it
                key = f"{header.name} of {name}" if kind == _CORS_FILTER else header.name
                found.pop(key, None)
                found[key] = header
        decisive = next((one for one in doubts if one.effects & {"status", "access"}), None)
        unknown = None if decisive is None else str(decisive)
        return Filtered(tuple(found.values()), None, None, unknown, visitor.let_in_by, expiring)

    def _mapped_filters(self, path: str, dispatcher: str) -> Iterator[str]:
        """The names of the filters that a request for ``path`` goes through, in order."""
        own = [list(descriptor.all("filter-mapping")) for descriptor in self.descriptors]
        of_application = {mapping.text_of("filter-name") for mappings in own[1:] for mapping in mappings}
        of_server = [m for m in (own[0] if own else []) if m.text_of("filter-name") not in of_application]
        seen: set[str] = set()
        for mapping in (*(mapping for mappings in own[1:] for mapping in mappings), *of_server):
            name = mapping.text_of("filter-name")
            dispatchers = {d.text.upper() for d in mapping.all("dispatcher")} or {"REQUEST"}
            if name in seen or dispatcher not in dispatchers:
                continue
            if any(rank_of(pattern.text, path, is_filter=True) >= 0 for pattern in mapping.all("url-pattern")):
                seen.add(name)
                yield name

    def unmapped_filters(self) -> Iterator[Element]:
        """Header filters that are declared, and mapped to nothing."""
        names = {m.text_of("filter-name") for descriptor in self.descriptors for m in descriptor.all("filter-mapping")}
        for descriptor in self.descriptors:
            for element in descriptor.all("filter"):
                if element.text_of("filter-class") == _HEADER_FILTER and element.text_of("filter-name") not in names:
                    yield element

    def listings(self) -> tuple[bool, Provenance | None]:
        """Whether the default servlet lists folders, and the line that decides."""
        found = self._parameter_of_files("listings")
        return (False, None) if found is None else (found.text_of("param-value").lower() == "true", found.provenance())

    def may_write(self) -> bool:
        """Whether the default servlet lets clients put and delete files."""
        found = self._parameter_of_files("readonly")
        return found is not None and found.text_of("param-value").lower() != "true"

    def _parameter_of_files(self, name: str) -> Element | None:
        """The last parameter ``name`` of the default servlet."""
        found = None
        for descriptor in self.descriptors:
            for servlet in descriptor.all("servlet"):
                if servlet.text_of("servlet-class") == _DEFAULT_SERVLET:
                    found = next((p for p in servlet.all("init-param") if p.text_of("param-name") == name), found)
        return found

    def welcome_files(self) -> tuple[str, ...]:
        for descriptor in reversed(self.descriptors):
            listed = descriptor.first("welcome-file-list")
            if listed is not None:
                return tuple(file.text for file in listed.all("welcome-file"))
        return ()

    def content_type(self, path: str) -> str | None:
        """The type that the server gives a file by the ending of its name."""
        ending = path.rpartition("/")[2].rpartition(".")[2]
        named = (one for d in reversed(self.descriptors) for one in d.all("mime-mapping"))
        return next((one.text_of("mime-type") for one in named if one.text_of("extension") == ending), None)

    def has_servlets(self) -> bool:
        """Whether the application has anything but files."""
        return any(True for descriptor in self.descriptors[1:] for _ in descriptor.all("servlet"))


def _parameters(element: Element) -> Mapping[str, str]:
    return {p.text_of("param-name"): p.text_of("param-value") for p in element.all("init-param")}


def _doubted(doubt: Unmodelled, found: Mapping[str, Header]) -> Iterator[Header]:
    """The headers that a filter may change which is not modelled, with what is ``found`` of them so far."""
    for name in doubt.headers:
        value = found[name].value if name in found else "…"
        yield Header(name, value, "all", doubt.provenance, str(doubt))


def _security_headers(
    given: Mapping[str, str], element: Element, release: Release, *, is_secure: bool
) -> Iterator[Header]:
    """HttpHeaderSecurityFilter (Tomcat's manual, "HTTP Header Security Filter")."""
    place = element.provenance()

    def is_on(name: str, *, otherwise: bool) -> bool:
        return given[name].lower() == "true" if name in given else otherwise

    if is_secure and is_on("hstsEnabled", otherwise=True):
        value = f"max-age={given.get('hstsMaxAgeSeconds', '0')}"
        value += ";includeSubDomains" if is_on("hstsIncludeSubDomains", otherwise=False) else ""
        value += ";preload" if is_on("hstsPreload", otherwise=False) else ""
        yield Header("Strict-Transport-Security", value, "all", place)
    if is_on("antiClickJackingEnabled", otherwise=True):
        option = given.get("antiClickJackingOption", "DENY")
        uri = given.get("antiClickJackingUri", "")
        yield Header("X-Frame-Options", f"{option} {uri}".strip(), "all", place)
    if is_on("blockContentTypeSniffingEnabled", otherwise=True):
        yield Header("X-Content-Type-Options", "nosniff", "all", place)
    if is_on("xssProtectionEnabled", otherwise=bool(default("xss_header", release).value)):
        yield Header("X-XSS-Protection", "1; mode=block", "all", place)
