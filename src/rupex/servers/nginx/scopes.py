"""The scopes of a server block: what its locations answer, one after the other."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Final

from msgspec import UNSET, structs

from rupex.http.sensitive import SAMPLES
from rupex.model import (
    Dropped,
    Header,
    Listing,
    Redirect,
    RedirectSample,
    Refusal,
    Scope,
    Setting,
    unknown,
)
from rupex.model.budget import PER_SCOPE, spend
from rupex.servers.common.document_roots import DocumentRoots, exposed
from rupex.servers.common.inventory import affecting
from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.common.samples import ANY_NAME, SAMPLE_QUERY, SAMPLE_TAIL
from rupex.servers.common.scopes import Part, Reply, Role, redirect_samples, scope_of
from rupex.servers.nginx.access import AccessReader
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.content import Content
from rupex.servers.nginx.headers import BY_EXPIRES, HeaderReader, cache_control, reflected_part
from rupex.servers.nginx.inventory import InventoryReader
from rupex.servers.nginx.listeners import Listener, VirtualHost
from rupex.servers.nginx.locations import Location, read_locations, scope_identity
from rupex.servers.nginx.process import LISTS_FOLDERS, Outcome, Processor
from rupex.servers.nginx.release import Release, default
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.tls import inherited
from rupex.servers.nginx.upstream import UpstreamReader
from rupex.servers.nginx.variables import DECODED, Exchange, is_constant, names_in, read_definitions

NONE_KNOWN: Final[Mapping[str | None, Outcome]] = {}

_STATUS_PAGES: Final = frozenset({"stub_status", "vhost_traffic_status_display", "status", "api"})
_METHODS_ASKED: Final = ("GET", "HEAD", "POST", "PUT", "DELETE", "PATCH", "OPTIONS")


class ScopeReader:
    """Reads the scopes of server blocks, each at one of its listeners."""

    def __init__(self, http: Block, release: Release, content: Content) -> None:
        self.http, self.release, self.content = http, release, content
        self.definitions = read_definitions(http)
        self.inventory = InventoryReader()
        self.headers = HeaderReader(release, self.definitions, self.inventory)
        self._upstreams = UpstreamReader(http, release)
        self._roots = DocumentRoots(content.tree, len(list(http.all("server"))))
        self._access = AccessReader()
        self._processors: dict[int, Processor] = {}

    def processor(self, virtual: VirtualHost) -> Processor:
        found = self._processors.get(id(virtual))
        if found is None:
            chain = (self.http, virtual.block)
            found = self._processors[id(virtual)] = Processor(
                chain, read_locations(chain), self.content, self._access, self.inventory
            )
        return found

    def of(self, listener: Listener, virtual: VirtualHost) -> list[Scope]:
        processor = self.processor(virtual)
        names = virtual.names or (None,)
        scopes: list[Scope] = []
        remaining: list[str | None] = []
        if processor.rewrites:
            # The server's own rewrite directives come before any location: names for which they decide are done.
            by_directive: dict[int, list[tuple[str | None, Outcome]]] = {}
            for name in names:
                exchange = self._sample(listener, virtual, name, "/" + SAMPLE_TAIL)
                outcome = processor.answer(exchange, lenient=True)
                if outcome.by is not None and outcome.location is None and outcome.by.name in ("return", "rewrite"):
                    by_directive.setdefault(id(outcome.by), []).append((name, outcome))
                else:
                    remaining.append(name)
            for outcomes in by_directive.values():
                reached = tuple(name for name, _ in outcomes if name is not None)
                only_some = reached if len(outcomes) < len(names) else None
                scopes.append(
                    self._scope(listener, virtual, None, len(scopes), only_some, reached or (None,), dict(outcomes))
                )
        else:
            remaining = list(names)
        if not remaining:
            return scopes
        reached = tuple(name for name in remaining if name is not None)
        only_some = reached if len(remaining) < len(names) else None
        locations = list(_outside(processor.locations))
        covers_all = any(location.kind == "prefix" and location.pattern == "/" for location in processor.locations)
        for location in locations if covers_all else [*locations, None]:
            scopes.append(self._scope(listener, virtual, location, len(scopes), only_some, reached or (None,)))
        return scopes

    def _scope(
        self,
        listener: Listener,
        virtual: VirtualHost,
        location: Location | None,
        order: int,
        only_names: tuple[str, ...] | None,
        names: tuple[str | None, ...],
        outcomes: Mapping[str | None, Outcome] = NONE_KNOWN,
    ) -> Scope:
        """One scope. ``outcomes``: those that are found already, by server name."""
        spend(PER_SCOPE)
        path = _sample_path(location)
        exchange = self._sample(listener, virtual, names[0], path)
        outcome = outcomes.get(names[0]) or self.processor(virtual).answer(exchange, location, lenient=True)
        chain = outcome.chain
        block = virtual.block if location is None else location.block
        identity, match = scope_identity(location)
        pattern = "" if location is None else location.pattern
        part = Part(identity, match, pattern, order, block.provenance(), only_names)
        reply = self._reply(listener, virtual, location, outcome, names, path, outcomes)
        sent, dropped = self._headers(outcome, exchange)
        serves_files = reply.listing is not None and not part.is_assets
        return structs.replace(
            scope_of(part, reply),
            headers=sent,
            dropped=dropped,
            signature=self.headers.signature(chain),
            undecided=outcome.unknown,
            errors=self._error_headers(listener, virtual, location, names[0], path, chain),
            closed=self._closed(chain, listener, exchange),
            exposes=self._exposes(listener, virtual, location, chain, exchange) if serves_files else None,
            methods=None if reply.redirect is not None else self._methods(listener, virtual, location, names[0], path),
        )

    def _closed(self, chain: tuple[Block, ...], listener: Listener, exchange: Exchange) -> Setting[bool] | None:
        """Whether strangers are kept out, where a line says so."""
        certificate, place = inherited(chain[:2], "ssl_verify_client")
        if listener.ssl and certificate is not None and certificate.args == ("on",):
            return Setting(True, place)
        said = self._access.of(chain).closed(exchange)
        if said is not None and said.value:
            return said
        for one in affecting(self.inventory.of(chain), frozenset(("access",))):
            return unknown(str(one), one.provenance)
        return said

    def _reply(
        self,
        listener: Listener,
        virtual: VirtualHost,
        location: Location | None,
        outcome: Outcome,
        names: tuple[str | None, ...],
        path: str,
        outcomes: Mapping[str | None, Outcome],
    ) -> Reply:
        status, by = outcome.status, outcome.by
        if outcome.is_redirect and status is not None:
            return Reply(redirect=self._redirect(listener, virtual, location, outcome, names, path, outcomes))
        if outcome.closed or (status is not None and 400 <= status < 500 and by is not None):
            block = virtual.block if location is None else location.block
            return Reply(refusal=Refusal(status, block.provenance() if by is None else by.provenance()))
        takes_any = listener.default is virtual or any(n is None or n[:1] in "~*." or n.endswith("*") for n in names)
        if outcome.handler is not None:
            role: Role | None = "status" if outcome.handler.name in _STATUS_PAGES else None
            return Reply(upstream=self._upstreams.of(outcome.chain, takes_any), role=role)
        if by is not None or outcome.unknown is not None:
            return Reply()
        upstream = None if outcome.fallback is None else self._upstreams.of(outcome.fallback.chain, takes_any)
        return Reply(listing=self._listing(outcome.chain)) if upstream is None else Reply(upstream=upstream)

    def _headers(self, outcome: Outcome, exchange: Exchange) -> tuple[tuple[Header, ...], tuple[Dropped, ...]]:
        """The headers of a scope's answers, filled in for a sample request, and those that are declared and never sent."""
        sent, dropped = self.headers.of(outcome.chain)
        if any(header.unknown is not UNSET for header in sent):
            exchange.content_type = outcome.content_type
            sent = tuple(_filled(sent, exchange))
        if outcome.status is not None and outcome.status >= 400:
            sent, dropped = _with_status(sent, dropped, outcome.status)
        return sent, dropped

    def _redirect(
        self,
        listener: Listener,
        virtual: VirtualHost,
        location: Location | None,
        outcome: Outcome,
        names: tuple[str | None, ...],
        path: str,
        outcomes: Mapping[str | None, Outcome],
    ) -> Redirect:
        processor = self.processor(virtual)

        def sample(name: str | None) -> RedirectSample:
            exchange = self._sample(listener, virtual, name, path)
            url = f"{exchange.scheme}://{exchange.host}{_port_part(exchange)}{exchange.request_uri}"
            answer = outcomes.get(name) or processor.answer(exchange, location, lenient=True)
            return RedirectSample(url, answer.target, name)

        by, status = outcome.by, outcome.status
        assert status is not None
        place = outcome.chain[-1].provenance() if by is None else by.provenance()
        declared = outcome.target or "" if by is None or by.name == "location" else _declared_target(by)
        samples, unnamed = redirect_samples(names, sample, is_default=listener.default is virtual)
        return Redirect(status, declared, place, samples, unnamed, _reflected(by, declared, outcome.chain))

    def _listing(self, chain: tuple[Block, ...]) -> Listing:
        said = None
        for name in LISTS_FOLDERS:
            directive, provenance = inherited(chain, name)
            if directive is not None and provenance is not None and (said is None or directive.args == ("on",)):
                said = Listing(directive.args == ("on",), provenance)
        if said is not None:
            return said
        setting = default("autoindex", self.release)
        assert setting.provenance is not None
        return Listing(False, setting.provenance)

    def _error_headers(
        self,
        listener: Listener,
        virtual: VirtualHost,
        location: Location | None,
        name: str | None,
        path: str,
        chain: tuple[Block, ...],
    ) -> tuple[Header, ...] | None:
        """The headers of a 404 where an error page answers with other ones."""
        if not any("error_page" in block.by_name for block in chain):
            return None
        outcome = self.processor(virtual).error_answer(self._sample(listener, virtual, name, path), location, 404)
        return self.headers.of(outcome.chain).sent if outcome.chain != chain else None

    def _exposes(
        self,
        listener: Listener,
        virtual: VirtualHost,
        location: Location | None,
        chain: tuple[Block, ...],
        exchange: Exchange,
    ) -> Setting[tuple[str, ...]] | None:
        """Which files that nobody should get are served; asked once for a server block, where most requests end."""
        if location is not None and not (location.kind == "prefix" and location.pattern == "/"):
            return None
        processor = self.processor(virtual)

        def is_refused(path: str) -> bool:
            request = self._sample(listener, virtual, virtual.names[0] if virtual.names else None, path)
            outcome = processor.answer(request, lenient=True)
            return outcome.closed or (outcome.status is not None and outcome.status in (401, 403, 404, 410))

        try:
            root = self.content.root_of(chain, exchange)
        except UndeterminedError:
            root = ""
        has_root = bool(root) and self.content.has_root(root)
        may_refuse = processor.rewrites or any(found.kind == "regex" for found in processor.locations)
        if not has_root and not may_refuse:
            return _NO_ROOT
        return exposed(self._roots.below(root) if has_root else None, is_refused, may_refuse)

    def _methods(
        self, listener: Listener, virtual: VirtualHost, location: Location | None, name: str | None, path: str
    ) -> Setting[tuple[str, ...]] | None:
        """The methods that are answered, where a line limits them."""
        by = None
        for block in (location.block if location is not None else virtual.block, virtual.block):
            by = next(block.blocks("limit_except"), None) or next(
                (b for b in block.blocks("if") if any("$request_method" in word for word in b.args)), None
            )
            if by is not None:
                break
        if by is None:
            return None
        allowed = []
        for method in _METHODS_ASKED:
            exchange = self._sample(listener, virtual, name, path)
            exchange.method = method
            outcome = self.processor(virtual).answer(exchange, location)
            if not outcome.closed and (outcome.status is None or outcome.status < 400):
                allowed.append(method)
        return Setting(tuple(allowed), by.provenance())

    def _sample(self, listener: Listener, virtual: VirtualHost, name: str | None, path: str) -> Exchange:
        """A plain client's request for ``name`` to this listener. A wildcard name stands for one below it."""
        host = ANY_NAME if not name or name == "_" or name[0] == "~" else name
        if host[0] == "." or "*" in host:
            host = f"any{host}" if host[0] == "." else host.replace("*", "any")
        return Exchange(
            method="GET",
            scheme="https" if listener.ssl else "http",
            host=host,
            host_header=host,
            port=listener.port,
            address=listener.address,
            uri=path,
            args=SAMPLE_QUERY,
            request_uri=f"{path}?{SAMPLE_QUERY}",
            server_name=virtual.names[0] if virtual.names else "",
            definitions=self.definitions,
        )


def _filled(sent: tuple[Header, ...], exchange: Exchange) -> Iterator[Header]:
    """Headers whose variables this request decides, with their values; an empty one is not sent."""
    for header in sent:
        if header.unknown is UNSET or header.echoes is not UNSET or is_constant(header.value):
            yield header
            continue
        try:
            value = exchange.fill(header.value)
        except UndeterminedError:
            yield header
            continue
        doubt = ""
        if header.value.startswith(BY_EXPIRES):
            value, doubt = cache_control(value.removeprefix(BY_EXPIRES))
        if value:
            yield structs.replace(header, value=value, unknown=doubt or UNSET)


def _with_status(
    sent: tuple[Header, ...], dropped: tuple[Dropped, ...], status: int
) -> tuple[tuple[Header, ...], tuple[Dropped, ...]]:
    """Headers of a block that always answers with ``status``: those that are never sent there are dropped."""
    lost = tuple(
        Dropped(
            header.name, header.value, header.provenance, f"every answer here has status {status}, which it is not for"
        )
        for header in sent
        if not header.is_on(status)
    )
    return (tuple(header for header in sent if header.is_on(status)), dropped + lost) if lost else (sent, dropped)


def _outside(locations: list[Location]) -> Iterator[Location]:
    """Locations that hold answers of their own, with those inside them, in order of declaration: those that a client can
    reach, and named ones that take what no file answers."""
    targets = {
        found.args[-1]
        for location in locations
        for found in (location.block.last("try_files"),)
        if found is not None and found.args
    }
    for location in locations:
        if not location.is_internal or location.pattern in targets:
            yield location
        yield from _outside(location.children)


def _declared_target(by: Directive) -> str:
    if by.name == "rewrite":
        return by.args[1]
    return by.args[-1] if by.args else ""


def _reflected(by: Directive | None, declared: str, chain: tuple[Block, ...]) -> str | None:
    """The decoded part of the request that reaches a redirect's target; captures of a ``rewrite`` are escaped again."""
    if by is None:
        return None
    if by.name == "rewrite":
        return next((f"${name}" for name in names_in(declared) if name in DECODED), None)
    return reflected_part(declared, chain)


def _sample_path(location: Location | None) -> str:
    if location is None or location.kind in ("regex", "named"):
        return "/" + SAMPLE_TAIL
    if location.kind == "exact":
        return location.pattern
    return location.pattern + (SAMPLE_TAIL if location.pattern.endswith("/") else "")


def _port_part(exchange: Exchange) -> str:
    default_port = 443 if exchange.scheme == "https" else 80
    return "" if exchange.port in (None, default_port) else f":{exchange.port}"


_NO_ROOT: Final[Setting[tuple[str, ...]]] = unknown(
    f"the document root is not in the tree, and nothing refuses a request for {SAMPLES[0]}"
)
