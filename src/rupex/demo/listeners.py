"""Simulated listeners on loopback for the demo: the booking site before and after its repair, and a camera on a quay.

They are stand-ins, and said to be: the sites are Python's own TLS with the settings that the scenario's servers have; the
camera only knows the first half of a handshake, in versions that no library here speaks any more.
"""

from __future__ import annotations

import os
import socket
import ssl
import threading
import warnings
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from datetime import timedelta
from pathlib import Path
from typing import Final

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.serialization import Encoding
from msgspec import Struct

from rupex.demo.mint import Authority, new_key, write_chain, write_key
from rupex.demo.scenario import NOW
from rupex.wire.codec import codepoints
from rupex.wire.codec.hello import decode_client_hello
from rupex.wire.codec.octets import WireError, number, vector
from rupex.wire.codec.records import Flight, Message, encode_records

_PATIENCE_SECONDS: Final = 2.0
_LONGEST_REQUEST: Final = 1 << 14

BEFORE: Final = {"Server": "nginx/1.18.0"}
AFTER: Final = {
    "Server": "nginx",
    "Strict-Transport-Security": "max-age=31536000; includeSubDomains",
    "X-Content-Type-Options": "nosniff",
    "Content-Security-Policy": "default-src 'self'; object-src 'none'; base-uri 'self'; frame-ancestors 'none'",
    "Referrer-Policy": "no-referrer",
    "Permissions-Policy": "camera=(), microphone=(), geolocation=()",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
}
_PAGE: Final = "<!doctype html><title>Ternholm Ferries</title><p>Book a crossing."


class Simulated(Struct, frozen=True):
    """One simulated host: its ``name``, and the port on loopback that stands for each of its own; ``anchor``: the SHA-256 of
    the certificate of the company's own authority."""

    name: str
    what: str
    ports: Mapping[int, int]
    anchor: str


Answer = Callable[[socket.socket], None]


@contextmanager
def simulated_listeners(folder: Path) -> Iterator[tuple[Simulated, ...]]:
    """The three hosts, running until the context ends. ``folder``: for the keys that are made for them."""
    name = "booking.ternholm.test"
    authority = Authority("Ternholm Ferries Services CA", NOW)
    key = new_key("RSA")
    chain, key_file = folder / "listener.pem", folder / "listener.key"
    start = NOW - timedelta(days=81)
    leaf = authority.issue([name, "fares.ternholm.test"], key, start, start + timedelta(days=90))
    write_chain(chain, leaf, authority.certificate)
    write_key(key_file, key)
    anchor = authority.certificate.fingerprint(hashes.SHA256()).hex()
    before = _context(
        chain, key_file, ssl.TLSVersion.TLSv1, ssl.TLSVersion.TLSv1_2, "AES256-SHA:ECDHE-RSA-AES128-SHA@SECLEVEL=0"
    )
    renewed = authority.issue([name, f"www.{name}"], key, NOW - timedelta(days=1), NOW + timedelta(days=89))
    write_chain(chain, renewed, authority.certificate)
    after = _context(chain, key_file, ssl.TLSVersion.TLSv1_2, ssl.TLSVersion.TLSv1_3, "EECDH+AESGCM:EECDH+CHACHA20")
    with ExitStack() as stack:

        def listen(answer: Answer) -> int:
            return stack.enter_context(listening(answer))

        yield (
            Simulated(
                name,
                "the booking site, before",
                {443: listen(_over_tls(before, _site(BEFORE))), 80: listen(_site(BEFORE))},
                anchor,
            ),
            Simulated(
                "camera.piers.ternholm.test",
                "a camera on a quay",
                {443: listen(_camera(renewed.public_bytes(Encoding.DER)))},
                anchor,
            ),
            Simulated(
                name,
                "the booking site, after",
                {443: listen(_over_tls(after, _site(AFTER))), 80: listen(_redirects(name))},
                anchor,
            ),
        )


def _context(chain: Path, key: Path, oldest: ssl.TLSVersion, newest: ssl.TLSVersion, ciphers: str) -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(chain, key)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)
        context.minimum_version, context.maximum_version = oldest, newest
    context.set_ciphers(ciphers)
    return context


@contextmanager
def listening(answer: Answer) -> Iterator[int]:
    """A listener on a free port of loopback, which is given: each connection is handed to ``answer`` in a thread of its own,
    and closed afterwards."""
    listener = socket.create_server(("127.0.0.1", 0), backlog=128)

    def accept() -> None:
        while True:
            try:
                peer, _ = listener.accept()
            except OSError:
                return
            threading.Thread(target=_served, args=(answer, peer), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    try:
        yield listener.getsockname()[1]
    finally:
        with suppress(OSError):
            listener.shutdown(socket.SHUT_RDWR)
        listener.close()


def _served(answer: Answer, peer: socket.socket) -> None:
    with peer, suppress(OSError, WireError):
        answer(peer)


def _over_tls(context: ssl.SSLContext, answer: Answer) -> Answer:
    def shake(peer: socket.socket) -> None:
        peer.settimeout(_PATIENCE_SECONDS)
        with context.wrap_socket(peer, server_side=True) as tls:
            answer(tls)

    return shake


def _site(headers: Mapping[str, str]) -> Answer:
    """A page at ``/``, and errors elsewhere."""

    def answer(peer: socket.socket) -> None:
        peer.settimeout(_PATIENCE_SECONDS)
        while (request := _request(peer)) is not None:
            method, path, host = request
            if not host.endswith("ternholm.test"):
                _send(peer, "404 Not Found", headers, "")
            elif method != "GET":
                _send(peer, "405 Method Not Allowed", headers, "")
            elif path == "/":
                _send(peer, "200 OK", {"Content-Type": "text/html", **headers}, _PAGE)
            else:
                _send(peer, "404 Not Found", headers, f"<h1>404</h1><hr>{headers['Server']}")

    return answer


def _redirects(name: str) -> Answer:
    def answer(peer: socket.socket) -> None:
        peer.settimeout(_PATIENCE_SECONDS)
        while (request := _request(peer)) is not None:
            target = request[1] if request[1].startswith("/") else "/"
            _send(peer, "301 Moved Permanently", {"Server": "nginx", "Location": f"https://{name}{target}"}, "")

    return answer


def _request(peer: socket.socket) -> tuple[str, str, str] | None:
    """Method, path and host of the next request, None when there is none."""
    data = b""
    while b"\r\n\r\n" not in data:
        more = peer.recv(4096)
        if not more or len(data) > _LONGEST_REQUEST:
            return None
        data += more
    head = data.decode("latin-1").split("\r\n")
    words = head[0].split()
    host = next((line.partition(":")[2].strip() for line in head if line.lower().startswith("host:")), "")
    return (words[0], words[1], host.partition(":")[0]) if len(words) == 3 else None


def _send(peer: socket.socket, status: str, headers: Mapping[str, str], body: str) -> None:
    lines = "".join(f"{name}: {value}\r\n" for name, value in headers.items())
    peer.sendall(f"HTTP/1.1 {status}\r\n{lines}Content-Length: {len(body)}\r\n\r\n{body}".encode())


# What the camera takes, in its order: RC4, 3DES and export suites (RFC 6101, A.6; RFC 2246, A.5).
_CAMERA_SUITES: Final = (0x0005, 0x0004, 0x000A, 0x0003)


def _camera(certificate: bytes) -> Answer:
    """SSL 3.0 and TLS 1.0, as far as the certificate."""

    def answer(peer: socket.socket) -> None:
        peer.settimeout(_PATIENCE_SECONDS)
        flight = Flight()
        while not flight.messages:
            data = peer.recv(4096)
            if not data:
                return
            flight.feed(data)
        hello = decode_client_hello(flight.messages[0].body)
        version = min(hello.version, codepoints.VERSION_NUMBERS["TLSv1"])
        suite = next((code for code in _CAMERA_SUITES if code in hello.suites), None)
        if (
            suite is None
            or version < codepoints.VERSION_NUMBERS["SSLv3"]
            or dict(hello.extensions).get(codepoints.SUPPORTED_VERSIONS)
        ):
            peer.sendall(encode_records(codepoints.ALERT, version, bytes([2, 40])))
            return
        body = number(version, 2) + os.urandom(32) + b"\x00" + number(suite, 2) + b"\x00"
        messages = [
            Message(codepoints.SERVER_HELLO, body),
            Message(codepoints.CERTIFICATE, vector(vector(certificate, 3), 3)),
            Message(codepoints.SERVER_HELLO_DONE, b""),
        ]
        peer.sendall(encode_records(codepoints.HANDSHAKE, version, b"".join(message.whole for message in messages)))
        peer.recv(4096)

    return answer
