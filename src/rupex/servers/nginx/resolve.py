"""An nginx configuration as endpoints and scopes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Final, Literal, NamedTuple

from msgspec import UNSET, structs

from rupex.http.assets import matches_only_assets
from rupex.http.sensitive import SAMPLES
from rupex.model import (
    Alike,
    CertificateUse,
    Dropped,
    Endpoint,
    Header,
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
from rupex.servers.alike import ByKind
from rupex.servers.exposure import ExposedFiles, exposed
from rupex.servers.family import WHOLE, Answer, Request, Share, Surroundings
from rupex.servers.kinds import endpoints_by_kind
from rupex.servers.nginx.access import access_of
from rupex.servers.nginx.answer import answer_request
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.content import Content
from rupex.servers.nginx.headers import HeaderReader, reflected_part
from rupex.servers.nginx.listeners import Listen, Listener, Virtual, read_listens, read_names
from rupex.servers.nginx.load import LoadedConfig, load
from rupex.servers.nginx.locations import Location, read_locations, scope_identity
from rupex.servers.nginx.process import HANDLERS, Outcome, Processor
from rupex.servers.nginx.release import default, directives_by_release, find_release
from rupex.servers.nginx.surface import LimitReader, idle_modules, packaged_page, trusted_peers
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.tls import TlsResolver, inherited
from rupex.servers.nginx.upstream import UpstreamReader
from rupex.servers.nginx.variables import DECODED, Exchange, names_in, read_definitions
from rupex.servers.patterns import UndeterminedError
from rupex.servers.samples import ANY_NAME, SAMPLE_QUERY, SAMPLE_TAIL

NOTHING_TOLD: Final[Mapping[str | None, Outcome]] = {}

_STATUS_PAGES: Final = frozenset({"stub_status", "vhost_traffic_status_display", "status", "api"})
_METHODS_ASKED: Final = ("GET", "HEAD", "POST", "PUT", "DELETE", "PATCH", "OPTIONS")


class Member(NamedTuple):
    """A server block at one of its listeners: what becomes one endpoint, with the ``id`` that it gets."""

    id: str
    listener: Listener
    virtual: Virtual
    listen: Listen


class NginxConfiguration:
    """One nginx configuration, resolved. The protocol is :class:`~rupex.servers.family.Configured`."""

    family = "nginx"
    overrides: tuple[str, ...] = ()
    stores: tuple[StoreUse, ...] = ()

    def __init__(self, main_path: str, around: Surroundings) -> None:
        self.main_path = main_path
        self.release = find_release(around)
        self.version = self.release.setting()
        self.config: LoadedConfig = load(around.tree, main_path)
        self.http = next(self.config.main.blocks("http"), self.config.main)
        self._roots_of = ByKind(_said_roots)
        self.tls = TlsResolver(self.config, self.http, self.release, around)
        self.listeners: dict[tuple[str, int | None, bool], Listener] = {}
        self.members: list[Member] = []
        self.id_of: dict[tuple[int, tuple[str, int | None, bool]], str] = {}
        self._processors: dict[int, Processor] = {}
        definitions = read_definitions(self.http)
        self.definitions = definitions
        self.content = Content(around.tree, "usr/share/nginx" if main_path.startswith("etc/") else self.config.folder)
        self.headers = HeaderReader(self.release, definitions)
        self.upstreams = UpstreamReader(self.http, self.release)
        self._limits = LimitReader(self.http, self.release)
        self._exposed = ExposedFiles(around.tree)
        self._no_trace = Setting(False, default_of(f"nginx {self.release}", "TRACE is answered with 405"))
        self._no_inodes = Setting(False, default_of(f"nginx {self.release}", "an ETag has time and size only"))
        problems: list[Problem] = self.config.problems
        listens_of, names_of = ByKind(read_listens), ByKind(read_names)
        for block in self.http.blocks("server"):
            listens, wrong = listens_of(block)
            problems += wrong
            virtual = Virtual(block, listens, names_of(block))
            for listen in listens:
                listener = self.listeners.get(listen.socket)
                if listener is None:
                    listener = self.listeners[listen.socket] = Listener(listen.address, listen.port, listen.quic)
                listener.add(virtual, listen)
        problems += self._unknown_to_release()
        if (
            not self.listeners
            and not any(self.config.main.blocks("http", "stream", "mail"))
            and self.config.main.children
        ):
            words = "no server block in it: a part of a configuration; name the main file that includes it"
            problems.append(Problem("missing", main_path, None, words, hides_endpoints=True))
        elif (
            not self.listeners
            and any(self.config.main.blocks("http"))
            and not any(problem.hides_endpoints for problem in problems)
        ):
            words = "no server block in it or in what it includes, so nothing is known of what the host answers"
            problems.append(Problem("missing", main_path, None, words, hides_endpoints=True))
        self._find_members()
        self.problems = tuple(problems)
        self.texts: Mapping[str, str] = self.config.texts
        self.files: Mapping[str, tuple[Provenance, ...]] = {
            path: tuple(named_by) for path, named_by in self.config.files.items()
        }
        idle = idle_modules(self.config.main)
        roots = frozenset(self._document_roots())
        self.services: tuple[Service, ...] = (
            Service("nginx", self.version, self._workers(), idle, document_roots=roots),
        )

    def _document_roots(self) -> Iterator[str]:
        """The folders that are served, as paths in the tree; those with variables in them are left out."""
        for words in (_said_roots(self.http), *map(self._roots_of, self.http.blocks("server"))):
            for word in words:
                if "$" not in word:
                    yield self.config.path(word)

    def _unknown_to_release(self) -> Iterator[Problem]:
        """Directives with which this release does not start, where the release is known."""
        if self.release.is_assumed:
            return
        suspects = directives_by_release()
        number = self.release.number

        def read(block: Block) -> tuple[Problem, ...]:
            found: list[Problem] = []
            for name, children in block.by_name.items():
                first = children[0]
                if isinstance(first, Block):
                    for child in children:
                        found += unknown_in(child) if isinstance(child, Block) else ()
                elif name in suspects:
                    since, until = suspects[name]
                    if (since is not None and number < since) or (until is not None and number >= until):
                        edge = f"came with {_dotted(since)}" if since is not None and number < since else "is gone"
                        words = f'"{name}" {edge}: nginx {self.release} does not start with it'
                        place = first.provenance()
                        found.append(Problem("syntax", place.file, place.line, words))
            return tuple(dict.fromkeys(found))

        unknown_in = ByKind(read)
        yield from unknown_in(self.config.main)

    def _workers(self) -> Setting[str]:
        directive = self.config.main.last("user")
        if directive is not None and directive.args:
            return Setting(directive.args[0], directive.provenance())
        return default("user", self.release)

    def samples(self, endpoints: Iterable[Endpoint]) -> Iterator[Sample]:
        """Packaged pages that are still served."""
        serving = {e.id for e in endpoints if any(scope.serves_content for scope in e.scopes)}
        for member in self.members:
            found = packaged_page(member.virtual) if member.id in serving else None
            if found is not None:
                yield found

    def _find_members(self) -> None:
        """The virtual hosts of each listener that somebody can reach, each with the id of its endpoint."""
        taken: dict[str, int] = {}
        for listener in self.listeners.values():
            if self._ssl_by_default_server(listener) is not None:
                listener.ssl = True
            for virtual, listen in listener.members:
                if listener.shadows(virtual):
                    continue
                where = listener.address if listener.port is None else f"{listener.address}:{listener.port}"
                identity = f"nginx:{where}/{virtual.names[0] if virtual.names else ''}"
                taken[identity] = taken.get(identity, 0) + 1
                if taken[identity] > 1:
                    identity += f"#{taken[identity]}"
                self.id_of[id(virtual), listen.socket] = identity
                self.members.append(Member(identity, listener, virtual, listen))
        ordinals = {id(block): ordinal for ordinal, block in enumerate(self.http.blocks("server"))}
        self.members.sort(key=lambda member: ordinals[id(member.virtual.block)])

    def endpoints(
        self, share: Share = WHOLE, *, outlines: bool = False
    ) -> tuple[tuple[Endpoint, ...], Mapping[str, Alike]]:
        """The endpoints of a share of the members, in the order in which their server blocks are declared."""
        first, end = share.bounds(len(self.members))
        members = self.members[first:end]
        return endpoints_by_kind(members, self._endpoint, self._kind_of, _source_of, outlines=outlines)

    def _kind_of(self, member: Member) -> tuple[object, ...] | None:
        """What members have in common that are one another under other names; None for one of no such kind."""
        block, listener = member.virtual.block, member.listener
        first, source = block.first, block.source
        if source is None or not source.tokens or listener.default is member.virtual:
            return None
        if self.definitions.tables or "ssl_stapling" in first.by_name or "ssl_stapling" in self.http.by_name:
            return None
        if "root" in self.http.by_name and "root" not in first.by_name:
            return None
        if any(map(self.content.has_root, self._roots_of(block))):
            return None
        kinds = self.tls.kinds(block) if listener.ssl else None
        by = member.listen.provenance
        return id(first), None if by is None else (by.file == source.path, by.line, by.column), id(listener), kinds

    def _ssl_by_default_server(self, listener: Listener) -> Directive | None:
        """``ssl on`` of the default server switches a whole listener, until it went with 1.25.1."""
        if self.release.number >= (1, 25, 1) or listener.default is None:
            return None
        directive, _ = inherited((self.http, listener.default.block), "ssl")
        return directive if directive is not None and directive.args == ("on",) else None

    def _endpoint(self, member: Member) -> Endpoint:
        listener, virtual, listen = member.listener, member.virtual, member.listen
        provenance = listen.provenance or virtual.block.provenance()
        chain = (self.http, virtual.block)
        has_tls = any(self.listeners[listen.socket].ssl for listen in virtual.listens)
        own = virtual.block.last("ssl_certificate") is not None
        refuses = self.tls.refuses(chain) if listener.ssl else None
        return Endpoint(
            id=member.id,
            family=self.family,
            address=listener.address,
            port=listener.port,
            names=virtual.names,
            default=listener.default is virtual,
            transport="quic" if listener.quic else "tls" if listener.ssl else "plain",
            provenance=provenance,
            sources=("config",),
            tls=self.tls.resolve(listener, virtual) if listener.ssl else None,
            scopes=() if refuses is not None else tuple(self._scopes(listener, virtual)),
            unused_certificates=self.tls.certificates(virtual.block) if own and not has_tls else (),
            refuses=refuses,
            trace=self._no_trace,
            trusted_peers=trusted_peers(chain),
            limits=self._limits.of(virtual.block),
            inode_etags=self._no_inodes,
        )

    def processor(self, virtual: Virtual) -> Processor:
        found = self._processors.get(id(virtual))
        if found is None:
            chain = (self.http, virtual.block)
            found = self._processors[id(virtual)] = Processor(chain, read_locations(chain), self.content)
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
                exchange = self._sample(listener, virtual, name, "/" + SAMPLE_TAIL)
                outcome = processor.answer(exchange, lenient=True)
                if outcome.by is not None and outcome.location is None and outcome.by.name in ("return", "rewrite"):
                    by_directive.setdefault(id(outcome.by), []).append((name, outcome))
                else:
                    remaining.append(name)
            for outcomes in by_directive.values():
                reached = tuple(name for name, _ in outcomes if name is not None)
                only_some = reached if len(outcomes) < len(names) else None
                told = dict(outcomes)
                scopes.append(self._scope(listener, virtual, None, len(scopes), only_some, reached or (None,), told))
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
        told: Mapping[str | None, Outcome] = NOTHING_TOLD,
    ) -> Scope:
        """One scope. ``told``: what was found out already, by server name."""
        processor = self.processor(virtual)
        path = _sample_path(location)
        exchange = self._sample(listener, virtual, names[0], path)
        known = told.get(names[0])
        outcome = processor.answer(exchange, location, lenient=True) if known is None else known
        chain = outcome.chain
        block = virtual.block if location is None else location.block
        sent, dropped = self.headers.of(chain)
        if any(header.unknown is not UNSET for header in sent):
            sent = tuple(_filled(sent, exchange))
        takes_any = listener.default is virtual or any(n is None or n[:1] in "~*." or n.endswith("*") for n in names)
        redirect = refusal = listing = upstream = None
        role: Literal["status", "admin"] | None = None
        if outcome.is_redirect and outcome.status is not None:
            redirect = self._redirect(listener, virtual, location, outcome, names, path, told)
        elif outcome.closed or (outcome.status is not None and 400 <= outcome.status < 500 and outcome.by is not None):
            place = block.provenance() if outcome.by is None else outcome.by.provenance()
            refusal = Refusal(outcome.status, place)
        elif outcome.handler is not None:
            upstream = self.upstreams.of(chain, takes_any)
            role = "status" if outcome.handler.name in _STATUS_PAGES else None
        elif outcome.by is None and outcome.unknown is None:
            if outcome.fallback is not None:
                upstream = self.upstreams.of(outcome.fallback.chain, takes_any)
            if upstream is None:
                listing = self._listing(chain)
        if outcome.status is not None and outcome.status >= 400:
            sent, dropped = _with_status(sent, dropped, outcome.status)
        identity, match = scope_identity(location)
        if location is None and only_names is not None:
            identity, match = f"condition:{'+'.join(only_names)}", "condition"
        is_assets = location is not None and location.kind == "regex" and matches_only_assets(location.pattern)
        serves_files = listing is not None and not is_assets
        return Scope(
            id=identity,
            match=match,
            path="" if location is None else location.pattern,
            order=order,
            provenance=block.provenance(),
            redirect=redirect,
            headers=sent,
            dropped=dropped,
            refusal=refusal,
            names=only_names,
            content="assets" if is_assets else "pages",
            listing=listing,
            upstream=upstream,
            signature=self.headers.signature(chain),
            undecided=outcome.unknown,
            errors=self._error_headers(listener, virtual, location, names[0], path, chain),
            closed=access_of(chain).closed(),
            role=role,
            exposes=self._exposes(listener, virtual, location, chain, exchange) if serves_files else None,
            methods=self._methods(listener, virtual, location, names[0], path) if redirect is None else None,
        )

    def _redirect(
        self,
        listener: Listener,
        virtual: Virtual,
        location: Location | None,
        outcome: Outcome,
        names: tuple[str | None, ...],
        path: str,
        told: Mapping[str | None, Outcome],
    ) -> Redirect:
        processor = self.processor(virtual)

        def sample(name: str | None) -> RedirectSample:
            exchange = self._sample(listener, virtual, name, path)
            url = f"{exchange.scheme}://{exchange.host}{_port_part(exchange)}{exchange.request_uri}"
            known = told.get(name)
            answer = processor.answer(exchange, location, lenient=True) if known is None else known
            return RedirectSample(url, answer.target, name)

        by, status = outcome.by, outcome.status
        assert status is not None
        place = outcome.chain[-1].provenance() if by is None else by.provenance()
        declared = outcome.target or "" if by is None or by.name == "location" else _declared_target(by)
        return Redirect(
            status,
            declared,
            place,
            tuple(map(sample, names)),
            sample(ANY_NAME) if listener.default is virtual else None,
            _reflected(by, declared, outcome.chain),
        )

    def _listing(self, chain: tuple[Block, ...]) -> Listing:
        directive, provenance = inherited(chain, "autoindex")
        if directive is not None and provenance is not None:
            return Listing(directive.args == ("on",), provenance)
        setting = default("autoindex", self.release)
        assert setting.provenance is not None
        return Listing(False, setting.provenance)

    def _error_headers(
        self,
        listener: Listener,
        virtual: Virtual,
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
        virtual: Virtual,
        location: Location | None,
        chain: tuple[Block, ...],
        exchange: Exchange,
    ) -> Setting[tuple[str, ...]] | None:
        """Which files that nobody should get are served; asked once for a server block, where most requests end."""
        if location is not None and not (location.kind == "prefix" and location.pattern == "/"):
            return None
        processor = self.processor(virtual)

        def is_refused(path: str) -> bool:
            asked = self._sample(listener, virtual, virtual.names[0] if virtual.names else None, path)
            outcome = processor.answer(asked, lenient=True)
            return outcome.closed or (outcome.status is not None and outcome.status in (401, 403, 404, 410))

        try:
            root = self.content.root_of(chain, exchange)
        except UndeterminedError:
            root = ""
        has_root = bool(root) and self.content.has_root(root)
        may_refuse = processor.rewrites or any(found.kind == "regex" for found in processor.locations)
        files = self._exposed.under(root) if has_root else None
        if not has_root and not may_refuse:
            return _NO_ROOT
        return exposed(files, has_root, is_refused, may_refuse)

    def _methods(
        self, listener: Listener, virtual: Virtual, location: Location | None, name: str | None, path: str
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
        taken = []
        for method in _METHODS_ASKED:
            exchange = self._sample(listener, virtual, name, path)
            exchange.method = method
            outcome = self.processor(virtual).answer(exchange, location)
            if not outcome.closed and (outcome.status is None or outcome.status < 400):
                taken.append(method)
        return Setting(tuple(taken), by.provenance())

    def _sample(self, listener: Listener, virtual: Virtual, name: str | None, path: str) -> Exchange:
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

    # What an assessment asks

    def certificate_uses(self) -> Mapping[CertificateUse, tuple[str, ...]]:
        found: dict[CertificateUse, list[str]] = {}
        for member in self.members:
            if member.listener.ssl or "ssl_certificate" in member.virtual.block.first.by_name:
                for use in self.tls.certificates(member.virtual.block):
                    found.setdefault(use, []).append(member.id)
        return {use: tuple(ids) for use, ids in found.items()}

    def answer(self, request: Request) -> Answer | None:
        return answer_request(self, request)


def _filled(sent: tuple[Header, ...], exchange: Exchange) -> Iterator[Header]:
    """Headers whose variables this request decides, with their values; an empty one is not sent."""
    for header in sent:
        if header.unknown is UNSET or header.echoes is not UNSET:
            yield header
            continue
        try:
            value = exchange.fill(header.value)
        except UndeterminedError:
            yield header
            continue
        if value:
            yield structs.replace(header, value=value, unknown=UNSET)


def _source_of(member: Member) -> tuple[str, tuple[str, ...]]:
    """The file in which a server block of a kind stands, and the words that are its own."""
    source = member.virtual.block.source
    assert source is not None
    return source.path, source.tokens


def _said_roots(block: Block) -> tuple[str, ...]:
    """The document roots of a server block and of what it holds, as written."""
    said = [d.args[0] for name in ("root", "alias") for d in block.all(name) if d.args]
    return (*said, *(root for inner in block.blocks("location", "if") for root in _said_roots(inner)))


def _dotted(release: tuple[int, ...]) -> str:
    return ".".join(map(str, release))


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
    usual = 443 if exchange.scheme == "https" else 80
    return "" if exchange.port in (None, usual) else f":{exchange.port}"


_NO_ROOT: Final[Setting[tuple[str, ...]]] = unknown(
    f"the document root is not in the tree, and nothing refuses a request for {SAMPLES[0]}"
)

__all__ = ["ANY_NAME", "HANDLERS", "NginxConfiguration"]
