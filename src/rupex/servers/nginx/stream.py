"""The ``stream`` block: what is passed on byte by byte, or with TLS taken off before (ngx_stream_core_module and its kin)."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import structs

from rupex.model import Backend, CertificateUse, Endpoint, Problem, Setting, Tls, default_of
from rupex.model.budget import PER_ENDPOINT, PER_NAME, spend
from rupex.servers.common.endpoints import EndpointIds
from rupex.servers.contract import Answer, Because, HostContext, Request
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.inventory import InventoryReader
from rupex.servers.nginx.listeners import Listener, VirtualHost, read_listens
from rupex.servers.nginx.load import LoadedConfig
from rupex.servers.nginx.release import Release
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.tls import TlsResolver, inherited
from rupex.servers.nginx.upstream import UpstreamReader
from rupex.servers.nginx.variables import Table, read_definitions

_ASKED_NAME = "$ssl_preread_server_name"
_FIRST_WITH_NAMES = (1, 25, 5)
"""From this release on a server of ``stream`` has names of its own, which TLS on its listener is chosen by."""


class StreamReader:
    """Reads the servers of a ``stream`` block.

    ``listeners``: by address, port and whether it is UDP.
    ``problems``: lines that nginx would not take.
    """

    def __init__(self, config: LoadedConfig, stream: Block, release: Release, host_context: HostContext) -> None:
        self.stream, self.release = stream, release
        self._tls = TlsResolver(config, stream, release, host_context, "stream")
        self._inventory = InventoryReader("stream")
        self._upstreams = UpstreamReader(stream, release)
        self._tables = read_definitions(stream).tables
        self.listeners: dict[tuple[str, int | None, bool], Listener] = {}
        self.problems: list[Problem] = []
        for block in stream.blocks("server"):
            listens, problems = read_listens(block, stream=True)
            self.problems += problems
            for one in self._inventory.of((stream, block)):
                if "status" in one.effects:
                    place = one.provenance
                    words = f"{one.name} is not modelled, and may decide where connections go"
                    self.problems.append(Problem("unmodelled", place.file, place.line, words, hides_endpoints=True))
            virtual = VirtualHost(block, listens, self._names(block))
            for listen in listens:
                listener = self.listeners.setdefault(listen.socket, Listener(listen.address, listen.port, listen.quic))
                listener.add(virtual, listen)

    def _names(self, block: Block) -> tuple[str, ...]:
        if self.release.number < _FIRST_WITH_NAMES:
            return ()
        return tuple(dict.fromkeys(name.lower() for found in block.all("server_name") for name in found.args))

    def endpoints(self) -> Iterator[Endpoint]:
        """What the servers make of their listeners; one for each group of names that goes on to the same place."""
        ids = EndpointIds("nginx")
        for listener in self.listeners.values():
            for virtual, listen in listener.members:
                for endpoint in self._endpoints(listener, virtual):
                    spend(PER_ENDPOINT + PER_NAME * len(endpoint.names))
                    identity = ids.next(listener.address, listener.port, endpoint.names)
                    place = listen.provenance or virtual.block.provenance()
                    yield structs.replace(endpoint, id=identity, provenance=place)

    def _endpoints(self, listener: Listener, virtual: VirtualHost) -> Iterator[Endpoint]:
        block = virtual.block
        bare = Endpoint(
            id="",
            family="nginx",
            address=listener.address,
            port=listener.port,
            names=virtual.names,
            default=listener.default is virtual,
            transport="tls" if listener.ssl else "passthrough",
            provenance=block.provenance(),
            sources=("config",),
            tls=self._settings(listener, virtual) if listener.ssl else None,
            refuses=self._tls.refuses((self.stream, block)) if listener.ssl else None,
            http=False,
        )
        directive = block.last("proxy_pass")
        if directive is None or not directive.args:
            yield structs.replace(bare, backends=())
            return
        table = self._tables.get(directive.args[0].removeprefix("$")) if directive.args[0].startswith("$") else None
        if listener.ssl or table is None or table.source != _ASKED_NAME:
            words = [directive.args[0]] if table is None else [*table.exact.values(), table.default]
            yield structs.replace(bare, backends=tuple(self._backends(words, directive, block)))
            return
        for names, word in _by_target(table):
            backends = tuple(self._backends([word], directive, block))
            yield structs.replace(bare, names=names, default=bare.default and not names, backends=backends)

    def _settings(self, listener: Listener, virtual: VirtualHost) -> Tls:
        """The TLS settings of a server; protocols inside TLS are offered where it names them only."""
        alpn, place = inherited((self.stream, virtual.block), "ssl_alpn")
        by_default = default_of(f"nginx {self.release}", "a stream server offers no protocols")
        offered = Setting(() if alpn is None else alpn.args, place or by_default)
        return structs.replace(self._tls.resolve(listener, virtual), alpn=offered)

    def _backends(self, words: list[str], directive: Directive, block: Block) -> Iterator[Backend]:
        """The machines that the values of a ``proxy_pass`` stand for; none for what only run time knows."""
        encrypts, _ = inherited((self.stream, block), "proxy_ssl")
        for word in dict.fromkeys(words):
            if word and "$" not in word:
                tls = encrypts is not None and encrypts.args == ("on",)
                for backend in self._upstreams.backends_at(word, tls, directive):
                    verify = self._upstreams.verified("proxy", (self.stream, block)) if tls else None
                    yield structs.replace(backend, verify=verify)

    def answer(self, request: Request) -> Answer | None:
        """What a request gets that is sent to one of the servers: what it is passed on to decides that."""
        every = ("0.0.0.0", "[::]")  # noqa: S104  nginx's own spelling
        name = request.name.lower().rstrip(".")
        met = [
            endpoint
            for endpoint in self.endpoints()
            if endpoint.port == request.port and request.address in (None, endpoint.address)
        ] or [endpoint for endpoint in self.endpoints() if endpoint.port == request.port and endpoint.address in every]
        named = [endpoint for endpoint in met if name in endpoint.names]
        found = next(iter(named or [e for e in met if not e.names] or met), None)
        if found is None:
            return None
        backends = found.backends if isinstance(found.backends, tuple) else ()
        where = (
            ", ".join(f"{b.address}:{b.port}" if b.port else b.address for b in backends)
            or "a server known at run time"
        )
        words = "without being opened" if found.transport == "passthrough" else "when TLS is taken off"
        because = Because(f"what is sent goes on to {where} {words}", found.provenance)
        return Answer(
            endpoint=found.id,
            scope="",
            transport=found.transport,
            why=(because,),
            unknown=f"{where} decides the answer",
        )

    def passes_to(self) -> tuple[Backend, ...]:
        """Where connections go on to that are not opened here."""
        found: list[Backend] = []
        for endpoint in self.endpoints():
            if endpoint.transport == "passthrough" and isinstance(endpoint.backends, tuple):
                found += endpoint.backends
        return tuple(found)

    def certificate_uses(self) -> Iterator[tuple[CertificateUse, str]]:
        """Each certificate of a server, with the id of its endpoint."""
        for endpoint in self.endpoints():
            for use in endpoint.tls.certificates if endpoint.tls is not None else ():
                yield use, endpoint.id


def _by_target(table: Table) -> Iterator[tuple[tuple[str, ...], str]]:
    """The names that a map sends to the same target, each with it; no names: all others."""
    names: dict[str, list[str]] = {}
    for name, target in table.exact.items():
        names.setdefault(target, []).append(name)
    for pattern, _, target in table.patterns:
        names.setdefault(target, []).append(f"~{pattern}")
    for target, some in names.items():
        yield tuple(some), target
    yield (), table.default
