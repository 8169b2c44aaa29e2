"""An nginx configuration as endpoints and scopes."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Final

from rupex.http.assets import matches_only_assets
from rupex.model import (
    CertificateUse,
    Endpoint,
    Header,
    Listing,
    Problem,
    Provenance,
    Redirect,
    RedirectSample,
    Refusal,
    Scope,
    Service,
    Setting,
    Upstream,
)
from rupex.servers.family import Answer, Request, Surroundings
from rupex.servers.nginx.answer import answer_request
from rupex.servers.nginx.headers import added_headers, server_header
from rupex.servers.nginx.listeners import Listener, Virtual, read_listens, read_names
from rupex.servers.nginx.load import Block, LoadedConfig, load
from rupex.servers.nginx.process import (
    UPSTREAM_DIRECTIVES,
    Location,
    Outcome,
    Processor,
    read_locations,
    scope_identity,
)
from rupex.servers.nginx.release import default, find_release
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.tls import TlsResolver, inherited
from rupex.servers.nginx.variables import Exchange

ANY_NAME: Final = "any-name.invalid"
"""The name asked for where a server block takes any (RFC 2606, 2)."""

SAMPLE_TAIL: Final = "pier-7"
SAMPLE_QUERY: Final = "tide=high"

# Response headers that nginx takes out of an upstream's answer by itself (ngx_http_proxy_module, proxy_hide_header).
_ALWAYS_HIDDEN: Final = ("date", "server", "x-pad")


class NginxConfiguration:
    """One nginx configuration, resolved. The protocol is :class:`~rupex.servers.family.Configured`."""

    family = "nginx"

    def __init__(self, main_path: str, around: Surroundings) -> None:
        self.main_path = main_path
        self.release = find_release(around)
        self.version = self.release.setting()
        self.config: LoadedConfig = load(around.tree, main_path)
        self.http = next(self.config.main.blocks("http"), self.config.main)
        self.tls = TlsResolver(self.config, self.release, around)
        self.listeners: dict[tuple[str, int | None, bool], Listener] = {}
        self.endpoint_of: dict[tuple[int, tuple[str, int | None, bool]], Endpoint] = {}
        self._processors: dict[int, Processor] = {}
        self._headers: dict[tuple[int, ...], tuple[object, ...]] = {}
        problems: list[Problem] = self.config.problems
        for block in self.http.blocks("server"):
            names, by = read_names(block)
            virtual = Virtual(block, read_listens(block, problems), names, by)
            for listen in virtual.listens:
                listener = self.listeners.get(listen.socket)
                if listener is None:
                    listener = self.listeners[listen.socket] = Listener(listen.address, listen.port, listen.quic)
                listener.add(virtual, listen)
        self.endpoints = tuple(self._endpoints())
        self.problems = tuple(problems)
        self.files: Mapping[str, tuple[Provenance, ...]] = {
            path: tuple(named_by) for path, named_by in self.config.files.items()
        }
        self.services: tuple[Service, ...] = (Service("nginx", self.version, self._workers()),)

    def _workers(self) -> Setting[str]:
        directive = self.config.main.last("user")
        if directive is not None and directive.args:
            return Setting(directive.args[0], directive.provenance())
        return default("user", self.release)

    def _endpoints(self) -> list[Endpoint]:
        found: list[Endpoint] = []
        taken: dict[str, int] = {}
        for listener in self.listeners.values():
            by_default = self._ssl_by_default_server(listener)
            if by_default is not None:
                listener.ssl = True
            for virtual, listen in listener.members:
                if listener.shadows(virtual):
                    continue
                where = listener.address if listener.port is None else f"{listener.address}:{listener.port}"
                identity = f"nginx:{where}/{virtual.names[0] if virtual.names else ''}"
                taken[identity] = taken.get(identity, 0) + 1
                if taken[identity] > 1:
                    identity += f"#{taken[identity]}"
                provenance = virtual.block.provenance() if listen.directive is None else listen.directive.provenance()
                endpoint = self._endpoint(identity, listener, virtual, provenance)
                self.endpoint_of[id(virtual), listen.socket] = endpoint
                found.append(endpoint)
        return found

    def _ssl_by_default_server(self, listener: Listener) -> Directive | None:
        """``ssl on`` of the default server switches a whole listener, until it went with 1.25.1."""
        if self.release.number >= (1, 25, 1) or listener.default is None:
            return None
        directive, _ = inherited((self.http, listener.default.block), "ssl")
        return directive if directive is not None and directive.args == ("on",) else None

    def _endpoint(self, identity: str, listener: Listener, virtual: Virtual, provenance: Provenance) -> Endpoint:
        chain = (self.http, virtual.block)
        has_tls = any(self.listeners[listen.socket].ssl for listen in virtual.listens)
        own = virtual.block.last("ssl_certificate") is not None
        return Endpoint(
            id=identity,
            family=self.family,
            address=listener.address,
            port=listener.port,
            names=virtual.names,
            default=listener.default is virtual,
            transport="quic" if listener.quic else "tls" if listener.ssl else "plain",
            provenance=provenance,
            sources=("config",),
            tls=self.tls.resolve(listener, virtual, self.http) if listener.ssl else None,
            scopes=tuple(self._scopes(listener, virtual)),
            unused_certificates=self.tls.certificates(chain) if own and not has_tls else (),
        )

    def processor(self, virtual: Virtual) -> Processor:
        found = self._processors.get(id(virtual))
        if found is None:
            chain = (self.http, virtual.block)
            found = self._processors[id(virtual)] = Processor(chain, read_locations(chain))
        return found

    # Scopes

    def _scopes(self, listener: Listener, virtual: Virtual) -> list[Scope]:
        processor = self.processor(virtual)
        names = virtual.names or (None,)
        scopes: list[Scope] = []
        remaining: list[str | None] = []
        if processor.rewrites:
            # The server's own rewrite directives come before any location: names for which they decide are done.
            by_directive: dict[int, list[tuple[str | None, Outcome]]] = {}
            for name in names:
                outcome = processor.answer(_sample(listener, virtual, name, "/" + SAMPLE_TAIL))
                if outcome.by is not None and outcome.location is None and outcome.by.name in ("return", "rewrite"):
                    by_directive.setdefault(id(outcome.by), []).append((name, outcome))
                else:
                    remaining.append(name)
            for outcomes in by_directive.values():
                reached = tuple(name for name, _ in outcomes if name is not None)
                only_some = reached if len(outcomes) < len(names) else None
                scopes.append(self._scope(listener, virtual, None, len(scopes), only_some, reached or (None,)))
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
        virtual: Virtual,
        location: Location | None,
        order: int,
        only_names: tuple[str, ...] | None,
        names: tuple[str | None, ...],
    ) -> Scope:
        processor = self.processor(virtual)
        path = _sample_path(location)
        samples: list[RedirectSample] = []
        outcome: Outcome | None = None
        for name in names:
            exchange = _sample(listener, virtual, name, path)
            url = f"{exchange.scheme}://{exchange.host}{_port_part(exchange)}{exchange.request_uri}"
            result = processor.answer(exchange, location)
            outcome = outcome or result
            if result.is_redirect:
                samples.append(RedirectSample(url, result.target))
        assert outcome is not None
        chain = outcome.chain
        block = virtual.block if location is None else location.block
        headers, dropped = added_headers(chain)
        tokens = server_header(chain, self.release)
        assert tokens.value is not None
        assert tokens.provenance is not None
        redirect = refusal = listing = None
        upstream = _upstream(chain)
        if outcome.is_redirect and outcome.by is not None and outcome.status is not None:
            redirect = Redirect(outcome.status, _declared_target(outcome.by), outcome.by.provenance(), tuple(samples))
        elif outcome.closed or (outcome.status is not None and 400 <= outcome.status < 500):
            assert outcome.by is not None
            refusal = Refusal(outcome.status, outcome.by.provenance())
        if redirect or refusal or outcome.by is not None:
            upstream = None
        elif upstream is None and outcome.unknown is None:
            directive, provenance = inherited(chain, "autoindex")
            if directive is not None and provenance is not None:
                listing = Listing(directive.args == ("on",), provenance)
            else:
                setting = default("autoindex", self.release)
                assert setting.provenance is not None
                listing = Listing(False, setting.provenance)
        identity, match = scope_identity(location)
        if location is None and only_names is not None:
            identity, match = f"condition:{'+'.join(only_names)}", "condition"
        is_assets = location is not None and location.kind == "regex" and matches_only_assets(location.pattern)
        return Scope(
            id=identity,
            match=match,
            path="" if location is None else location.pattern,
            order=order,
            provenance=block.provenance(),
            redirect=redirect,
            headers=(Header("Server", tokens.value, "all", tokens.provenance), *headers),
            dropped=dropped,
            refusal=refusal,
            names=only_names,
            content="assets" if is_assets else "pages",
            listing=listing,
            upstream=upstream,
            signature=tokens,
            undecided=outcome.unknown,
        )

    # What an assessment asks

    def certificate_uses(self) -> Mapping[CertificateUse, tuple[str, ...]]:
        found: dict[CertificateUse, list[str]] = {}
        for endpoint in self.endpoints:
            uses = endpoint.tls.certificates if endpoint.tls is not None else endpoint.unused_certificates
            for use in uses:
                found.setdefault(use, []).append(endpoint.id)
        return {use: tuple(ids) for use, ids in found.items()}

    def answer(self, request: Request) -> Answer | None:
        return answer_request(self, request)


def _outside(locations: list[Location]) -> Iterator[Location]:
    """Locations that a client can reach, with those inside them, in order of declaration."""
    for location in locations:
        if not location.is_internal:
            yield location
        yield from _outside(location.children)


def _declared_target(by: Directive) -> str:
    if by.name == "rewrite":
        return by.args[1]
    return by.args[-1]


def _sample_path(location: Location | None) -> str:
    if location is None or location.kind == "regex":
        return "/" + SAMPLE_TAIL
    if location.kind == "exact":
        return location.pattern
    return location.pattern + (SAMPLE_TAIL if location.pattern.endswith("/") else "")


def _sample(listener: Listener, virtual: Virtual, name: str | None, path: str) -> Exchange:
    """A plain client's request for ``name`` to this listener. A wildcard name stands for one below it."""
    host = ANY_NAME if name in (None, "", "_") or str(name).startswith("~") else str(name)
    host = f"any{host}" if host.startswith(".") else host.replace("*", "any")
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
    )


def _port_part(exchange: Exchange) -> str:
    usual = 443 if exchange.scheme == "https" else 80
    return "" if exchange.port in (None, usual) else f":{exchange.port}"


def _upstream(chain: tuple[Block, ...]) -> Upstream | None:
    for name in UPSTREAM_DIRECTIVES:
        directive = chain[-1].last(name)
        if directive is not None and directive.args:
            prefix = name.removesuffix("_pass")
            hiding = next(
                (list(b.all(f"{prefix}_hide_header")) for b in reversed(chain) if b.last(f"{prefix}_hide_header")), []
            )
            hidden = {d.args[0].lower() for d in hiding if d.args}
            passing = next(
                (list(b.all(f"{prefix}_pass_header")) for b in reversed(chain) if b.last(f"{prefix}_pass_header")), []
            )
            passed = {d.args[0].lower() for d in passing if d.args}
            url = directive.args[0] if "://" in directive.args[0] else f"{prefix}://{directive.args[0]}"
            return Upstream(url, directive.provenance(), tuple(sorted((hidden | set(_ALWAYS_HIDDEN)) - passed)))
    return None
