"""One name at one port, seen from outside: the TLS sweep, whole handshakes, and the pages that tell something."""

from __future__ import annotations

import asyncio
from contextlib import AsyncExitStack
from functools import cache
from typing import Final, Literal

from msgspec import Struct, convert, field

from rupex.http.names import is_address
from rupex.package_files import folder_of
from rupex.pki.certificates import CredentialError, parse_der
from rupex.tls.signatures import SCHEMES
from rupex.wire.connection.connection import Listener
from rupex.wire.connection.openssl_client import client_renegotiates
from rupex.wire.connection.web import NoPage, Page, Web
from rupex.wire.sweep.handshake import Tls13Handshake, converse
from rupex.wire.sweep.result import SweepResult
from rupex.wire.sweep.sweep import Sweep

STRANGER: Final = "stranger.invalid"
"""A name that nobody has (RFC 6761, 6.4), to see what unknown names get."""
STAPLE_SECONDS: Final = 2.0
"""What lies between two looks for a stapled response."""
_PLAIN_AFTER_SECONDS: Final = 2.0
MISSING: Final = "/rupex/nothing-here?probe=1"
"""A path that no site has, with a query, to see errors, and what survives a redirect."""
LINE_ENDS: Final = "/rupex/%0D%0A{mark}:%20path?next=%0D%0A{mark}:%20query"
"""A path and a query with line ends, escaped as they must be: decoded in a header, they would make one of their own."""
MARK: Final = "X-Rupex-Line"
FOREIGN_ORIGIN: Final = "https://stranger.invalid"
_ALPN: Final = (b"h2", b"http/1.1")
_ALL_SCHEMES: Final = tuple(scheme.code for scheme in SCHEMES)


class Path(Struct, frozen=True):
    """A path that is asked for. ``kind``: what it would be; ``sign``: a pattern that an answer must have to be it."""

    target: str
    kind: Literal["file", "status", "admin"]
    sign: str
    what: str


@cache
def known_paths() -> tuple[Path, ...]:
    """The short list of paths that are asked for, from ``paths.tsv``."""
    text = folder_of("rupex.wire.observe").joinpath("paths.tsv").read_text("utf-8")
    rows = (row.split("\t") for row in text.splitlines() if row and not row.startswith("#"))
    return tuple(convert(dict(zip(Path.__struct_fields__, row, strict=True)), Path) for row in rows)


class Pages(Struct):
    """What HTTP told. ``cross``: the front page asked for with the origin of a stranger; ``options``: the methods asked for;
    ``lines``: what a redirect makes of escaped line ends; ``forwarded``: a stranger's page, asked for as of a proxy;
    ``tunnel``: whether a CONNECT to this listener itself, or to its port 443, is obeyed."""

    scheme: Literal["http", "https"]
    root: Page | NoPage
    missing: Page | NoPage | None = None
    trace: Page | NoPage | None = None
    stranger: Page | NoPage | None = None
    cross: Page | NoPage | None = None
    options: Page | NoPage | None = None
    lines: Page | NoPage | None = None
    forwarded: Page | NoPage | None = None
    tunnel: bool | NoPage | None = None
    paths: list[tuple[Path, Page | NoPage]] | None = None

    def seen(self) -> list[Page]:
        return [page for page in (self.root, self.missing) if isinstance(page, Page)]


class Visit(Struct):
    """Everything that was seen of ``name`` at ``address`` and ``port``. ``sweep`` is None where nothing speaks TLS;
    ``handshakes``: whole handshakes of TLS 1.3; ``failures``: what went wrong, for a person."""

    name: str
    address: str
    port: int
    pages: Pages | None = None
    sweep: SweepResult | None = None
    handshakes: list[Tls13Handshake] = field(default_factory=list)
    only_h2: bool | None = None
    renegotiates: bool | None = None
    seconds: float = 0.0
    connections: int = 0
    round_trips: int = 0
    failures: list[str] = field(default_factory=list)

    @property
    def is_silent(self) -> bool:
        """Whether no TLS came back, not even a refusal."""
        return self.sweep is not None and self.sweep.is_silent and not self.sweep.refuses_all

    @property
    def refuses(self) -> bool:
        """Whether it speaks TLS, and refuses every handshake for this name."""
        return self.sweep is not None and self.sweep.refuses_all

    @property
    def transport(self) -> Literal["tls", "plain"]:
        return "tls" if self.refuses or (self.sweep is not None and not self.sweep.is_silent) else "plain"

    @property
    def answered(self) -> bool:
        """Whether anything at all came back."""
        has_page = self.pages is not None and isinstance(self.pages.root, Page)
        sweep = self.sweep
        return has_page or self.refuses or (sweep is not None and (not sweep.is_silent or sweep.foreign is not None))


async def visit(listener: Listener, name: str, port: int, *, skip_paths: bool) -> Visit:
    """Look at ``name`` on ``listener``, known to the world as ``port``. Never raises for what a peer does."""
    clock = asyncio.get_running_loop().time
    begun = clock()
    found = Visit(name, listener.address, port)
    if port == 80:
        found.pages = await _look("http", listener, name, port, skip_paths=skip_paths)
        root = found.pages.root
        if (isinstance(root, NoPage) and root.kind in ("broken", "refused")) or (
            isinstance(root, Page) and root.status == 400
        ):
            await _tls(found, listener, name, port, skip_paths=skip_paths)
    elif not await _is_plain(found, listener, name, port, skip_paths=skip_paths) and found.is_silent:
        plain = await _look("http", listener, name, port, skip_paths=skip_paths)
        if isinstance(plain.root, Page) or found.pages is None:
            found.pages = plain
    found.seconds = clock() - begun
    found.connections, found.round_trips = listener.connections, listener.round_trips
    return found


async def _is_plain(found: Visit, listener: Listener, name: str, port: int, *, skip_paths: bool) -> bool:
    """Look over TLS; or, where nothing has answered in that language for a while, in clear. True when that is what it
    speaks: some servers wait for ever for the line end of what they take for a request."""
    secure = asyncio.create_task(_tls(found, listener, name, port, skip_paths=skip_paths))
    await asyncio.wait({secure}, timeout=min(_PLAIN_AFTER_SECONDS, listener.probe_limits.step_seconds / 2))
    if not secure.done() and not listener.has_answered:
        plain = await _look("http", listener, name, port, skip_paths=skip_paths)
        if isinstance(plain.root, Page) and plain.root.status != 400 and not listener.has_answered:
            secure.cancel()
            await asyncio.wait({secure})
            found.pages, found.sweep = plain, None
            return True
    await secure
    return False


async def _tls(found: Visit, listener: Listener, name: str, port: int, *, skip_paths: bool) -> None:
    sweeping = Sweep(listener, None if is_address(name) else name)
    async with asyncio.TaskGroup() as beside:
        beside.create_task(sweeping.details.run())
        await _all_but_details(found, sweeping, name, port, skip_paths=skip_paths)
        sweeping.details.rest_is_asked()
    await sweeping.doubt_closings()


async def _all_but_details(found: Visit, sweeping: Sweep, name: str, port: int, *, skip_paths: bool) -> None:
    listener, sni, plain_pages = sweeping.listener, sweeping.name, found.pages
    sweep, found.renegotiates, handshake, pages = await asyncio.gather(
        sweeping.run(),
        _renegotiation(sweeping),
        converse(listener, sni, _ALL_SCHEMES, _ALPN),
        _look("https", listener, name, port, skip_paths=skip_paths),
    )
    found.sweep = sweep
    if sweep.is_silent:
        found.pages = plain_pages
        return
    found.pages = pages
    if isinstance(handshake, Tls13Handshake):
        found.handshakes.append(handshake)
        if "TLSv1.2" not in sweep.suites:
            await _other_certificate(found, listener, sni)
    elif "TLSv1.3" in sweep.suites:
        found.failures.append(f"the TLS 1.3 handshake could not be finished: {handshake}")
    if not sweep.stapled and not any(t.certificates and t.certificates.staple for t in found.handshakes):
        await _staple_again(found, sweeping)
    protocol = found.handshakes[0].protocol if found.handshakes else sweep.protocol
    if protocol == "h2" and found.handshakes:
        again = await converse(listener, sni, _ALL_SCHEMES, _ALPN[1:])
        found.only_h2 = not (isinstance(again, Tls13Handshake) and again.protocol == "http/1.1")


async def _renegotiation(sweeping: Sweep) -> bool | None:
    """Whether a client may renegotiate, asked as soon as a version that can is known to be taken."""
    await sweeping.old_known.wait()
    return await client_renegotiates(sweeping.listener, sweeping.name) if sweeping.found_old else None


async def _staple_again(found: Visit, sweeping: Sweep) -> None:
    """Servers fetch a response when it is first asked for, and have it for whoever comes later."""
    sent = [handshake.certificates for handshake in found.handshakes if handshake.certificates is not None] or list(
        sweeping.found.chains.values()
    )
    if not any(chain.chain and _names_responder(chain.chain[0]) for chain in sent):
        return
    await asyncio.sleep(STAPLE_SECONDS)
    if found.handshakes:
        handshake = await converse(sweeping.listener, sweeping.name, _ALL_SCHEMES, _ALPN)
        if isinstance(handshake, Tls13Handshake):
            found.handshakes.append(handshake)
        return
    await sweeping.ask_once_more()


def _names_responder(der: bytes) -> bool:
    try:
        return bool(parse_der(der).ocsp_responders)
    except CredentialError:
        return False


async def _other_certificate(found: Visit, listener: Listener, sni: str | None) -> None:
    """A server of TLS 1.3 alone may have a second certificate, for clients that verify the other kind of signature."""
    scheme = found.handshakes[0].scheme
    kind = next((s.key for s in SCHEMES if s.code == scheme), "RSA")
    others = tuple(s.code for s in SCHEMES if s.key != kind)
    handshake = await converse(listener, sni, others, _ALPN)
    if isinstance(handshake, Tls13Handshake):
        found.handshakes.append(handshake)


async def _look(
    scheme: Literal["http", "https"], listener: Listener, name: str, port: int, *, skip_paths: bool
) -> Pages:
    async with AsyncExitStack() as stack:
        web = await stack.enter_async_context(Web(listener, scheme, name, port))
        found = Pages(scheme, await web.get("/"))
        if isinstance(found.root, NoPage):
            return found
        found.missing = await web.get(MISSING)
        rows = [] if skip_paths or (found.root.location is not None and scheme == "http") else known_paths()
        old = web  # what only HTTP/1.1 can ask
        if found.root.http == "HTTP/2" and not skip_paths:
            old = await stack.enter_async_context(Web(listener, scheme, name, port, http2=False))
        is_simple = found.root.http == "HTTP/1.0" or listener.probe_limits.at_once == 1
        async with asyncio.TaskGroup() as beside:
            if not is_simple:
                beside.create_task(_try_misuse(found, old, skip_paths=skip_paths))
            found.cross, found.stranger, *answers = await asyncio.gather(
                web.get("/", origin=FOREIGN_ORIGIN),
                _as_stranger(web, listener, port),
                *(web.get(row.target) for row in rows),
            )
        if not skip_paths:
            found.paths = list(zip(rows, answers, strict=True))
        # HTTP/1.0 takes a connection for each request, and connections are to stay few: no misuse is tried there.
        spare = skip_paths or found.root.http == "HTTP/1.0"
        if is_simple:
            await _try_misuse(found, old, skip_paths=spare)
        if isinstance(found.options, Page):
            await _try_last(found, old, skip_paths=spare or listener.room <= 0)
        return found


async def _try_misuse(found: Pages, old: Web, *, skip_paths: bool) -> None:
    """Whether a redirect decodes line ends, what a request as to a proxy gets, and which other methods are taken: harmless,
    since nobody reads that line, nobody has that name, and a tunnel would lead back.

    A simple server may wait for ever for what follows a method that it does not know: it is asked these last of all, and
    nothing more once it did not answer one.
    """
    if not skip_paths:
        if isinstance(found.root, Page) and found.root.location is not None:
            found.lines = await old.get(LINE_ENDS.format(mark=MARK))
        found.forwarded = await old.get("/", host=STRANGER, whole=True)
    found.options = await old.get("/", method="OPTIONS")


async def _try_last(found: Pages, old: Web, *, skip_paths: bool) -> None:
    """TRACE, and CONNECT to this listener itself; in clear also to port 443, which is what proxies let through. Many servers
    close the connection after either."""
    found.trace = await old.get("/", method="TRACE")
    if skip_paths or isinstance(found.trace, NoPage):
        return
    for target in dict.fromkeys((old.listener.port, 443) if old.scheme == "http" else (old.listener.port,)):
        found.tunnel = await old.opens_tunnel(old.listener.address, target)
        if found.tunnel is not False:
            return


async def _as_stranger(web: Web, listener: Listener, port: int) -> Page | NoPage:
    """A request for a name that nobody has; over TLS on a connection of its own, whose handshake asks for it too."""
    if web.scheme == "http":
        return await web.get("/", host=STRANGER)
    async with Web(listener, "https", STRANGER, port) as other:
        return await other.get("/")
