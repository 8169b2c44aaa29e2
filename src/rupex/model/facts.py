"""What is known of a host besides its endpoints: services, files with their owners, certificates and keys."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Literal

from msgspec import Struct, field

from rupex.model.endpoint import Endpoint
from rupex.model.problem import Problem
from rupex.model.provenance import Provenance, Setting, unknown
from rupex.model.schedule import Schedule
from rupex.model.templates import Group

FileKind = Literal[
    "configuration", "certificate", "key", "document root", "deployment", "acme store", "override", "keystore"
]


class Source(Struct, frozen=True, omit_defaults=True):
    """Where evidence came from: a configuration (``family``, ``version``, ``path``) or a listener (``address``)."""

    kind: Literal["config", "wire"]
    family: str | None = None
    version: str | None = None
    path: str | None = None
    address: str | None = None


class Service(Struct, frozen=True):
    """A server program of the host. ``workers``: the account that handles requests. ``idle_modules``: loaded modules of
    which the configuration uses nothing; None where the family has no modules. ``opens_keys``: the account that reads private
    keys, None for root. ``document_roots``: folders of which it serves files."""

    family: str
    version: Setting[str]
    workers: Setting[str]
    idle_modules: Setting[tuple[str, ...]] | None = None
    opens_keys: Setting[str] | None = None
    document_roots: frozenset[str] = frozenset()


class Sample(Struct, frozen=True):
    """Something that came with a package and is no content of the host's own: a default ``page``, a sample or test
    ``application``, a factory ``account``."""

    kind: Literal["page", "application", "account"]
    name: str
    provenance: Provenance


class Renewal(Struct, frozen=True):
    """A job that renews certificates: its ``name``, whether it is ``enabled``, and whether it ``reloads`` the server after.
    ``schedule``: when it runs, None where that is not a calendar. ``covers``: the real paths of the certificates that it
    renews, None where its client does not say. ``hooks``: it runs something after that may put them elsewhere."""

    name: str
    enabled: bool
    reloads: bool
    provenance: Provenance
    schedule: Schedule | None = None
    covers: tuple[str, ...] | None = None
    hooks: bool = False


class CertificateLifetime(Struct, frozen=True):
    """How long a certificate is valid: the ``days`` of its whole life, its end, its path, and where links lead from there."""

    path: str
    days: int
    not_after: datetime
    real: str | None = None


Reach = Literal["open", "limited", "closed", "unknown"]
"""Whom a packet filter lets connect: everybody, some addresses only, nobody."""


class PortRange(Struct, frozen=True):
    """TCP ports, both ends included, that are treated alike: whom a packet filter lets connect, and the rule that decides."""

    first: int
    last: int
    reach: Setting[Reach]


class Firewall(Struct, frozen=True):
    """The packet filters in force, by ``name``, and whom they let connect, over all ports in order."""

    name: str
    ranges: tuple[PortRange, ...]

    def reach(self, port: int) -> Setting[Reach]:
        return next(
            (ports.reach for ports in self.ranges if ports.first <= port <= ports.last), unknown("no such port")
        )


class Listening(Struct, frozen=True):
    """A TCP socket that accepts connections."""

    address: str
    port: int


class Audience(Struct, frozen=True):
    """Who can do something with a file, root left aside: ``everyone``, or the named ``accounts``.

    ``because`` tells where it comes from (``mode 0644``, ``group ssl-cert``); ``closed_by`` names a folder on the way
    that keeps strangers out although the file's own mode would let them in.
    """

    everyone: bool
    accounts: tuple[str, ...]
    because: str
    closed_by: str | None = None


class FolderFacts(Struct, frozen=True):
    """A folder on the way to a file. ``writers``: who may put files in it, and take them out; None: not worked out."""

    path: str
    mode: int
    owner: Setting[str]
    group: Setting[str]
    writers: Setting[Audience] | None = None


class SecretPlace(Struct, frozen=True):
    """Where a secret stands in clear in a text: its ``line``, and what it is called there. Never its value."""

    line: int
    name: str


class StoreUse(Struct, frozen=True):
    """A key store as a configuration uses it. ``well_known``: its password is one that tools and manuals give; ``in_clear``: it
    stands written out in the configuration, at ``provenance``."""

    path: str
    well_known: bool
    in_clear: bool
    provenance: Provenance


class FileUse(Struct, frozen=True):
    """A file that a configuration uses, beside those that it is written in and its certificates.

    ``kind``: what it is judged as.
    ``named_by``: the lines that name it, none for one that is used where it lies.
    ``store``: of a key store, how it is used.
    """

    kind: FileKind
    path: str
    named_by: tuple[Provenance, ...] = ()
    store: StoreUse | None = None


class KeyCopy(Struct, frozen=True):
    """Another file with the same private key. ``readers``: who can read that one."""

    path: str
    readers: Setting[Audience]


class FileFacts(Struct, frozen=True, kw_only=True):
    """A file: permission bits, owner, and who that lets in. ``named_by``: the directives that name it.

    Of a key: ``folders`` on the way, from the root down; ``backups``: files beside it that are called like copies of it and
    hold a key too; ``copies``: files elsewhere with the same key; ``key``: what it is, None when it was not read.
    Of a key store: its ``store``, with ``readers`` those of the file in which its password stands where that is in clear.
    Of a text: the ``secrets`` that stand in it, None when it was not read.
    """

    path: str
    kind: FileKind
    mode: Setting[int]
    owner: Setting[str]
    group: Setting[str]
    readers: Setting[Audience]
    writers: Setting[Audience]
    named_by: tuple[Provenance, ...] = ()
    services: tuple[str, ...] = ()
    folders: tuple[FolderFacts, ...] = ()
    backups: tuple[str, ...] = ()
    key: Key | None = None
    copies: tuple[KeyCopy, ...] = ()
    secrets: tuple[SecretPlace, ...] | None = None
    store: StoreUse | None = None


class Certificate(Struct, frozen=True, kw_only=True):
    """One X.509 certificate. ``names``: the DNS names and IP addresses of its subjectAltName, lower case.
    ``ocsp_responders``: the URLs that it names; ``must_staple``: it demands a stapled response (RFC 7633). ``is_ca``: it
    may issue others; ``server_auth``: its extended key usage, if it has one, allows a server; ``public_policy``: its
    issuer says that it keeps the rules of public authorities (BR 7.1.6.1); ``timestamps``: it embeds signed ones."""

    subject: str
    issuer: str
    names: tuple[str, ...]
    not_before: datetime
    not_after: datetime
    key_type: str
    key_bits: int | None
    digest: str | None
    self_signed: bool
    serial: str
    sha256: str
    public_sha256: str
    ocsp_responders: tuple[str, ...] = ()
    must_staple: bool = False
    is_ca: bool = False
    server_auth: bool = True
    public_policy: bool = False
    timestamps: bool = False


def lifetime_days(start: datetime, end: datetime) -> int:
    """The days of a certificate's whole life: a part day counts as a day (BR 6.3.2), and both ends are in it."""
    return -(-(end - start + timedelta(seconds=1)) // timedelta(days=1))


class ClientCertificate(Struct, frozen=True):
    """The certificate of a client, with those that it sends along.

    ``chain``: DER, its own first.
    ``subject``, ``issuer``: names as RFC 4514 writes them; ``serial``: hexadecimal digits, upper case.
    ``fingerprint``: of SHA-1, hexadecimal digits.
    ``parts``: of the two names, such as ``S_DN_CN``; the first of each kind.
    """

    chain: tuple[bytes, ...]
    subject: str
    issuer: str
    serial: str
    fingerprint: str
    parts: Mapping[str, str]


class TrustPath(Struct, frozen=True):
    """The way from a leaf over the certificates that came with it. ``anchor``: the subject of the trust anchor that it ends
    at, None for none; ``is_public``: that anchor is on the dated public list. ``missing``: the issuer at which it ends
    without one. ``surplus``: certificates that it does not need; ``in_order``: each stands before its issuer.
    ``certificates``: those on the way, by the SHA-256 of their DER form, leaf first."""

    anchor: str | None
    is_public: bool
    missing: str | None
    surplus: int
    in_order: bool
    certificates: tuple[str, ...] = ()


class CertificateFile(Struct, frozen=True, kw_only=True):
    """A certificate file as configured: the ``leaf``, what else it holds in order, and the ``key`` it is used with.

    ``unknown``: why nothing is known of it (unreadable, not a certificate …). ``source``: ``wire`` for one that a listener
    sent, whose ``path`` names that listener. ``trust``: the way to an anchor, None when it was not looked for.
    """

    path: str
    named_by: tuple[Provenance, ...]
    endpoints: tuple[str, ...]
    leaf: Certificate | None = None
    chain: tuple[Certificate, ...] = ()
    key: KeyFile | None = None
    unknown: str | None = None
    source: Literal["files", "wire"] = "files"
    trust: TrustPath | None = None


class Key(Struct, frozen=True):
    """A private key, described: never its secret. ``public_sha256`` is of the public key's DER form (SPKI). ``flaw``: what
    makes it unsound, empty for nothing, None when that was not looked at."""

    type: str
    bits: int | None
    encrypted: bool
    public_sha256: str | None
    flaw: str | None = None


class KeyFile(Struct, frozen=True, kw_only=True):
    """A private key file as configured; ``unknown``: why nothing is known of it."""

    path: str
    named_by: tuple[Provenance, ...]
    key: Key | None = None
    unknown: str | None = None


class Running(Struct, frozen=True):
    """A process of a server: its ``family``, the account it runs as, and since when."""

    family: str
    owner: str
    started: datetime


class SharedKey(Struct, frozen=True):
    """A key of this host, by the certificate at ``place``, that ``others`` have too, each as host and owner."""

    place: str
    others: tuple[str, ...]


class Predicted(Struct, frozen=True):
    """What the configuration says that the front page of a listener, seen from outside, will be. ``status`` None: content
    decides it; ``unknown``: why it cannot be told."""

    endpoint: str
    scope: str
    provenance: Provenance
    status: int | None = None
    location: str | None = None
    headers: tuple[tuple[str, str], ...] = ()
    unknown: str | None = None


class KnownCertificates(Struct, frozen=True):
    """The certificates that were read, for whoever is asked about what uses them.

    ``chains``: of a file, or sent by a listener, by its path; leaf first as configured.
    ``paths``: the way of a sent certificate to an anchor, by the path of its listener.
    """

    chains: Mapping[str, tuple[Certificate, ...]]
    paths: Mapping[str, TrustPath]

    def leaf_at(self, path: str | None) -> Certificate | None:
        """The leaf certificate of the file at ``path``, or None when it was not read."""
        found = None if path is None else self.chains.get(path)
        return found[0] if found else None


class Host(Struct, frozen=True, kw_only=True):
    """Everything known of one host, before it is judged.

    ``endpoints``: in order, without those in ``groups``; for a control that looks at the host as a whole with the outlines of
    these (see :meth:`~rupex.model.Group.outline`).
    ``groups``: endpoints that are written from templates.
    ``chains``: the certificates of a file, or sent by a listener, by its path; leaf first as configured.
    ``paths``: the way of a sent certificate to an anchor, by the path of its listener.
    ``partial``: why there may be endpoints that were not looked for, such as a single port that was asked.
    ``renewals``: what renews certificates, None where no tree was looked at.
    ``lifetimes``: how long each certificate is valid.
    ``firewall``: None where the tree has no word of one.
    ``listening``: the sockets that accept connections, None where there is no list of them.
    ``predicted``: of a host seen from both sides, by the id of an endpoint that was seen.
    ``running``: of a host seen from both sides, the processes of its servers.
    ``modified``: of a host seen from both sides, when files that endpoints name were written.
    ``behind``: the edge in front of it, which is judged for what only visitors meet.
    ``shared``: keys that hosts of other owners have too, None outside a fleet.
    ``required``: names that the inventory says it serves.
    """

    name: str
    sources: tuple[Source, ...]
    endpoints: tuple[Endpoint, ...] = ()
    services: tuple[Service, ...] = ()
    files: tuple[FileFacts, ...] = ()
    certificates: tuple[CertificateFile, ...] = ()
    keys: tuple[KeyFile, ...] = ()
    samples: tuple[Sample, ...] = ()
    problems: tuple[Problem, ...] = field(default=())
    chains: Mapping[str, tuple[Certificate, ...]] = {}
    paths: Mapping[str, TrustPath] = {}
    groups: tuple[Group, ...] = ()
    partial: str = ""
    renewals: Setting[tuple[Renewal, ...]] | None = None
    lifetimes: tuple[CertificateLifetime, ...] = ()
    firewall: Setting[Firewall] | None = None
    listening: tuple[Listening, ...] | None = None
    predicted: Mapping[str, Predicted] = {}
    running: tuple[Running, ...] = ()
    modified: Mapping[str, datetime] = {}
    behind: str = ""
    shared: tuple[SharedKey, ...] | None = None
    required: tuple[str, ...] = ()

    @property
    def known_certificates(self) -> KnownCertificates:
        return KnownCertificates(self.chains, self.paths)

    def leaf_at(self, path: str | None) -> Certificate | None:
        """The leaf certificate of the file at ``path``, or None when it was not read."""
        return self.known_certificates.leaf_at(path)
