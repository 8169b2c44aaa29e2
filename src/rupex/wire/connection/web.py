"""HTTP on the wire: single requests to one listener, bounded in size and time. httpx speaks; nothing is followed by itself."""

from __future__ import annotations

import asyncio
import contextlib
import ssl
import warnings
from collections.abc import AsyncIterator
from typing import Any, Final, Literal
from urllib.parse import urlsplit

import httpx
from msgspec import Struct

from rupex import __version__
from rupex.http.urls import resolved
from rupex.model import bounds
from rupex.wire.connection.connection import Listener, ListenerError

AGENT: Final = f"rupex/{__version__}"
_LEGACY_SERVER_CONNECT: Final = 0x4  # SSL_OP_LEGACY_SERVER_CONNECT: take a server without RFC 5746, to look at it
_CONNECTIONS: Final = 3
_SERVER_SPEAKS: Final = (b"HTTP/", b"\x15\x03", b"\x16\x03")  # an answer, or an alert or a handshake of TLS


class Page(Struct, frozen=True):
    """One answer. ``headers`` in the order sent; ``body``: its beginning."""

    url: str
    status: int
    headers: tuple[tuple[str, str], ...]
    body: str
    http: str

    def values(self, name: str) -> list[str]:
        """The values of a header, its name in lower case."""
        return [value for key, value in self.headers if key.lower() == name]

    @property
    def closes(self) -> bool:
        """Whether the server closes the connection after this answer (RFC 9112, 9.3)."""
        wishes = {wish.strip().lower() for value in self.values("connection") for wish in value.split(",")}
        return "close" in wishes or (self.http in ("HTTP/1.0", "HTTP/0.9") and "keep-alive" not in wishes)

    @property
    def location(self) -> str | None:
        """Where a redirect leads, absolute; None for another answer."""
        values = self.values("location")
        if self.status not in (301, 302, 303, 307, 308) or not values:
            return None
        return resolved(self.url, values[0])


class NoPage(Struct, frozen=True):
    """No answer. ``kind``: ``refused`` a handshake or a connection closed on purpose; ``broken``: what came is no HTTP."""

    kind: Literal["refused", "unreachable", "timeout", "broken", "port", "unasked"]
    why: str


def origin_of(scheme: str, name: str, port: int) -> str:
    """``https://www.ternholm.test``, the port left out where it is the scheme's own."""
    host = f"[{name}]" if ":" in name else name
    return f"{scheme}://{host}" + ("" if port == {"https": 443, "http": 80}[scheme] else f":{port}")


def _context() -> ssl.SSLContext:
    """A client that takes whatever it is given: it looks, and trusts nothing."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    context.options |= _LEGACY_SERVER_CONNECT
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)  # old versions are what is looked for
        context.minimum_version = ssl.TLSVersion.TLSv1
    with contextlib.suppress(ssl.SSLError):
        context.set_ciphers("ALL:COMPLEMENTOFALL:@SECLEVEL=0")
    return context


class Web:
    """Requests to ``listener`` as ``scheme``://``name``:``port``. Used as an asynchronous context.

    ``http2``: whether HTTP/2 may be spoken over TLS; what only HTTP/1.1 can say needs it off.
    """

    def __init__(
        self, listener: Listener, scheme: Literal["http", "https"], name: str, port: int, *, http2: bool = True
    ) -> None:
        self.listener, self.scheme, self.name, self.port = listener, scheme, name, port
        self._own = asyncio.Semaphore(_CONNECTIONS)
        address = f"[{listener.address}]" if ":" in listener.address else listener.address
        self._way = f"{scheme}://{address}:{listener.port}"
        limits = httpx.Limits(max_connections=_CONNECTIONS, max_keepalive_connections=_CONNECTIONS)
        # A client of httpx takes an answer for broken whose Location is no URL; the transport says what came.
        self._transport = httpx.AsyncHTTPTransport(
            verify=_context(), http2=http2 and scheme == "https", limits=limits, trust_env=False
        )
        self._timeout = httpx.Timeout(listener.probe_limits.step_seconds).as_dict()

    async def __aenter__(self) -> Web:
        return self

    async def __aexit__(self, *_: object) -> None:
        with contextlib.suppress(httpx.HTTPError, OSError, ssl.SSLError, RuntimeError):
            await self._transport.aclose()

    async def get(
        self,
        target: str,
        *,
        method: str = "GET",
        host: str | None = None,
        origin: str | None = None,
        whole: bool = False,
    ) -> Page | NoPage:
        """The answer to one request. ``target``: path and query; ``host``: another name to ask for; ``origin``: where a
        script that asks would come from (Fetch standard, 3.2); ``whole``: ask for the absolute URL, as one asks a proxy
        (RFC 9112, 3.2.2)."""
        name = self.name if host is None else host
        authority = origin_of(self.scheme, name, self.port).partition("://")[2]
        headers = {
            "Host": authority,
            "User-Agent": AGENT,
            "Accept": "*/*",
            "Accept-Encoding": "identity",
            "Connection": "keep-alive",
        }
        if origin is not None:
            headers["Origin"] = origin
        extensions = {"sni_hostname": name, "trace": self._trace, "timeout": self._timeout}
        if whole:
            extensions["target"] = f"{self.scheme}://{authority}{target}".encode("ascii", "replace")
        try:
            async with self._own, self.listener.place(), asyncio.timeout(self.listener.step_seconds()):
                request = httpx.Request(method, self._way + target, headers=headers, extensions=extensions)
                async with self._answered(request) as response:
                    return await self._page(response, f"{self.scheme}://{authority}{target}")
        except (TimeoutError, httpx.TimeoutException):
            return NoPage("timeout", f"no whole answer within {self.listener.probe_limits.step_seconds:g} s")
        except ListenerError as error:
            return NoPage("unasked" if error.kind == "unasked" else "timeout", error.why)
        except httpx.ConnectError as error:
            return _connect_failure(error)
        except httpx.RemoteProtocolError as error:
            if "without sending a response" in str(error):
                return NoPage("refused", "the connection was closed without an answer")
            return NoPage("broken", f"what came is no HTTP ({_short(error)})")
        except (httpx.DecodingError, httpx.LocalProtocolError) as error:
            return NoPage("broken", f"what came is no HTTP ({_short(error)})")
        except (httpx.HTTPError, ssl.SSLError) as error:
            return NoPage("refused", f"the connection was closed ({_short(error)})")
        except (ValueError, UnicodeError, httpx.InvalidURL) as error:
            return NoPage("broken", f"it cannot be asked ({_short(error)})")

    async def opens_tunnel(self, address: str, port: int) -> bool | NoPage:
        """Whether a CONNECT (RFC 9110, 9.3.6) to ``address`` and ``port`` is obeyed: a server behind the tunnel answers. An
        application that says 200 to every method opens none: its answer has content, which a tunnel's cannot have."""
        authority = f"[{address}]:{port}" if ":" in address else f"{address}:{port}"
        extensions = {
            "sni_hostname": self.name, "trace": self._trace, "target": authority.encode(), "timeout": self._timeout,
        }  # fmt: skip
        seconds = self.listener.step_seconds()
        try:
            async with self._own, self.listener.place(), asyncio.timeout(seconds):
                headers = {"Host": authority, "User-Agent": AGENT}
                request = httpx.Request("CONNECT", self._way, headers=headers, extensions=extensions)
                async with self._answered(request) as response:
                    self.listener.round_trips += 1
                    has_content = any(name in response.headers for name in ("content-length", "transfer-encoding"))
                    if not response.is_success or has_content:
                        return False
                    through = response.extensions["network_stream"]
                    await through.write(f"GET / HTTP/1.1\r\nHost: {authority}\r\nConnection: close\r\n\r\n".encode())
                    self.listener.round_trips += 1
                    return bytes(await through.read(5, timeout=seconds / 2)).startswith(_SERVER_SPEAKS)
        except ListenerError as error:
            return NoPage("unasked" if error.kind == "unasked" else "timeout", error.why)
        except (TimeoutError, httpx.TimeoutException):
            return NoPage("timeout", "a CONNECT was not answered in time")
        except (httpx.HTTPError, ssl.SSLError, OSError, ValueError, RuntimeError) as error:
            return NoPage("refused", f"the connection was closed ({_short(error)})")

    @contextlib.asynccontextmanager
    async def _answered(self, request: httpx.Request) -> AsyncIterator[httpx.Response]:
        response = await self._transport.handle_async_request(request)
        try:
            yield response
        finally:
            await response.aclose()

    async def _page(self, response: httpx.Response, url: str) -> Page:
        body = b""
        async for chunk in response.aiter_raw():
            body += chunk
            if len(body) >= bounds.WEB_BODY_BYTES:
                break
        self.listener.round_trips += 1
        headers = tuple(
            (key.decode("ascii", "backslashreplace"), value.decode("utf-8", "backslashreplace"))
            for key, value in response.headers.raw[: bounds.WEB_HEADERS]
        )
        headers = tuple((key, value[: bounds.WEB_HEADER_CHARACTERS]) for key, value in headers)
        text = body[: bounds.WEB_BODY_BYTES].decode("utf-8", "replace")
        page = Page(url, response.status_code, headers, text, response.http_version)
        self.listener.closes |= page.closes
        return page

    async def _trace(self, event: str, _: dict[str, Any]) -> None:
        if event == "connection.connect_tcp.started":
            self.listener.pages += self.listener.closes
            self.listener.count()
        elif event in ("connection.connect_tcp.complete", "connection.start_tls.complete"):
            self.listener.round_trips += 1


def _connect_failure(error: httpx.ConnectError) -> NoPage:
    reason: BaseException | None = error
    while reason is not None:
        if isinstance(reason, ssl.SSLError):
            return NoPage("refused", f"the handshake was refused ({_short(reason)})")
        if isinstance(reason, ConnectionRefusedError):
            return NoPage("port", "the port is closed")
        reason = reason.__cause__ or reason.__context__
    words = str(error)
    if "refused" in words or "All connection attempts failed" in words:
        return NoPage("port", "the port is closed")
    return NoPage("unreachable", f"no connection ({_short(error)})")


def _short(error: BaseException) -> str:
    text = str(error) or type(error).__name__
    return text.splitlines()[0][:120]


def parts_of_url(url: str) -> tuple[str, str, int | None, str] | None:
    """Scheme, host (lower case), port and target (path and query) of an absolute URL; None for what is none."""
    try:
        parts = urlsplit(url)
        port = parts.port
    except ValueError:
        return None
    if not parts.scheme or parts.hostname is None:
        return None
    target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    return parts.scheme.lower(), parts.hostname, port or {"https": 443, "http": 80}.get(parts.scheme.lower()), target
