"""An nginx configuration as endpoints and scopes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from functools import partial
from itertools import chain
from typing import Final, NamedTuple

from rupex.model import (
    Backend,
    CertificateUse,
    Endpoint,
    FileUse,
    Problem,
    Provenance,
    Sample,
    Service,
    Setting,
    Source,
    default_of,
)
from rupex.model.budget import PER_MEMBER, ExhaustedError, spend, work_at
from rupex.servers.common.endpoints import EndpointIds, by_certificate
from rupex.servers.common.groups import Endpoints, FromTemplate, resolve_members
from rupex.servers.common.templates import ReadOnce
from rupex.servers.contract import WHOLE, Answer, HostContext, Request, Share, Socket
from rupex.servers.nginx.answer import answer_request
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.content import Content
from rupex.servers.nginx.inventory import known
from rupex.servers.nginx.listeners import Listen, Listener, VirtualHost, read_listens, read_names
from rupex.servers.nginx.load import LoadedConfig, load
from rupex.servers.nginx.release import Release, default, directives_by_release, find_release
from rupex.servers.nginx.scopes import ScopeReader
from rupex.servers.nginx.stream import StreamReader
from rupex.servers.nginx.surface import LimitReader, idle_modules, packaged_page, trusted_peers
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.tls import TlsResolver, inherited

_OTHER_PROTOCOLS: Final = {"mail": "mail protocols", "rtmp": "RTMP"}


class VirtualHostBinding(NamedTuple):
    """A server block at one of its listeners: what becomes one endpoint, with the ``id`` that it gets."""

    id: str
    listener: Listener
    virtual: VirtualHost
    listen: Listen


class NginxConfiguration:
    """One nginx configuration, resolved. The protocol is :class:`~rupex.servers.contract.Configured`."""

    family = "nginx"
    file_uses: tuple[FileUse, ...] = ()

    def __init__(self, main_path: str, host_context: HostContext) -> None:
        self.main_path = main_path
        self.release = find_release(host_context)
        self.version = self.release.setting()
        self.sources: tuple[Source, ...] = (Source("config", self.family, self.version.value, main_path),)
        self.config: LoadedConfig = load(host_context.tree, main_path, uses_templates=host_context.uses_templates)
        self.http = next(self.config.main.blocks("http"), self.config.main)
        self._roots_of = ReadOnce(_said_roots)
        self.tls = TlsResolver(self.config, self.http, self.release, host_context)
        self.listeners: dict[tuple[str, int | None, bool], Listener] = {}
        self.members: list[VirtualHostBinding] = []
        self._known_tls: dict[int, bool] = {}
        self.id_of: dict[tuple[int, tuple[str, int | None, bool]], str] = {}
        content = Content(host_context.tree, "usr/share/nginx" if main_path.startswith("etc/") else self.config.folder)
        self.scopes = ScopeReader(self.http, self.release, content)
        self._limits = LimitReader(self.http, self.release)
        self._no_trace = Setting(False, default_of(f"nginx {self.release}", "TRACE is answered with 405"))
        self._no_inodes = Setting(False, default_of(f"nginx {self.release}", "an ETag has time and size only"))
        problems: list[Problem] = self.config.problems
        self._listens_of, self._names_of = ReadOnce(read_listens), ReadOnce(read_names)
        self._model_virtuals: dict[int, VirtualHost] = {}
        for block in self.http.blocks("server"):
            spend(PER_MEMBER)
            listens, wrong = self._listens_of(block)
            problems += wrong
            virtual = VirtualHost(block, listens, self._names_of(block))
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
        stream = next(self.config.main.blocks("stream"), None)
        self.stream = None if stream is None else StreamReader(self.config, stream, self.release, host_context)
        if self.stream is not None:
            problems += self.stream.problems
        for block in self.config.main.blocks("mail", "rtmp"):
            place = block.provenance()
            words = f"the servers in this block speak {_OTHER_PROTOCOLS[block.name]}, which Rupex does not look at"
            problems.append(Problem("unmodelled", place.file, place.line, words, hides_endpoints=True))
        for name, found in self.config.main.by_name.items():
            if self.http is not self.config.main and not known(name, "main").modules:
                place = found[0].provenance()
                words = f"{name} is no directive that Rupex knows"
                problems.append(Problem("unmodelled", place.file, place.line, words, isinstance(found[0], Block)))
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
        yield from _unsuited(self.release, self.config.main, ReadOnce(partial(_unsuited, self.release)))

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
        ids = EndpointIds(self.family)
        for listener in self.listeners.values():
            if self._ssl_by_default_server(listener) is not None:
                listener.ssl = True
            for virtual, listen in listener.members:
                spend(PER_MEMBER)
                if listener.shadows(virtual):
                    continue
                identity = ids.next(listener.address, listener.port, virtual.names)
                self.id_of[id(virtual), listen.socket] = identity
                self.members.append(VirtualHostBinding(identity, listener, virtual, listen))
        ordinals = {id(block): ordinal for ordinal, block in enumerate(self.http.blocks("server"))}
        self.members.sort(key=lambda member: ordinals[id(member.virtual.block)])

    def endpoints(self, share: Share = WHOLE, *, complete: bool = True) -> Endpoints:
        """The endpoints of a share of the members, in the order in which their server blocks are declared."""
        first, end = share.bounds(len(self.members))
        members = self.members[first:end]
        found = resolve_members(
            members, self._endpoint, self._template_of, self.tls.host_context.credentials, complete=complete
        )
        if self.stream is None or end < len(self.members):
            return found
        work_at("the stream block")
        with suppress(ExhaustedError):
            return Endpoints((*found.alone, *self.stream.endpoints()), found.groups)
        return found

    def _template_of(self, member: VirtualHostBinding) -> FromTemplate[VirtualHostBinding] | None:
        """The template that a member is written from; None where its answers may hang on what is in a name, or on more than what
        is in its file."""
        block, listener = member.virtual.block, member.listener
        if block.words is None or listener.default is member.virtual or self.scopes.definitions.tables:
            return None
        if "ssl_stapling" in self.http.by_name or ("root" in self.http.by_name and "root" not in block.model.by_name):
            return None
        kinds = self.tls.kinds(block) if listener.ssl else None
        which = member.virtual.listens.index(member.listen)

        def model() -> VirtualHostBinding:
            virtual = self._model_virtual(block.model)
            return VirtualHostBinding(member.id, listener, virtual, virtual.listens[which])

        return FromTemplate((id(block.model), id(listener), which, kinds), block.words, model)

    def _model_virtual(self, model: Block) -> VirtualHost:
        found = self._model_virtuals.get(id(model))
        if found is None:
            found = self._model_virtuals[id(model)] = VirtualHost(
                model, self._listens_of(model)[0], self._names_of(model)
            )
        return found

    def _ssl_by_default_server(self, listener: Listener) -> Directive | None:
        """``ssl on`` of the default server switches a whole listener, until it went with 1.25.1."""
        if self.release.number >= (1, 25, 1) or listener.default is None:
            return None
        directive, _ = inherited((self.http, listener.default.block), "ssl")
        return directive if directive is not None and directive.args == ("on",) else None

    def _endpoint(self, member: VirtualHostBinding) -> Endpoint:
        listener, virtual, listen = member.listener, member.virtual, member.listen
        provenance = listen.provenance or virtual.block.provenance()
        chain = (self.http, virtual.block)
        has_own = virtual.block.last("ssl_certificate") is not None
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
            scopes=() if refuses is not None else tuple(self.scopes.of(listener, virtual)),
            unused_certificates=self.tls.certificates(virtual.block) if has_own and not self._has_tls(virtual) else (),
            refuses=refuses,
            trace=self._no_trace,
            trusted_peers=trusted_peers(chain),
            limits=self._limits.of(virtual.block),
            inode_etags=self._no_inodes,
        )

    def _has_tls(self, virtual: VirtualHost) -> bool:
        """Whether a server block has a listener that speaks TLS."""
        found = self._known_tls.get(id(virtual))
        if found is None:
            found = any(self.listeners[listen.socket].ssl for listen in virtual.listens)
            self._known_tls[id(virtual)] = found
        return found

    # What an assessment asks

    def certificate_uses(self) -> Mapping[CertificateUse, tuple[str, ...]]:
        own = (
            (use, member.id)
            for member in self.members
            if member.listener.ssl or "ssl_certificate" in member.virtual.block.model.by_name
            for use in self.tls.certificates(member.virtual.block)
        )
        return by_certificate(chain(own, () if self.stream is None else self.stream.certificate_uses()))

    @property
    def sockets(self) -> frozenset[Socket]:
        opened = () if self.stream is None else (one for one in self.stream.listeners.values() if one.ssl)
        return frozenset((one.address, one.port) for one in (*self.listeners.values(), *opened))

    @property
    def passes_to(self) -> tuple[Backend, ...]:
        return () if self.stream is None else self.stream.passes_to()

    def why_idle(self, path: str, line: int) -> str | None:
        return None

    def answer(self, request: Request) -> Answer | None:
        answer = answer_request(self, request)
        return self.stream.answer(request) if answer is None and self.stream is not None else answer


def _said_roots(block: Block) -> tuple[str, ...]:
    """The document roots of a server block and of what it holds, as written."""
    roots = [d.args[0] for name in ("root", "alias") for d in block.all(name) if d.args]
    return (*roots, *(root for inner in block.blocks("location", "if") for root in _said_roots(inner)))


def _unsuited(
    release: Release, block: Block, once: ReadOnce[Block, tuple[Problem, ...]] | None = None
) -> tuple[Problem, ...]:
    """The directives of a block, and of those inside, with which a release does not start; ``once`` reads those of a template."""
    found: list[Problem] = []
    for name, children in block.by_name.items():
        first = children[0]
        if isinstance(first, Block):
            for child in children:
                if isinstance(child, Block):
                    found += _unsuited(release, child, once) if once is None or child.words is None else once(child)
        elif name in directives_by_release():
            since, until = directives_by_release()[name]
            is_too_new = since is not None and release.number < since
            if is_too_new or (until is not None and release.number >= until):
                reason = f"came with {_dotted(since)}" if is_too_new and since is not None else "is gone"
                place = first.provenance()
                words = f'"{name}" {reason}: nginx {release} does not start with it'
                found.append(Problem("syntax", place.file, place.line, words))
    return tuple(dict.fromkeys(found))


def _dotted(release: tuple[int, ...]) -> str:
    return ".".join(map(str, release))
