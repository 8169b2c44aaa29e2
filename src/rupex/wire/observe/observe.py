"""A name seen from outside, at every address and port it has: the host that the controls judge."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from typing import Literal

from msgspec import Struct, structs

from rupex.model import (
    Certificate,
    CertificateFile,
    CertificateLifetime,
    Endpoint,
    Exchange,
    Host,
    Problem,
    Sample,
    Source,
    TrustPath,
    bounds,
    lifetime_days,
)
from rupex.pki.certificates import CredentialError, parse_der
from rupex.wire.connection.connection import Listener, ProbeLimits
from rupex.wire.connection.targets import Target, UnresolvedError, addresses_of
from rupex.wire.connection.web import Page, Web, parts_of_url
from rupex.wire.observe.describe import (
    certificate_place,
    endpoint_id,
    endpoint_of,
    provenance_of,
    samples_of,
    sent_chains,
    written_address,
)
from rupex.wire.observe.visit import Visit, visit


class Connect(Struct, frozen=True):
    """Where to go instead of a name's own address; ``port`` None: the port of the name, or what ``ports`` has for it."""

    address: str
    port: int | None = None
    ports: Mapping[int, int] = {}


class ProbeSession:
    """One run over many names: what they share. ``targets``: all names that were asked for, which redirects may be followed
    to. ``connect``: one way to all of them."""

    def __init__(
        self, targets: list[Target], probe_limits: ProbeLimits, connect: Connect | None, *, skip_paths: bool
    ) -> None:
        self.probe_limits, self.connect, self.skip_paths = probe_limits, connect, skip_paths
        self.overall = asyncio.Semaphore(probe_limits.overall)
        self._asked = {(target.name, port) for target in targets for port in self.ports_of(target)}

    def ports_of(self, target: Target) -> tuple[int, ...]:
        """The ports of a target; a way that names its port leads to one port only."""
        if not target.chosen and self.connect is not None and self.connect.port is not None:
            return target.ports[:1]
        return target.ports

    def listener(self, address: str, port: int) -> Listener:
        """Who is asked for ``port``."""
        target_port = port
        if self.connect is not None:
            target_port = self.connect.port or self.connect.ports.get(port, port)
        return Listener(address, target_port, self.probe_limits, self.overall)

    async def addresses(self, name: str) -> tuple[str, ...]:
        if self.connect is not None:
            return (self.connect.address,)
        return await addresses_of(name, self.probe_limits.step_seconds)

    async def find(self, name: str, port: int) -> Listener | None:
        """A listener for a redirect to ``name`` and ``port``, None where nobody asked for them."""
        if (name, port) not in self._asked:
            return None
        try:
            return self.listener((await self.addresses(name))[0], port)
        except (UnresolvedError, IndexError):
            return None


async def observe(target: Target, session: ProbeSession) -> Host:
    """Look at ``target``. What cannot be reached is a problem of the host."""
    place = f"wire:{target.name}"
    try:
        addresses = await session.addresses(target.name)
    except UnresolvedError as error:
        return _nobody(target, Problem("unreachable", place, None, str(error), True))
    if not addresses:
        return _nobody(target, Problem("unreachable", place, None, "the name has no address", True))
    pairs = [(session.listener(address, port), port) for address in addresses for port in session.ports_of(target)]
    visits = await asyncio.gather(
        *(visit(listener, target.name, port, skip_paths=session.skip_paths) for listener, port in pairs)
    )
    answered = [found for found in visits if found.answered]
    problems_of_visits = [_problem(found, anybody=bool(answered), chosen=target.chosen) for found in visits]
    problems = [problem for problem in problems_of_visits if problem is not None]
    endpoints, samples = [], list[Sample]()
    for found in answered:
        endpoints.append(endpoint_of(found, await _follow(found, visits, session)))
        samples += samples_of(found)
    return _host(target, answered, endpoints, samples, problems, pairs)


def _nobody(target: Target, problem: Problem) -> Host:
    return Host(name=target.name, sources=(), problems=(problem,))


def _host(
    target: Target,
    seen: list[Visit],
    endpoints: list[Endpoint],
    samples: list[Sample],
    problems: list[Problem],
    pairs: list[tuple[Listener, int]],
) -> Host:
    certificates: dict[str, CertificateFile] = {}
    chains: dict[str, tuple[Certificate, ...]] = {}
    paths: dict[str, TrustPath] = {}
    for found in seen:
        for kind, sent in sent_chains(found).items():
            place = certificate_place(found, kind)
            one = _certificate(found, place, sent.chain)
            if one.leaf is not None:
                chains[place] = (one.leaf, *one.chain)
                if one.trust is not None:
                    paths[place] = one.trust
                known = certificates.get(one.leaf.sha256)
                if known is not None:
                    both = (*known.endpoints, *one.endpoints)
                    certificates[one.leaf.sha256] = structs.replace(known, endpoints=both)
                    continue
            certificates[place if one.leaf is None else one.leaf.sha256] = one
    addresses = dict.fromkeys(f"{written_address(listener.address)}:{listener.port}" for listener, _ in pairs)
    return Host(
        name=target.name,
        sources=tuple(Source("wire", address=address) for address in addresses),
        endpoints=tuple(endpoints),
        certificates=tuple(certificates.values()),
        samples=tuple(samples),
        problems=tuple(problems[: bounds.PROBLEMS]),
        chains=chains,
        paths=paths,
        lifetimes=tuple(
            CertificateLifetime(place, lifetime_days(leaf.not_before, leaf.not_after), leaf.not_after)
            for place, (leaf, *_) in chains.items()
        ),
        partial=f"nothing was asked but port {' and '.join(map(str, target.ports))}" if target.chosen else "",
    )


def _certificate(found: Visit, place: str, chain: tuple[bytes, ...]) -> CertificateFile:
    from rupex.pki.chains import trust_path

    described: list[Certificate] = []
    problem = None
    for der in chain:
        try:
            described.append(parse_der(der))
        except CredentialError as error:
            problem = problem or str(error)
    has_leaf = bool(described) and problem is None
    return CertificateFile(
        path=place,
        named_by=(provenance_of(found),),
        endpoints=(endpoint_id(found.address, found.port, found.name),),
        leaf=described[0] if has_leaf else None,
        chain=tuple(described[1:]) if has_leaf else (),
        unknown=problem,
        source="wire",
        trust=trust_path(chain),
    )


def _problem(found: Visit, *, anybody: bool, chosen: bool) -> Problem | None:
    """What kept a visit from seeing all there is. A port where nobody listens is none, when another one answered; nor is
    one of the usual ports that was not ``chosen`` and takes no connection, as behind a firewall."""
    place = endpoint_id(found.address, found.port, found.name)
    sweep = found.sweep
    failure = None if sweep is None else sweep.failure
    if not found.answered:
        kind, why = ("refused", "every connection was closed without an answer")
        if failure is not None:
            kind, why = failure.kind, failure.why
        elif found.pages is not None and not isinstance(found.pages.root, Page):
            kind, why = found.pages.root.kind, found.pages.root.why
        is_closed = kind in ("refused", "port", "unreachable") or (
            not chosen and why.startswith("no connection within")
        )
        if anybody and is_closed:
            return None
        return Problem(_problem_kind(kind), place, None, why, not anybody)
    if sweep is not None and not sweep.is_silent and sweep.doubts:
        version, why = next(iter(sweep.doubts.items()))
        return Problem(
            _problem_kind(failure.kind if failure is not None else "broken"), place, None, f"{version}: {why}"
        )
    pages = found.pages
    if pages is not None and not isinstance(pages.root, Page) and not found.refuses:
        return Problem(_problem_kind(pages.root.kind), place, None, f"no page: {pages.root.why}")
    return None


def _problem_kind(kind: str) -> Literal["refused", "timeout", "unreachable"]:
    if kind in ("refused", "port"):
        return "refused"
    return "timeout" if kind == "timeout" else "unreachable"


async def _follow(found: Visit, visits: list[Visit], session: ProbeSession) -> tuple[tuple[Exchange, ...], ...]:
    """The chain of redirects that starts at the front page of ``found``, hop by hop, within the names asked for."""
    if found.pages is None or not isinstance(found.pages.root, Page):
        return ()
    known = {page.url: page for one in visits if one.pages is not None for page in one.pages.seen()}
    page = found.pages.root
    hops = [_exchange(page)]
    seen = {page.url}
    while page.location is not None and len(hops) <= bounds.HOPS and page.location not in seen:
        seen.add(page.location)
        following = known.get(_normal(page.location)) or await _fetch(page.location, session)
        if following is None:
            break
        page = following
        hops.append(_exchange(page))
    return (tuple(hops),)


def _normal(url: str) -> str:
    """``url`` with a path, without a fragment and without its scheme's own port."""
    found = parts_of_url(url)
    if found is None or found[0] not in ("http", "https"):
        return url
    scheme, host, port, target = found
    shown = f"[{host}]" if ":" in host else host
    default_port = {"https": 443, "http": 80}[scheme]
    return f"{scheme}://{shown}" + ("" if port == default_port else f":{port}") + target


async def _fetch(url: str, session: ProbeSession) -> Page | None:
    found = parts_of_url(url)
    if found is None or found[0] not in ("http", "https") or found[2] is None:
        return None
    scheme, host, port, target = found
    listener = await session.find(host, port or 0)
    if listener is None:
        return None
    async with Web(listener, "https" if scheme == "https" else "http", host, port or 0) as web:
        page = await web.get(target)
    return page if isinstance(page, Page) else None


_SHOWN = frozenset({"strict-transport-security", "location", "server", "age", "via", "set-cookie"})


def _exchange(page: Page) -> Exchange:
    headers = tuple((name, value) for name, value in page.headers if name.lower() in _SHOWN)
    return Exchange(page.url, page.status, page.location, headers)
