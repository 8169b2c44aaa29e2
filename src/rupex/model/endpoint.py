"""Endpoints: what answers at an address, a port and a set of server names, and how.

The same types describe what a configuration will do and what a listener was seen to do. Field names are those of
the documents ``rupex.run/1`` and ``rupex.effective/1``.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from datetime import datetime
from functools import cached_property, lru_cache
from typing import Literal

from msgspec import UNSET, Struct, UnsetType, field

from rupex.model.provenance import Provenance, Setting

ProtocolVersion = Literal["SSLv2", "SSLv3", "TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"]
Transport = Literal["tls", "plain", "quic", "passthrough"]
"""``passthrough``: what clients send goes on to another server as it is, so that this one can open no TLS in it."""

Match = Literal["any", "exact", "prefix", "regex", "folder", "file", "condition", "rule"]
Statuses = Literal["all"] | tuple[int, ...]


@lru_cache(maxsize=4096)
def is_loopback(address: str) -> bool:
    """Whether an address (IPv6 with or without brackets) or host name is the machine itself."""
    try:
        return ipaddress.ip_address(address.strip("[]")).is_loopback
    except ValueError:
        return address == "localhost"


class Header(Struct, frozen=True, gc=False):
    """A response header that is sent. ``on``: the status codes that carry it.

    ``value`` is as declared, with the server's own variables in it; ``unknown`` says why what is sent cannot be told.
    ``reflects``: a decoded part of the request that reaches the value unescaped, as the configuration names it.
    ``internal``: something of the inside that the value tells, such as the name of a back end. ``echoes``: the request
    header whose value it repeats unchecked.
    """

    name: str
    value: str
    on: Statuses
    provenance: Provenance
    unknown: str | UnsetType = UNSET
    reflects: str | UnsetType = UNSET
    internal: str | UnsetType = UNSET
    echoes: str | UnsetType = UNSET

    def is_on(self, status: int) -> bool:
        return self.on == "all" or status in self.on


class Dropped(Struct, frozen=True, gc=False):
    """A header that is declared, but not sent here, and why."""

    name: str
    value: str
    provenance: Provenance
    because: str


class RedirectSample(Struct, frozen=True, gc=False):
    """What a plain request for ``url`` is told: the concrete ``location``, or None where only run time knows.
    ``name``: the server name that it stands for, as declared."""

    url: str
    location: str | None
    name: str | None = None


class Redirect(Struct, frozen=True, dict=True):
    """An answer that sends the client elsewhere.

    ``location`` is the declared target with the server's variables; ``samples`` has what clients are really told, one
    request for each server name, so that a control need not know any server's variables; where unknown names are
    answered, ``stranger`` is the sample for one. ``reflects``: as for a header. ``tried``: of a listener, whether it was seen
    that line ends stay escaped, None where nobody tried.
    """

    status: int
    location: str
    provenance: Provenance
    samples: tuple[RedirectSample, ...] = ()
    stranger: RedirectSample | None = None
    reflects: str | None = None
    tried: Setting[bool] | None = None

    def told(self, name: str | None) -> RedirectSample | None:
        """What a request for the server name ``name`` is told; the first sample for a name without one."""
        return self._by_name.get(name) or (self.samples[0] if self.samples else None)

    @cached_property
    def _by_name(self) -> dict[str | None, RedirectSample]:
        return {sample.name: sample for sample in self.samples}


class Refusal(Struct, frozen=True, gc=False):
    """An answer without content: a 4xx status decided by configuration, or None where the connection is closed."""

    status: int | None
    provenance: Provenance


class Listing(Struct, frozen=True, gc=False):
    """Whether a folder without an index page shows its files; ``enabled`` None: unknown."""

    enabled: bool | None
    provenance: Provenance


class Backend(Struct, frozen=True, gc=False):
    """One machine that requests may be passed on to.

    ``address``: a host name, an IP address or ``unix:PATH``.
    ``tls``: whether the way there is encrypted.
    ``port``: None for a socket, or where only run time knows.
    ``verify``: whether its certificate and name are checked, None where that is said for all of an upstream, or without TLS.
    ``source``: where the address comes from: the configuration, a name that is looked up again and again, or a service that
    tells which machines there are.
    """

    address: str
    tls: bool
    provenance: Provenance
    port: int | None = None
    verify: Setting[bool] | None = None
    source: Literal["static", "dns", "discovery"] = "static"


class Upstream(Struct, frozen=True, kw_only=True):
    """Where a scope's requests are passed on to.

    ``hidden``: lower-case names of response headers that it may send, but that are taken out of the answer.
    ``backends``: the machines, empty where only run time knows.
    ``unknown``: why it cannot be told which machines these are.
    ``verified``: whether certificate and name of a TLS upstream are checked, None without TLS.
    ``chosen_by``: the part of the request that chooses the machine.
    ``keeps_errors``: its error pages are passed on.
    """

    url: str
    provenance: Provenance
    hidden: tuple[str, ...] = ()
    backends: tuple[Backend, ...] = field(name="legs", default=())
    unknown: str | None = None
    verified: Setting[bool] | None = None
    chosen_by: str | None = None
    keeps_errors: bool = True

    def verification_of(self, backend: Backend) -> Setting[bool] | None:
        """Whether the certificate of one of its machines is checked."""
        return self.verified if backend.verify is None else backend.verify


class DhParameters(Struct, frozen=True):
    """Finite-field parameters: ``bits`` of the prime; ``group``: its name where it is a known one (``ffdhe2048``,
    ``modp2048`` …); ``safe``: whether the prime is a safe one, None when that was not worked out."""

    bits: int
    group: str | None
    safe: bool | None


class TicketKeys(Struct, frozen=True):
    """What encrypts session tickets. ``rotates``: the server makes new keys by itself. ``file``: where keys lie, and
    ``since``: when that file was written; neither: the keys are as old as the process."""

    rotates: bool
    file: str | None = None
    since: datetime | None = None


class Limits(Struct, frozen=True):
    """Bounds against slow or endless clients: seconds to wait for a header, between two reads of a body, and on an idle
    connection; bytes of a body. A value of None: without a bound."""

    header_seconds: Setting[int]
    body_seconds: Setting[int]
    idle_seconds: Setting[int]
    body_bytes: Setting[int]


class Condition(Struct, frozen=True, gc=False):
    """What a request must have for a scope to be reached: ``value`` of a host, a path, a method, the header or parameter of a
    query called ``name``, a source address, or in a server's own words (``other``)."""

    what: Literal["host", "path", "method", "header", "query", "source", "other"]
    value: str
    name: str | None = None
    negated: bool = False


class Scope(Struct, frozen=True, kw_only=True, dict=True):
    """A part of an endpoint with an effective answer of its own, such as a location or a folder.

    ``path``: empty where ``match`` says that it has none.
    ``order``: the position in which the server tries it.
    ``rule``: the text of the rule by which it is chosen, where ``match`` is that.
    ``when``: what a request must have, all of it, beside what ``match`` and ``path`` say.
    ``names``: the server names for which this scope is reached, None for all of the endpoint's.
    ``content``: ``pages`` may hold documents, ``assets`` only what pages load (images, style sheets, fonts …).
    ``signature``: what the server's own error pages say about it.
    ``undecided``: why its answer cannot be told.
    ``errors``: the headers of a 404, None where they are those of any answer.
    ``closed``: whether only some clients may have it.
    ``exposes``: which files that nobody should get are served.
    ``methods``: those that are answered, None where no line limits them.
    ``overrides``: how far override files in its folders count, None where the server knows none.
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
    errors: tuple[Header, ...] | None = None
    closed: Setting[bool] | None = None
    role: Literal["status", "admin"] | None = None
    exposes: Setting[tuple[str, ...]] | None = None
    methods: Setting[tuple[str, ...]] | None = None
    overrides: Setting[Literal["off", "limited", "open"]] | None = None
    rule: str | UnsetType = UNSET
    when: tuple[Condition, ...] | UnsetType = UNSET

    @property
    def is_root(self) -> bool:
        """Whether it is the site itself, under one of its names or all of them, and no deeper part of it."""
        if self.match == "prefix":
            return self.path == "/"
        if self.match not in ("any", "condition", "rule"):
            return False
        return isinstance(self.when, UnsetType) or all(map(_lets_the_site_through, self.when))

    @property
    def serves_content(self) -> bool:
        """Whether requests get content here, and not only a redirect or a refusal."""
        return self.redirect is None and self.refusal is None

    @property
    def on_errors(self) -> tuple[Header, ...]:
        """The headers of an answer with status 404."""
        return tuple(header for header in (self.headers if self.errors is None else self.errors) if header.is_on(404))

    def sent(self, name: str) -> list[Header]:
        """The headers called ``name`` (any case), in the order sent."""
        return self._by_name.get(name.lower(), [])

    @cached_property
    def _by_name(self) -> dict[str, list[Header]]:
        found: dict[str, list[Header]] = {}
        for header in self.headers:
            found.setdefault(header.name.lower(), []).append(header)
        return found

    def may_come_from_upstream(self, name: str) -> bool:
        """Whether a server behind this one can send the header ``name``, and have it passed on."""
        return self.upstream is not None and name.lower() not in self.upstream.hidden


def _lets_the_site_through(condition: Condition) -> bool:
    """Whether a condition is met by an ordinary request for the front page of some name."""
    if condition.what == "host":
        return not condition.negated
    return condition.what == "path" and condition.value == "/" and not condition.negated


class CertificateUse(Struct, frozen=True, gc=False):
    """A certificate and its key as one endpoint uses them.

    ``certificate``, ``key``: files, relative to the host tree; None for what is in no file of it.
    ``kind``: a file, an entry of the machine's own store, or one that the platform (``managed``) or the server itself
    (``automatic``) gets and renews.
    ``entry``: what the store or the configuration calls it, where it is no file.
    """

    certificate: str | None
    key: str | None
    provenance: Provenance
    key_provenance: Provenance | None = None
    kind: Literal["file", "store", "managed", "automatic"] | UnsetType = UNSET
    entry: str | UnsetType = UNSET


class Tls(Struct, frozen=True, kw_only=True):
    """What a TLS listener would negotiate. ``suites`` are IANA names in order of preference.

    ``dh``: the finite-field parameters of TLS 1.2 and older, None when there are none. ``signatures``: the schemes that
    the server would sign a handshake with. ``secure_renegotiation``: RFC 5746 is acknowledged;
    ``client_renegotiation``: a client may start one. ``fallback_signal``: RFC 7507 is obeyed. ``master_secret``: the
    extended one (RFC 7627) is used. ``client_certificate``: ``none`` is asked for, or it is ``verified``, or taken
    ``unverified``. ``refused``: a sentence for each reason why versions that are configured are not spoken. What is None was
    not looked at.
    """

    protocols: Setting[tuple[ProtocolVersion, ...]]
    suites: Setting[tuple[str, ...]]
    groups: Setting[tuple[str, ...]]
    preference: Setting[Literal["server", "client"]]
    tickets: Setting[bool]
    stapling: Setting[bool]
    compression: Setting[bool]
    alpn: Setting[tuple[str, ...]]
    certificates: tuple[CertificateUse, ...] = ()
    dh: Setting[DhParameters] | None = None
    signatures: Setting[tuple[str, ...]] | None = None
    secure_renegotiation: Setting[bool] | None = None
    client_renegotiation: Setting[bool] | None = None
    fallback_signal: Setting[bool] | None = None
    master_secret: Setting[bool] | None = None
    early_data: Setting[bool] | None = None
    ticket_keys: Setting[TicketKeys] | None = None
    client_certificate: Setting[Literal["none", "verified", "unverified"]] | None = None
    refused: tuple[str, ...] = ()


class Exchange(Struct, frozen=True):
    """One HTTP answer on the wire, a hop of a chain of redirects: ``location`` is absolute, None without one."""

    url: str
    status: int
    location: str | None
    headers: tuple[tuple[str, str], ...] = ()


class SentCertificate(Struct, frozen=True):
    """A certificate as a listener sent it."""

    subject: str
    issuer: str
    sha256: str
    not_before: datetime
    not_after: datetime


class WireFacts(Struct, frozen=True, kw_only=True):
    """What was asked of a listener, and what came as it came. ``connections`` and ``round_trips``: made and waited for, in
    ``seconds``; ``chains``: certificates in the order sent; ``signatures``: schemes of the handshakes seen; ``suites``: by
    protocol version; ``exchanges``: hops, of each URL that was followed; ``cached``: what tells that a cache answered;
    ``notes``: what else is worth knowing; ``ticket_key``: the name of the key that seals session tickets, where one was seen."""

    connections: int
    round_trips: int
    seconds: float
    chains: tuple[tuple[SentCertificate, ...], ...] = ()
    signatures: tuple[str, ...] = ()
    suites: dict[ProtocolVersion, tuple[str, ...]] = {}
    exchanges: tuple[tuple[Exchange, ...], ...] = ()
    cached: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    ticket_key: str | None = None


Stranger = Literal["refused", "redirect", "content"]
"""What a request for a name that nobody has gets; a redirect: to a name of the server's own."""


class Endpoint(Struct, frozen=True, kw_only=True, dict=True):
    """One address, port and set of server names that answers.

    ``id``: unique within a host.
    ``port``: None for a Unix socket, whose path is ``address``.
    ``default``: it answers for names that no other endpoint of the listener has.
    ``unused_certificates``: those that the virtual host configures although none of its listeners speaks TLS.
    ``refuses``: the line that makes it refuse every handshake, so that it has no answers.
    ``trace``: whether TRACE is answered.
    ``trusted_peers``: networks whose word about the client's address is taken; None where nobody's is.
    ``inode_etags``: whether an ETag tells a file's inode.
    ``stranger``: what unknown names get, where that was asked rather than read from the default endpoint.
    ``carries``: whether a listener was seen to act as a forward proxy for anybody.
    ``local``: whether only the machine itself reaches it, where the address does not tell.
    ``management``: what a port is for that serves no site, such as one to shut the server down (``control`` in JSON); only
    controls about such ports look at it.
    ``backends``: where what clients send goes on to, of one that answers no HTTP itself.
    ``http``: whether it answers HTTP; else what is spoken inside TLS is another server's matter.
    ``opened_here``: of a passthrough, whether the server that opens the TLS is one of this host, and judged there.
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
    refuses: Provenance | None = None
    trace: Setting[bool] | None = None
    trusted_peers: Setting[tuple[str, ...]] | None = None
    limits: Limits | None = None
    inode_etags: Setting[bool] | None = None
    stranger: Setting[Stranger] | None = None
    carries: Setting[bool] | None = None
    local: bool | None = None
    wire: WireFacts | None = None
    management: str | None = field(default=None, name="control")
    backends: tuple[Backend, ...] | UnsetType = UNSET
    http: bool | UnsetType = UNSET
    opened_here: bool | UnsetType = UNSET

    @property
    def answers_http(self) -> bool:
        return self.http is not False

    @cached_property
    def is_local(self) -> bool:
        """Reached only from the machine itself: a Unix socket or a loopback address."""
        return self.local if self.local is not None else self.port is None or is_loopback(self.address)

    def scopes_with_names(self) -> Iterator[tuple[Scope, str | None]]:
        """Each scope once for each server name that reaches it; None for an endpoint without names."""
        for scope in self.scopes:
            for name in (scope.names if scope.names is not None else self.names) or (None,):
                yield scope, name
