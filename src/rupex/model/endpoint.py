"""Endpoints: what answers at an address, a port and a set of server names, and how.

The same types describe what a configuration will do and what a listener was seen to do. Field names are those of
the documents ``rupex.run/1`` and ``rupex.effective/1``.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from typing import Literal

from msgspec import UNSET, Struct, UnsetType, field

from rupex.model.provenance import Provenance, Setting

ProtocolVersion = Literal["SSLv2", "SSLv3", "TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"]
Transport = Literal["tls", "plain", "quic"]
Match = Literal["any", "exact", "prefix", "regex", "folder", "file", "condition"]
Statuses = Literal["all"] | tuple[int, ...]


class Header(Struct, frozen=True, gc=False):
    """A response header that is sent. ``on``: the status codes that carry it.

    ``value`` is as declared, with the server's own variables in it; ``unknown`` says why what is sent cannot be told.
    """

    name: str
    value: str
    on: Statuses
    provenance: Provenance
    unknown: str | UnsetType = UNSET

    def is_on(self, status: int) -> bool:
        return self.on == "all" or status in self.on


class Dropped(Struct, frozen=True, gc=False):
    """A header that is declared, but not sent here, and why."""

    name: str
    value: str
    provenance: Provenance
    because: str


class RedirectSample(Struct, frozen=True, gc=False):
    """What a plain request for ``url`` is told: the concrete ``location``, or None where only run time knows."""

    url: str
    location: str | None


class Redirect(Struct, frozen=True, gc=False):
    """An answer that sends the client elsewhere.

    ``location`` is the declared target with the server's variables; ``samples`` has what clients are really told, one
    request for each server name, so that a control need not know any server's variables.
    """

    status: int
    location: str
    provenance: Provenance
    samples: tuple[RedirectSample, ...] = ()


class Refusal(Struct, frozen=True, gc=False):
    """An answer without content: a 4xx status decided by configuration, or None where the connection is closed."""

    status: int | None
    provenance: Provenance


class Listing(Struct, frozen=True, gc=False):
    """Whether a folder without an index page shows its files; ``enabled`` None: unknown."""

    enabled: bool | None
    provenance: Provenance


class Upstream(Struct, frozen=True, gc=False):
    """Where a scope's requests are passed on to. ``hidden``: lower-case names of response headers that it may send,
    but that are taken out of the answer."""

    url: str
    provenance: Provenance
    hidden: tuple[str, ...] = ()


class Scope(Struct, frozen=True, kw_only=True):
    """A part of an endpoint with an effective answer of its own, such as a location or a folder.

    ``order``: the position in which the server tries it. ``content``: ``pages`` may hold documents, ``assets`` only
    what pages load (images, style sheets, fonts …). ``names``: the server names for which this scope is reached, None
    for all of the endpoint's. ``signature``: what the server's own error pages say about it.
    """

    id: str
    match: Match
    path: str
    order: int
    provenance: Provenance
    redirect: Redirect | None = None
    headers: tuple[Header, ...] = ()
    dropped: tuple[Dropped, ...] = ()
    refusal: Refusal | None = None
    names: tuple[str, ...] | None = None
    content: Literal["pages", "assets"] = "pages"
    listing: Listing | None = None
    upstream: Upstream | None = None
    signature: Setting[str] | None = None
    undecided: str | None = None

    @property
    def serves_content(self) -> bool:
        """Whether requests get content here, and not only a redirect or a refusal."""
        return self.redirect is None and self.refusal is None

    def sent(self, name: str) -> list[Header]:
        """The headers called ``name`` (any case), in the order sent."""
        wanted = name.lower()
        return [header for header in self.headers if header.name.lower() == wanted]

    def may_come_from_upstream(self, name: str) -> bool:
        """Whether a server behind this one can send the header ``name``, and have it passed on."""
        return self.upstream is not None and name.lower() not in self.upstream.hidden


class CertificateUse(Struct, frozen=True, gc=False):
    """A certificate file and its key as one endpoint uses them; paths relative to the host tree."""

    certificate: str | None
    key: str | None
    provenance: Provenance
    key_provenance: Provenance | None = None


class Tls(Struct, frozen=True, kw_only=True):
    """What a TLS listener would negotiate. ``suites`` are IANA names in order of preference."""

    protocols: Setting[tuple[ProtocolVersion, ...]]
    suites: Setting[tuple[str, ...]]
    groups: Setting[tuple[str, ...]]
    preference: Setting[Literal["server", "client"]]
    tickets: Setting[bool]
    stapling: Setting[bool]
    compression: Setting[bool]
    alpn: Setting[tuple[str, ...]]
    certificates: tuple[CertificateUse, ...] = ()


class Endpoint(Struct, frozen=True, kw_only=True):
    """One address, port and set of server names that answers.

    ``id`` is unique within a host. ``port`` None: a Unix socket, whose path is ``address``. ``default``: it answers
    for names that no other endpoint of the listener has. ``unused_certificates``: those that the virtual host
    configures although none of its listeners speaks TLS.
    """

    id: str
    family: str | None
    address: str
    port: int | None
    names: tuple[str, ...]
    default: bool
    transport: Transport
    provenance: Provenance
    sources: tuple[Literal["config", "wire"], ...]
    tls: Tls | None = None
    scopes: tuple[Scope, ...] = ()
    unused_certificates: tuple[CertificateUse, ...] = field(default=())

    @property
    def is_local(self) -> bool:
        """Reached only from the machine itself: a Unix socket or a loopback address."""
        if self.port is None:
            return True
        try:
            return ipaddress.ip_address(self.address).is_loopback
        except ValueError:
            return self.address == "localhost"

    def scopes_with_names(self) -> Iterator[tuple[Scope, str | None]]:
        """Each scope once for each server name that reaches it; None for an endpoint without names."""
        for scope in self.scopes:
            for name in (scope.names if scope.names is not None else self.names) or (None,):
                yield scope, name
