"""An httpd configuration as endpoints and scopes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from rupex.host.tree.paths import normalize_path
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
    unknown,
)
from rupex.model.budget import PER_MEMBER, spend
from rupex.servers.apache.answer import answer_request
from rupex.servers.apache.hosts import Listener, VirtualHost, listeners, read_listens, read_names, read_virtuals
from rupex.servers.apache.load import LoadedConfig, all_of, load, sections_of
from rupex.servers.apache.mapping import fixed_folder
from rupex.servers.apache.release import default, find_release
from rupex.servers.apache.scopes import ScopeReader
from rupex.servers.apache.sections import is_at, is_pattern
from rupex.servers.apache.surface import idle_modules, limits, packaged, trusted_peers
from rupex.servers.apache.syntax import Block, InstanceBlock
from rupex.servers.apache.template import is_opaque
from rupex.servers.apache.tls import TlsResolver, speaks_tls, tls_host
from rupex.servers.common.document_roots import OVERRIDE_FILE
from rupex.servers.common.endpoints import EndpointIds, by_certificate
from rupex.servers.common.groups import Endpoints, FromTemplate, resolve_members
from rupex.servers.common.templates import ReadOnce
from rupex.servers.contract import WHOLE, Answer, HostContext, Request, Share, Socket


class VirtualHostBinding(NamedTuple):
    """A virtual host at one of its listeners: what becomes one endpoint."""

    id: str
    listener: Listener
    virtual: VirtualHost


class ApacheConfiguration:
    """One httpd configuration, resolved. The protocol is :class:`~rupex.servers.contract.Configured`."""

    family = "apache"
    passes_to: tuple[Backend, ...] = ()

    def __init__(self, main_path: str, host_context: HostContext) -> None:
        self.main_path, self.host_context = main_path, host_context
        self.release = find_release(host_context)
        self.version = self.release.setting()
        self.sources: tuple[Source, ...] = (Source("config", self.family, self.version.value, main_path),)
        self.config: LoadedConfig = load(
            host_context.tree, main_path, self.release.number, uses_templates=host_context.uses_templates
        )
        problems = self.config.problems
        self.tls = TlsResolver(self.config, self.release, host_context)
        self.main, self.virtuals = read_virtuals(self.config)
        self.scopes = ScopeReader(
            self.config, self.release, host_context.library, host_context.tree, 1 + len(self.virtuals)
        )
        self.listeners = listeners(read_listens(self.config, problems), self.main, self.virtuals)
        self._main_is_opaque, self._common_folders = self._judge_main()
        self._roots_of, self._folder_words_of = ReadOnce(_said_roots), ReadOnce(_said_folders)
        self.members: list[VirtualHostBinding] = []
        self.id_of: dict[tuple[int, str, int], str] = {}
        if not self.listeners and not any(problem.hides_endpoints for problem in problems):
            words = "no Listen line in it or in what it includes, so nothing is known of what the host answers"
            problems.append(Problem("missing", main_path, None, words, hides_endpoints=True))
        self._find_members()
        self.texts: Mapping[str, str] = self.config.texts
        self.files: Mapping[str, tuple[Provenance, ...]] = {path: tuple(by) for path, by in self.config.files.items()}
        roots = frozenset(normalize_path(root) for root in self._document_roots())
        self.file_uses: tuple[FileUse, ...] = tuple(
            FileUse("override", f"{folder}/{OVERRIDE_FILE}")
            for root in sorted(roots)
            for folder in self.scopes.roots.below(root).overrides
        )
        self.services: tuple[Service, ...] = (
            Service("apache", self.version, self._workers(), idle_modules(self.config), document_roots=roots),
        )

    @property
    def problems(self) -> tuple[Problem, ...]:
        """Those of reading; override files are read when the endpoints are."""
        return tuple(self.config.problems)

    def _document_roots(self) -> Iterator[str]:
        for virtual in (self.main, *self.virtuals):
            for word in self._roots_of(virtual.directives):
                yield self.config.path(word)

    def _workers(self) -> Setting[str]:
        user = self.main.last("user")
        if user is None:
            return unknown("the account that the server was built with")
        if "${" in user.raw:
            return unknown(f"nothing in the tree says what {user.raw} stands for", user.provenance())
        return Setting(user.args[0] if user.args else "", user.provenance())

    def _find_members(self) -> None:
        ids = EndpointIds(self.family)
        for listener in self.listeners:
            for virtual in listener.virtuals:
                spend(PER_MEMBER)
                if listener.shadowed(virtual):
                    continue
                identity = ids.next(listener.address, listener.port, virtual.names)
                self.id_of[id(virtual), listener.address, listener.port] = identity
                self.members.append(VirtualHostBinding(identity, listener, virtual))
        # In the order in which they are declared, so that each part of them has of every kind.
        ordinals = {id(virtual): ordinal for ordinal, virtual in enumerate((self.main, *self.virtuals))}
        self.members.sort(key=lambda member: ordinals[id(member.virtual)])

    def certificate_uses(self) -> Mapping[CertificateUse, tuple[str, ...]]:
        return by_certificate(
            (use, member.id)
            for member in self.members
            if speaks_tls(self.config, member.listener)
            for use in self.tls.certificates(tls_host(self.config, member.listener, member.virtual))
        )

    def samples(self, endpoints: Iterable[Endpoint]) -> Iterator[Sample]:
        serving = {e.id for e in endpoints if any(scope.serves_content for scope in e.scopes)}
        seen: set[Sample] = set()
        for member in self.members:
            if member.id in serving:
                for sample in packaged(member.virtual):
                    if sample not in seen:
                        seen.add(sample)
                        yield sample

    def endpoints(self, share: Share = WHOLE, *, complete: bool = True) -> Endpoints:
        first, end = share.bounds(len(self.members))
        members = self.members[first:end]
        return resolve_members(
            members, self._endpoint, self._template_of, self.host_context.credentials, complete=complete
        )

    def _template_of(self, member: VirtualHostBinding) -> FromTemplate[VirtualHostBinding] | None:
        """The template that a member is written from; None where its answers may hang on what is in a name, or on more than what
        is in its file."""
        virtual, listener = member.virtual, member.listener
        block = virtual.directives
        if not isinstance(block, InstanceBlock) or listener.default is virtual or not self._main_is_opaque:
            return None
        if any(folder in self._common_folders for folder in self._folders_of(virtual)):
            return None
        is_tls = speaks_tls(self.config, listener)
        kind = self.tls.kind(tls_host(self.config, listener, virtual)) if is_tls else ()
        if kind is None:
            return None

        def model() -> VirtualHostBinding:
            host = VirtualHost(block.section, block.model, self.main, read_names(block.model))
            return VirtualHostBinding(member.id, listener, host)

        return FromTemplate((id(block.model), id(listener), kind), block.words, model)

    def _folders_of(self, virtual: VirtualHost) -> list[str]:
        """The folders that a virtual host of its own speaks of: roots, aliases, sections."""
        return ["/" + path for path in dict.fromkeys(map(self.config.path, self._folder_words_of(virtual.directives)))]

    def _judge_main(self) -> tuple[bool, frozenset[str]]:
        """Whether nothing that the main server says tells one virtual host from another by its name, and the folders of
        which it speaks, with those above them."""
        main = Block(directive for directive in self.main.directives if directive.key != "virtualhost")
        sections = sections_of(main, "directory", "directorymatch")
        patterns = [s for s in sections if s.key == "directorymatch" or is_pattern(s)]
        hidden = all(re.match(r"\^?\.\*/\\\.|/\\\.|\(\^\|/\)\\\.", s.args[-1]) for s in patterns if s.args)
        folders = {"/" + s.args[-1].strip("/") for s in sections_of(main, "directory") if s.args}
        above = {
            folder[:end] for folder in folders for end in range(len(folder) + 1) if folder[end : end + 1] in ("/", "")
        }
        return is_opaque(main) and hidden, frozenset(above)

    @property
    def sockets(self) -> frozenset[Socket]:
        return frozenset((listener.address, listener.port) for listener in self.listeners)

    def answer(self, request: Request) -> Answer | None:
        return answer_request(self, request)

    def why_idle(self, path: str, line: int) -> str | None:
        for skipped in self.config.skipped:
            if is_at(skipped.directive, path, line):
                return skipped.because
        reasons = (
            self.scopes.processor(virtual).sections.why_idle(path, line) for virtual in (self.main, *self.virtuals)
        )
        return next((reason for reason in reasons if reason is not None), None)

    def _endpoint(self, member: VirtualHostBinding) -> Endpoint:
        listener, virtual = member.listener, member.virtual
        is_tls = speaks_tls(self.config, listener)
        secured = tls_host(self.config, listener, virtual)
        has_own = next(all_of(virtual.directives, "sslcertificatefile"), None) is not None
        trace = virtual.last("traceenable")
        trace_default = default("TraceEnable", self.release)
        has_trace = (trace.word if trace is not None else str(trace_default.value)) != "off"
        tag = virtual.last("fileetag")
        words = (tag.word if tag is not None else str(default("FileETag", self.release).value).lower()).split()
        place = listener.listen.directive.provenance() if virtual.section is None else virtual.section.provenance()
        return Endpoint(
            id=member.id,
            family=self.family,
            address=listener.address,
            port=listener.port,
            names=virtual.names,
            default=listener.default is virtual,
            transport="tls" if is_tls else "plain",
            provenance=place,
            sources=("config",),
            tls=self.tls.resolve(listener, secured) if is_tls else None,
            scopes=tuple(self.scopes.of(listener, virtual)),
            unused_certificates=self.tls.certificates(virtual)
            if has_own and not (is_tls and secured is virtual)
            else (),
            trace=Setting(has_trace, trace_default.provenance if trace is None else trace.provenance()),
            trusted_peers=trusted_peers(self.config, virtual),
            limits=limits(self.config, virtual, self.release),
            inode_etags=Setting(
                any(word in ("inode", "+inode", "all") for word in words) and "none" not in words,
                default("FileETag", self.release).provenance if tag is None else tag.provenance(),
            ),
        )


def _said_roots(block: Block) -> tuple[str, ...]:
    """What is served, as written."""
    roots = [d.args[0] for d in all_of(block, "documentroot") if d.args]
    roots += [fixed_folder(d.args[0]) for d in all_of(block, "virtualdocumentroot") if d.args and d.args[0] != "none"]
    return (*roots, *(d.args[1] for d in all_of(block, "alias", "scriptalias") if len(d.args) > 1))


def _said_folders(block: Block) -> tuple[str, ...]:
    """The folders of which something is said, as written."""
    directives = block.named("documentroot", "alias", "aliasmatch", "scriptalias", "scriptaliasmatch", "directory")
    return tuple(directive.args[-1] for directive in directives if directive.args)
