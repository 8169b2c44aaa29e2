"""What a server family provides."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Final, Protocol

from msgspec import Struct

from rupex.host import CredentialStore, HostTree
from rupex.model import (
    Backend,
    CertificateUse,
    ClientCertificate,
    Endpoint,
    FileUse,
    Problem,
    Provenance,
    Sample,
    Service,
    Setting,
    Source,
)
from rupex.servers.common.groups import Endpoints
from rupex.tls.openssl import Library


class HostContext(Struct, frozen=True):
    """What a configuration is read with: the host tree, its credentials, the crypto library, and what the user says of
    versions that the tree does not show (family or ``openssl`` to a version such as ``1.18``). ``uses_templates``: sites that
    are written from one template are resolved once."""

    tree: HostTree
    credentials: CredentialStore
    library: Library
    assumed: Mapping[str, str]
    uses_templates: bool = True


class Request(Struct, frozen=True, kw_only=True):
    """A request as a client would send it. ``address``: the address and port it is sent to, None for any listener
    that takes it. ``source``: the address it comes from, None where that is not said. ``account``: the one with whose
    right password it logs in where it is asked to, None for none. ``certificate``: the one
    that the client shows where it is asked for one. ``status``: ask for the headers of an answer with this
    status."""

    method: str = "GET"
    scheme: str
    name: str
    port: int
    path: str
    query: str | None = None
    headers: tuple[tuple[str, str], ...] = ()
    address: str | None = None
    source: str | None = None
    account: str | None = None
    certificate: ClientCertificate | None = None
    status: int | None = None


class Because(Struct, frozen=True):
    """One step of an answer's reason."""

    message: str
    provenance: Provenance


class UncertainHeader(Struct, frozen=True):
    """A header of which it is not known whether it is sent, or with which value. ``value``: as the configuration has it; ``why``
    it is not known."""

    name: str
    value: str
    why: str


class Answer(Struct, frozen=True, kw_only=True):
    """What a server will answer to one request. ``status`` None: content, not configuration, decides it.

    ``headers``: those that are sent; ``uncertain``: those that may be. ``closed``: the connection is closed without an answer.
    ``unknown``: why the answer cannot be told further.
    """

    endpoint: str
    scope: str
    transport: str
    status: int | None = None
    location: str | None = None
    headers: tuple[tuple[str, str], ...] = ()
    uncertain: tuple[UncertainHeader, ...] = ()
    why: tuple[Because, ...] = ()
    closed: bool = False
    unknown: str | None = None


class Share(Struct, frozen=True):
    """A contiguous part of a configuration, from 0 (its start) to 1 (its end), so that several cores can work on it."""

    start: float = 0.0
    end: float = 1.0

    @property
    def is_first(self) -> bool:
        return self.start == 0

    def bounds(self, size: int) -> tuple[int, int]:
        """The first item of ``size`` that belongs to this share, and the first behind it."""
        return round(size * self.start), round(size * self.end)


WHOLE: Final = Share()

Socket = tuple[str, int | None]
"""An address and its TCP port; the path of a Unix socket, and None."""


class Configured(Protocol):
    """A configuration as one family understands it."""

    family: str
    version: Setting[str]
    main_path: str
    """The file at which reading begins."""
    sources: tuple[Source, ...]
    """What it was read from: one source for each file, or service, at which reading begins."""
    services: tuple[Service, ...]

    @property
    def problems(self) -> tuple[Problem, ...]:
        """What could not be read so far; more may be met on the way to the endpoints."""
        ...

    files: Mapping[str, tuple[Provenance, ...]]
    texts: Mapping[str, str]
    """The files that could be read, as text."""
    file_uses: tuple[FileUse, ...]
    """Other files that it uses: override files below document roots, read or not; key stores."""

    @property
    def sockets(self) -> frozenset[Socket]:
        """Where it accepts connections of which it opens what is sent."""
        ...

    @property
    def passes_to(self) -> tuple[Backend, ...]:
        """Where it passes connections on to without opening what is sent."""
        ...

    def endpoints(self, share: Share = WHOLE, *, complete: bool = True) -> Endpoints:
        """The endpoints of a share of the virtual hosts, in order. ``complete``: each written out, and no groups."""
        ...

    def samples(self, endpoints: Iterable[Endpoint]) -> Iterable[Sample]:
        """What came with the package and is still served by one of ``endpoints``."""
        ...

    def certificate_uses(self) -> Mapping[CertificateUse, tuple[str, ...]]:
        """Each certificate and key that the configuration names, with the ids of the endpoints that use it."""
        ...

    def answer(self, request: Request) -> Answer | None:
        """What ``request`` gets; None when nothing listens where it is sent."""
        ...

    def why_idle(self, path: str, line: int) -> str | None:
        """Why a line of a file in the tree is not read or does not hold; None where it does, or nothing more is known of it."""
        ...


class Family(Protocol):
    """One kind of server."""

    name: str

    def find(self, tree: HostTree, start: str) -> list[str]:
        """The main files of this family's configurations in ``tree``, below ``start`` (``""``: anywhere). ``start`` may
        be such a file itself, by any name."""
        ...

    def looks_like(self, text: str) -> bool:
        """Whether ``text`` is written in this family's language, as far as one file can tell."""
        ...

    def resolve(self, main_path: str, host_context: HostContext) -> Configured:
        """Read the configuration that starts at ``main_path``. Never raises for what is in it."""
        ...
