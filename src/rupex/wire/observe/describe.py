"""What was seen, in the words of the model: visits to endpoints. Values in, values out."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import cache
from typing import Final, Literal, TypeVar

from msgspec import UNSET

from rupex.http.defaults import default_page
from rupex.http.product import telling_line
from rupex.http.urls import split_url
from rupex.model import (
    CertificateUse,
    DhParameters,
    Endpoint,
    Exchange,
    Header,
    Listing,
    Provenance,
    Redirect,
    RedirectSample,
    Refusal,
    Sample,
    Scope,
    SentCertificate,
    Setting,
    Stranger,
    Tls,
    WireFacts,
    unknown,
)
from rupex.model.endpoint import ProtocolVersion, is_loopback
from rupex.pki.certificates import CredentialError, parse_der
from rupex.pki.chains import says_good
from rupex.tls.dh import describe_prime
from rupex.tls.groups import all_groups
from rupex.tls.signatures import SCHEMES
from rupex.tls.suites import PROTOCOL_VERSIONS, all_suites
from rupex.wire.codec.answers import SentCertificates
from rupex.wire.connection.web import NoPage, Page
from rupex.wire.observe.visit import FOREIGN_ORIGIN, MARK, STRANGER, Pages, Visit
from rupex.wire.sweep.result import SweepResult

T = TypeVar("T")

_SUITE_NAMES: Final = {suite.code: suite.name for suite in all_suites()}
_GROUP_NAMES: Final = {group.code: group.name for group in all_groups()}
_SCHEME_NAMES: Final = {scheme.code: scheme.name for scheme in SCHEMES} | {0x0101: "rsa_pkcs1_md5"}
_LISTING = re.compile(r"<title>\s*(?:Index of|Directory listing for|Directory: )\s*/", re.IGNORECASE)
_INODE_ETAG = re.compile(r'(?:W/)?"[0-9a-f]+-[0-9a-f]+-[0-9a-f]+"')
_FOR_ORIGINS: Final = ("access-control-allow-origin", "access-control-allow-credentials")
_PRIMES_PROVEN: Final = 3
"""Primes of one listener that are looked into: each may take a second."""

_GATEWAY_ERRORS: Final = (502, 503, 504)  # RFC 9110, 15.6.3 to 15.6.5
_CACHE_HEADERS: Final = ("age", "via", "x-cache", "x-cache-hits", "cf-cache-status", "x-varnish", "cache-status")


def endpoint_id(address: str, port: int, name: str) -> str:
    return f"wire:{written_address(address)}:{port}/{name}"


def written_address(address: str) -> str:
    """An address as it stands before a port."""
    return f"[{address}]" if ":" in address else address


def provenance_of(visit: Visit) -> Provenance:
    """The provenance of what a visit saw."""
    return Provenance("wire", note=f"{written_address(visit.address)}:{visit.port}")


def certificate_place(visit: Visit, kind: str) -> str:
    """What stands for the file of a certificate that a listener sent."""
    return f"{endpoint_id(visit.address, visit.port, visit.name)} ({kind})"


def sent_chains(visit: Visit) -> dict[str, SentCertificates]:
    """The chains that were seen, by the kind of their leaf's key."""
    found: dict[str, SentCertificates] = {}
    chains = [] if visit.sweep is None else list(visit.sweep.chains.values())
    for sent in [*(handshake.certificates for handshake in visit.handshakes), *chains]:
        if sent is None or not sent.chain:
            continue
        try:
            kind = parse_der(sent.chain[0]).key_type
        except CredentialError:
            kind = "unreadable"
        known = found.get(kind)
        if known is None or (known.staple is None and sent.staple is not None):
            found[kind] = sent
    return found


def endpoint_of(visit: Visit, exchanges: tuple[tuple[Exchange, ...], ...]) -> Endpoint:
    """The endpoint that was seen. ``exchanges``: the chains of redirects that start at it."""
    place = provenance_of(visit)
    is_refused = visit.transport == "plain" or visit.refuses or visit.sweep is None
    tls = None if is_refused or visit.sweep is None else _tls(visit, visit.sweep, place)
    pages = None if visit.refuses else visit.pages
    scopes = () if pages is None else _scopes(visit, pages, place)
    return Endpoint(
        id=endpoint_id(visit.address, visit.port, visit.name),
        family=None,
        address=visit.address,
        port=visit.port,
        names=(visit.name,),
        default=_echoes_stranger(pages),
        transport=visit.transport,
        provenance=place,
        sources=("wire",),
        tls=tls,
        scopes=scopes,
        refuses=place if visit.refuses else None,
        trace=None if pages is None else _trace(pages.trace, place),
        inode_etags=None if pages is None else _etags(pages, place),
        stranger=None if pages is None else _stranger(pages.stranger, place),
        carries=None if pages is None else _carries(pages, place),
        local=is_loopback(visit.address) and is_loopback(visit.name),
        wire=_facts(visit, exchanges),
    )


# TLS


def _tls(visit: Visit, sweep: SweepResult, seen_at: Provenance) -> Tls:
    old_doubt = next((f"{v}: {why}" for v, why in sweep.doubts.items() if v not in sweep.suites), "")
    doubt = next((f"{version}: {why}" for version, why in sweep.doubts.items()), "")
    protocols = tuple(version for version in PROTOCOL_VERSIONS if version in sweep.suites)
    codes = dict.fromkeys(code for version in reversed(PROTOCOL_VERSIONS) for code in sweep.suites.get(version, ()))
    suites = tuple(_SUITE_NAMES.get(code, f"0x{code:04X}") for code in codes)
    groups = tuple(_GROUP_NAMES.get(code, f"group {code}") for code in dict.fromkeys(sweep.groups))
    schemes = dict.fromkeys(
        [*(handshake.scheme for handshake in visit.handshakes if handshake.scheme is not None), *sweep.schemes]
    )
    signatures = tuple(_SCHEME_NAMES.get(code, f"0x{code:04X}") for code in schemes)
    stapled = any(says_good(sent.staple) for sent in sent_chains(visit).values() if sent.staple is not None)
    renegotiates = visit.renegotiates
    return Tls(
        protocols=_unless(old_doubt, protocols, seen_at),
        suites=_unless(doubt, suites, _noted(seen_at, sweep.order_note)),
        groups=_unless(sweep.groups_doubt, groups, seen_at),
        preference=_preference(sweep, seen_at),
        tickets=_tickets(visit, sweep, seen_at),
        stapling=Setting(stapled, seen_at),
        compression=Setting(bool(sweep.compression), seen_at),
        alpn=_alpn(visit, sweep, seen_at),
        certificates=tuple(
            CertificateUse(certificate_place(visit, kind), None, seen_at) for kind in sent_chains(visit)
        ),
        dh=None if not sweep.dh_primes else Setting(_weakest(sweep.dh_primes), seen_at),
        signatures=_unless(sweep.schemes_doubt, signatures, seen_at),
        secure_renegotiation=_seen(sweep.secure_renegotiation, seen_at),
        client_renegotiation=_seen(renegotiates, seen_at) or unknown(_RENEGOTIATION_UNSEEN, seen_at),
        fallback_signal=_seen(sweep.fallback_refused, seen_at),
        master_secret=_seen(sweep.master_secret, seen_at),
        early_data=_early_data(visit, sweep, seen_at),
        client_certificate=_client_certificate(visit, sweep, seen_at),
    )


_RENEGOTIATION_UNSEEN: Final = "whether a client may start one could not be told"


def _preference(sweep: SweepResult, seen_at: Provenance) -> Setting[Literal["server", "client"]]:
    if sweep.order is None or sweep.order_doubt:
        return unknown(sweep.order_doubt or "who decides the order could not be told", seen_at)
    return Setting(sweep.order, seen_at)


def _tickets(visit: Visit, sweep: SweepResult, seen_at: Provenance) -> Setting[bool]:
    unseen = _unseen_of_tls13(visit, sweep)
    if unseen and not sweep.tickets:
        return unknown(unseen, seen_at)
    has_ticket = bool(visit.handshakes) and visit.handshakes[0].ticket is not None
    return Setting(bool(sweep.tickets) or has_ticket, seen_at)


def _client_certificate(
    visit: Visit, sweep: SweepResult, seen_at: Provenance
) -> Setting[Literal["none", "verified", "unverified"]]:
    if sweep.asks_for_certificate or any(handshake.asks_for_certificate for handshake in visit.handshakes):
        return unknown("one is asked for; whether it is verified only a holder of one can see", seen_at)
    unseen = _unseen_of_tls13(visit, sweep)
    return unknown(unseen, seen_at) if unseen else Setting("none", seen_at)


def _unseen_of_tls13(visit: Visit, sweep: SweepResult) -> str:
    """Why what TLS 1.3 encrypts is not known; empty where a handshake was finished, or TLS 1.3 is not taken."""
    is_unseen = "TLSv1.3" in sweep.suites and not any(handshake.is_finished for handshake in visit.handshakes)
    return "what is said under the protection of TLS 1.3 was not seen" if is_unseen else ""


def _noted(seen_at: Provenance, note: str) -> Provenance:
    return Provenance("wire", note=f"{seen_at.note}; {note}") if note else seen_at


def _unless(doubt: str, value: T, seen_at: Provenance) -> Setting[T]:
    """``value``, or with a ``doubt`` that it is at least so much."""
    return unknown(doubt, seen_at, value) if doubt else Setting(value, seen_at)


def _seen(value: bool | None, seen_at: Provenance) -> Setting[bool] | None:
    return None if value is None else Setting(value, seen_at)


def _weakest(primes: Iterable[int]) -> DhParameters:
    """The worst of the primes that were sent: the shortest, and of those one that is neither known nor safe."""
    shortest = sorted(primes, key=int.bit_length)[:_PRIMES_PROVEN]
    return min(map(describe_prime, shortest), key=lambda dh: (dh.bits, dh.group is not None or bool(dh.safe)))


def _alpn(visit: Visit, sweep: SweepResult, seen_at: Provenance) -> Setting[tuple[str, ...]]:
    if visit.handshakes:
        chosen = visit.handshakes[0].protocol
    elif sweep.protocol_seen:
        chosen = sweep.protocol
    else:
        return unknown("which protocols are offered could not be asked", seen_at)
    if chosen is None:
        return Setting((), seen_at)
    if chosen == "h2" and not visit.only_h2:
        return Setting(("h2", "http/1.1"), seen_at)
    return Setting((chosen,), seen_at)


def _early_data(visit: Visit, sweep: SweepResult, seen_at: Provenance) -> Setting[bool] | None:
    if "TLSv1.3" not in sweep.suites:
        return Setting(False, seen_at) if "TLSv1.3" not in sweep.doubts else None
    if not visit.handshakes or not visit.handshakes[0].is_finished:
        return None
    ticket = visit.handshakes[0].ticket
    return Setting(ticket is not None and bool(ticket.early_data_bytes), seen_at)


# HTTP


def _headers(page: Page, status: int, seen_at: Provenance, cross: Page | NoPage | None = None) -> tuple[Header, ...]:
    """The headers of a page as answers with ``status`` carry them; where ``cross`` shows that an origin is repeated, that
    is said."""
    pairs = [(name, value) for name, value in page.headers if name.lower() not in _FOR_ORIGINS]
    source = cross if isinstance(cross, Page) else page
    pairs += [(name, value) for name, value in source.headers if name.lower() in _FOR_ORIGINS]
    return tuple(
        Header(_spelt(name), value, (status,), seen_at, echoes="origin" if value == FOREIGN_ORIGIN else UNSET)
        for name, value in pairs
    )


def _spelt(name: str) -> str:
    """HTTP/2 has names in lower case: as one writes them elsewhere."""
    special = {
        "etag": "ETag",
        "x-xss-protection": "X-XSS-Protection",
        "nel": "NEL",
        "www-authenticate": "WWW-Authenticate",
    }
    lowered = name.lower()
    return special.get(lowered) or "-".join(part.capitalize() for part in lowered.split("-"))


def _scopes(visit: Visit, pages: Pages, seen_at: Provenance) -> tuple[Scope, ...]:
    root = pages.root
    if isinstance(root, NoPage):
        why = f"the front page was not answered: {root.why}"
        return (Scope(id="any", match="any", path="/", order=0, provenance=seen_at, undecided=why),)
    found = [_scope(visit, pages, root, "any", seen_at)]
    missing = pages.missing
    if isinstance(missing, Page) and pages.scheme == "http" and _kind(missing) == "content" != _kind(root):
        found.append(_scope(visit, pages, missing, "exact", seen_at))
    found += _open_pages(pages, found[0].signature, seen_at)
    return tuple(found)


def _kind(page: Page) -> str:
    if page.location is not None:
        return "redirect"
    return "refusal" if 400 <= page.status < 500 else "content"


def _scope(visit: Visit, pages: Pages, page: Page, match: str, seen_at: Provenance) -> Scope:
    """The scope that ``page`` shows: ``any`` for the front page, else that path alone."""
    path = split_url(page.url).path or "/"
    is_root = match == "any"
    kind = _kind(page)
    missing = pages.missing if isinstance(pages.missing, Page) else None
    disclosed = None if missing is None or not is_root else telling_line(missing.body)
    shows_errors = missing is not None and missing.location is None
    status = 200 if kind == "content" else page.status
    headers = _headers(page, status, seen_at, pages.cross if is_root else None)
    errors = None
    if is_root and kind == "content":
        if missing is not None and shows_errors:
            errors = _headers(missing, 404, seen_at)
        else:  # nobody saw an error: what the page has is taken to be there too
            headers = tuple(Header(h.name, h.value, (200, 404), seen_at, echoes=h.echoes) for h in headers)
    undecided = f"the front page is answered with status {page.status}" if page.status >= 500 else None
    return Scope(
        id="any" if is_root else f"exact:{path}",
        match="any" if is_root else "exact",
        path="/" if is_root else path,
        order=0 if is_root else 1,
        provenance=seen_at,
        redirect=_redirect(visit, pages, page, seen_at) if kind == "redirect" else None,
        headers=headers,
        refusal=Refusal(page.status, seen_at) if kind == "refusal" else None,
        listing=Listing(True, seen_at) if kind == "content" and _LISTING.search(page.body) else None,
        signature=None if disclosed is None else Setting(disclosed, seen_at),
        undecided=undecided,
        errors=errors,
        exposes=_exposed(pages, seen_at) if is_root and kind == "content" else None,
        methods=_methods(pages.options, seen_at) if is_root and kind == "content" else None,
    )


def _redirect(visit: Visit, pages: Pages, page: Page, seen_at: Provenance) -> Redirect:
    missing = pages.missing
    shown = missing if isinstance(missing, Page) and missing.location is not None and page is pages.root else page
    stranger = None
    if isinstance(pages.stranger, Page) and pages.stranger.location is not None:
        stranger = RedirectSample(pages.stranger.url, pages.stranger.location)
    sample = RedirectSample(shown.url, shown.location, visit.name)
    lines = pages.lines if page is pages.root else None
    made = isinstance(lines, Page) and bool(lines.values(MARK.lower()))
    return Redirect(
        page.status, page.location or "", seen_at, (sample,), stranger,
        reflects="a line end of the request" if made else None, tried=_escapes(lines, seen_at),
    )  # fmt: skip


def _escapes(lines: Page | NoPage | None, seen_at: Provenance) -> Setting[bool] | None:
    """Whether a request with escaped line ends was answered, and none of them came back as one."""
    if not isinstance(lines, Page):
        return (
            None if lines is None else unknown(f"a path with escaped line ends was not answered: {lines.why}", seen_at)
        )
    if lines.location is None:
        return unknown(f"a path with escaped line ends is not redirected, but answered with {lines.status}", seen_at)
    return Setting(not lines.values(MARK.lower()), seen_at)


def _carries(pages: Pages, seen_at: Provenance) -> Setting[bool] | None:
    """Whether strangers are carried on to where they say. A gateway's error for a stranger's page, where a request of the
    usual form gets none, may come of an attempt."""
    if isinstance(pages.tunnel, bool) and pages.tunnel:
        return Setting(True, seen_at)
    forwarded, unknown_name = pages.forwarded, pages.stranger
    if isinstance(forwarded, Page) and forwarded.status in _GATEWAY_ERRORS:
        if isinstance(unknown_name, Page) and unknown_name.status not in _GATEWAY_ERRORS:
            words = f"a page of another host was asked for as of a proxy, and answered with {forwarded.status}"
            return unknown(f"{words}: it may have been tried", seen_at)
    elif isinstance(pages.tunnel, NoPage):
        return unknown(f"whether a CONNECT is obeyed was not told: {pages.tunnel.why}", seen_at)
    return None if pages.tunnel is None else Setting(False, seen_at)


def _methods(page: Page | NoPage | None, seen_at: Provenance) -> Setting[tuple[str, ...]] | None:
    """The methods that an answer to OPTIONS names (RFC 9110, 9.3.7 and 10.2.1)."""
    if not isinstance(page, Page):
        return None if page is None else unknown(f"OPTIONS was not answered: {page.why}", seen_at)
    named = page.values("allow")
    if not page.status < 300 or not named:
        return unknown("the answer to OPTIONS names no methods", seen_at)
    methods = (method.strip() for value in named for method in value.split(","))
    return Setting(tuple(dict.fromkeys(method for method in methods if method)), seen_at)


def _exposed(pages: Pages, seen_at: Provenance) -> Setting[tuple[str, ...]]:
    if pages.paths is None:
        return unknown("the paths that files lie at were not asked for", seen_at)
    files = [(row, page) for row, page in pages.paths if row.kind == "file"]
    found = tuple(row.target for row, page in files if _is_it(page, row.sign))
    silent = next((page.why for _, page in files if isinstance(page, NoPage)), None)
    if silent is not None and not found:
        return unknown(f"not every path was answered: {silent}", seen_at)
    return Setting(found, seen_at)


@cache
def _sign(pattern: str) -> re.Pattern[str]:
    return re.compile(pattern, re.MULTILINE | re.IGNORECASE)


def _is_it(page: Page | NoPage, sign: str) -> bool:
    return isinstance(page, Page) and page.status == 200 and _sign(sign).search(page.body) is not None


def _open_pages(pages: Pages, signature: Setting[str] | None, seen_at: Provenance) -> list[Scope]:
    """Status and management pages that a stranger gets; ``signature``: of the site's error pages."""
    return [
        Scope(
            id=f"exact:{row.target}", match="exact", path=row.target.partition("?")[0], order=2, provenance=seen_at,
            headers=_headers(page, 200, seen_at), role=row.kind, signature=signature,
        )
        for row, page in pages.paths or ()
        if row.kind != "file" and isinstance(page, Page) and _is_it(page, row.sign)
    ]  # fmt: skip


def _trace(page: Page | NoPage | None, seen_at: Provenance) -> Setting[bool] | None:
    if not isinstance(page, Page):
        return None if page is None else unknown(f"TRACE was not answered: {page.why}", seen_at)
    kind = "".join(page.values("content-type")).lower()
    return Setting(page.status == 200 and ("message/http" in kind or page.body.startswith("TRACE /")), seen_at)


def _etags(pages: Pages, seen_at: Provenance) -> Setting[bool]:
    tags = [value for page in pages.seen() for value in page.values("etag")]
    if not tags:
        return unknown("no ETag was seen", seen_at)
    return Setting(any(_INODE_ETAG.fullmatch(tag) for tag in tags), seen_at)


def _stranger(page: Page | NoPage | None, seen_at: Provenance) -> Setting[Stranger] | None:
    match page:
        case None:
            return None
        case NoPage(kind="refused"):
            return Setting("refused", seen_at)
        case NoPage(_, why):
            return unknown(f"a request for an unknown name was not answered: {why}", seen_at)
        case Page() if page.location is not None:
            return Setting("redirect", seen_at)
        case Page(status=status) if 400 <= status < 500:
            return Setting("refused", seen_at)
        case Page(status=status) if status >= 500:
            return unknown(f"a request for an unknown name is answered with status {status}", seen_at)
        case _:
            return Setting("content", seen_at)


def _echoes_stranger(pages: Pages | None) -> bool:
    """Whether a redirect goes where a stranger's Host header says, so that this endpoint answers for any name."""
    page = None if pages is None else pages.stranger
    return isinstance(page, Page) and page.location is not None and split_url(page.location).host == STRANGER


# What came as it came


def _facts(visit: Visit, exchanges: tuple[tuple[Exchange, ...], ...]) -> WireFacts:
    sweep = visit.sweep
    by_version: dict[ProtocolVersion, tuple[str, ...]] = {}
    if sweep is not None:
        for version in PROTOCOL_VERSIONS:
            if version in sweep.suites:
                by_version[version] = tuple(_SUITE_NAMES.get(code, f"0x{code:04X}") for code in sweep.suites[version])
    schemes = [t.scheme for t in visit.handshakes if t.scheme is not None] + ([] if sweep is None else sweep.schemes)
    cached = []
    notes = (
        ["asked from the machine itself, where more may be open than for others"] if is_loopback(visit.address) else []
    )
    notes += [*visit.failures, *([] if sweep is None else sweep.problems)]
    if visit.refuses and sweep is not None:
        notes.append(f"every handshake for this name is refused ({', '.join(sweep.alerts)})")
    for page in [] if visit.pages is None else visit.pages.seen()[:1]:
        cached = [f"{_spelt(name)}: {value}" for name, value in page.headers if name.lower() in _CACHE_HEADERS]
    return WireFacts(
        connections=visit.connections,
        round_trips=visit.round_trips,
        seconds=round(visit.seconds, 3),
        chains=tuple(_chain(sent) for sent in sent_chains(visit).values()),
        signatures=tuple(_SCHEME_NAMES.get(code, f"0x{code:04X}") for code in dict.fromkeys(schemes)),
        suites=by_version,
        exchanges=exchanges,
        cached=tuple(cached),
        notes=tuple(notes),
        ticket_key=next((t.ticket.key_name.hex() or None for t in visit.handshakes if t.ticket is not None), None),
    )


def _chain(sent: SentCertificates) -> tuple[SentCertificate, ...]:
    found = []
    for der in sent.chain:
        try:
            one = parse_der(der)
        except CredentialError:
            continue
        found.append(SentCertificate(one.subject, one.issuer, one.sha256, one.not_before, one.not_after))
    return tuple(found)


def samples_of(visit: Visit) -> list[Sample]:
    """What is left of a server's package: its default page."""
    pages = visit.pages
    found = []
    for page in [] if pages is None else [pages.root, pages.stranger]:
        what = default_page(page.body) if isinstance(page, Page) and page.status == 200 else None
        if what is not None:
            found.append(Sample("page", what, provenance_of(visit)))
    return found[:1]
