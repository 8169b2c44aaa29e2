"""Peers that are broken or hostile: every one ends in a bounded time, with a problem or a finding, and never a traceback.

They are scripted byte peers of the test's own: no real server behaves so badly.
"""

from __future__ import annotations

import contextlib
import json
import socket
import time
import unittest
from collections.abc import Callable
from datetime import timedelta
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory
from threading import Thread
from typing import Any

from cryptography.hazmat.primitives.serialization import Encoding

from rupex.demo.listeners import listening
from rupex.demo.mint import Authority, new_key
from rupex.wire.codec import codepoints
from rupex.wire.codec.hello import decode_client_hello
from rupex.wire.codec.octets import number, vector
from rupex.wire.codec.records import Message, encode_records
from rupex.wire.connection.connection import MOST_CONNECTIONS
from tests import peers
from tests.oracle import free_port
from tests.support import NOW, rupex, valid_document

Answer = Callable[[socket.socket], None]
NAME = "www.ternholm.test"


def says(*pieces: bytes, drip: float = 0.0) -> Answer:
    """Reads something, then sends ``pieces``."""

    def answer(peer: socket.socket) -> None:
        peer.recv(1 << 14)
        for piece in pieces:
            peer.sendall(piece)
            time.sleep(drip)
        time.sleep(0.05)

    return answer


def endlessly(piece: bytes, wait: float = 0.0) -> Answer:
    def answer(peer: socket.socket) -> None:
        peer.recv(1 << 14)
        begun = time.monotonic()
        while time.monotonic() - begun < 20:
            peer.sendall(piece)
            time.sleep(wait)

    return answer


def silent(peer: socket.socket) -> None:
    time.sleep(20)


def resets(peer: socket.socket) -> None:
    peer.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\x01\x00\x00\x00\x00\x00\x00\x00")


def server_hello(suite: int, version: int = 0x0303, compression: int = 0) -> bytes:
    body = number(version, 2) + bytes(32) + b"\x00" + number(suite, 2) + number(compression, 1)
    return Message(codepoints.SERVER_HELLO, body).whole


def handshake(*messages: bytes) -> bytes:
    return encode_records(codepoints.HANDSHAKE, 0x0303, b"".join(messages))


DONE = Message(codepoints.SERVER_HELLO_DONE, b"").whole
HUGE = Message(codepoints.CERTIFICATE, b"").whole[:1] + b"\xff\xff\xff"


def http(head: str, body: str = "") -> Answer:
    return says(f"HTTP/1.1 {head}\r\nContent-Length: {len(body)}\r\nConnection: close\r\n\r\n{body}".encode("latin-1"))


def probe(port: int, at: int = 443, *, skip_paths: bool = True, patience: str = "5") -> tuple[int, Any, str]:
    """Exit status, the host in the document, and standard error. ``patience``: seconds, few only for what never answers."""
    done = rupex(
        "probe",
        f"{NAME}:{at}",
        "--connect",
        f"127.0.0.1:{port}",
        "--patience",
        patience,
        "--format",
        "json",
        *(["--skip-paths"] if skip_paths else []),
    )
    return done.returncode, valid_document(done.stdout)["hosts"][0], done.stderr


def deaf_to_ssl2(port: int, peer: socket.socket) -> None:
    """Hands a connection on to ``port``, unless it begins with a hello of SSL 2.0: that is never answered."""
    data = peer.recv(1 << 14)
    if data[:1] == b"\x80":
        time.sleep(20)
        return
    with socket.create_connection(("127.0.0.1", port)) as server:
        server.sendall(data)
        ahead = Thread(target=pump, args=(peer, server))
        ahead.start()
        pump(server, peer)
        ahead.join()


def pump(source: socket.socket, sink: socket.socket) -> None:
    with contextlib.suppress(OSError):
        while data := source.recv(1 << 14):
            sink.sendall(data)
        sink.shutdown(socket.SHUT_WR)


def takes_all(connections: list[int], certificate: bytes, more: bytes, peer: socket.socket) -> None:
    """Takes the first suite of any hello, in the version that is asked for; TLS 1.3 it does not know."""
    connections[0] += 1
    data = peer.recv(1 << 14)
    if data[:1] != b"\x16":
        return
    hello = decode_client_hello(data[9:])
    suite = next((code for code in hello.suites if code >> 8 not in (0x13, 0x56) and code != 0xFF), None)
    if suite is None:
        peer.sendall(encode_records(codepoints.ALERT, 0x0303, b"\x02\x28"))
        return
    sent = Message(codepoints.CERTIFICATE, vector(vector(certificate, 3), 3)).whole
    peer.sendall(handshake(server_hello(suite, hello.version), sent, more, DONE))
    peer.recv(1 << 14)


def new_certificate() -> bytes:
    key = new_key()
    return (
        Authority("Ternholm Lab CA", NOW).issue([NAME], key, NOW, NOW + timedelta(days=90)).public_bytes(Encoding.DER)
    )


class BadPeerTest(unittest.TestCase):
    def test_what_is_bad_in_what_was_seen_fails_although_not_all_was_seen(self) -> None:
        block = (
            f"listen LISTEN ssl; server_name {NAME}; ssl_certificate CRED/rsa.pem; ssl_certificate_key CRED/rsa.key;"
            " ssl_protocols TLSv1.2; ssl_ciphers AES128-SHA;"
        )
        with peers.nginx(block) as port, listening(partial(deaf_to_ssl2, port)) as way:
            status, host, _ = probe(way)
        self.assertEqual(status, 3)
        self.assertIn("SSLv2", host["problems"][0]["message"])
        told = {check["control"]: check["counts"] for check in host["checks"]}
        self.assertEqual(told["tls.suite.static-key"]["fail"], 1)
        for control in ("tls.suite.rc4", "tls.protocol.floor"):
            self.assertEqual((told[control]["pass"], told[control]["unknown"]), (0, 1), control)

    def test_what_breaks_the_protocol_is_a_problem_and_never_a_pass(self) -> None:
        certificate = Message(codepoints.CERTIFICATE, vector(vector(b"no certificate", 3), 3)).whole
        for case, answer in (
            ("says nothing", silent),
            ("closes at once", lambda peer: None),
            ("resets", resets),
            ("garbage", says(bytes(range(1, 200)))),
            ("drips", endlessly(b"\x16", 0.05)),
            ("a record longer than allowed", says(b"\x16\x03\x03\xff\xff" + bytes(300))),
            ("a message longer than what holds it", says(handshake(server_hello(0xC02F)[:20]))),
            ("a certificate message of sixteen megabytes", says(handshake(server_hello(0x002F)) + handshake(HUGE))),
            ("endless fragments", endlessly(b"\x16\x03\x03\x00\x00" * 64)),
            ("endless warnings", endlessly(b"\x15\x03\x03\x00\x02\x01\x5a" * 64)),
            ("chooses a suite that was not offered", says(handshake(server_hello(0xDADA), DONE))),
            ("a version that does not exist", says(handshake(server_hello(0x002F, 0x0399), DONE))),
        ):
            with self.subTest(case), listening(answer) as port:
                status, host, said = probe(port, patience="0.4")
                self.assertEqual((status, said), (3, ""))
                self.assertTrue(host["problems"], "nothing is said about it")
                bad = [check["control"] for check in host["checks"] if check["counts"]["pass"]]
                self.assertEqual([control for control in bad if control.startswith(("tls.", "cert."))], [])
        with (
            self.subTest("a certificate that is none"),
            listening(says(handshake(server_hello(0x002F), certificate, DONE))) as port,
        ):
            status, host, said = probe(port)
            self.assertEqual(said, "")
            checks = {check["control"]: check["verdict"] for check in host["checks"]}
            self.assertEqual((checks["cert.dates"], checks["tls.protocol.newest"]), ("unknown", "fail"))

    def test_a_server_of_another_age_fails_where_no_real_one_is_left_to_show_it(self) -> None:
        with listening(says(handshake(server_hello(0x002F, 0x0301, codepoints.DEFLATE), DONE))) as port:
            _, host, _ = probe(port)
        found = {check["control"]: check["verdict"] for check in host["checks"]}
        for control in ("tls.compression", "tls.renegotiation", "tls.protocol.newest"):
            self.assertEqual((control, found[control]), (control, "fail"))

    def test_a_peer_that_takes_everything_is_asked_within_bounds(self) -> None:
        certificate = new_certificate()
        authorities = b"".join(vector(b"\x30\x82\x01\xf0" + bytes(496), 2) for _ in range(120))
        request = Message(
            codepoints.CERTIFICATE_REQUEST, b"\x01\x01" + vector(b"\x04\x01", 2) + vector(authorities, 2)
        ).whole
        exchange = Message(codepoints.SERVER_KEY_EXCHANGE, b"\x03\xff\xff\x00").whole
        dates = certificate.replace(NOW.strftime("%y%m%d%H%M%SZ").encode(), b"991332000000Z")
        for case, der, more, unknown in (
            ("cut", certificate[:200], b"", ("cert.dates", "tls.signature.digest")),
            ("dates", dates, b"", ("cert.dates",)),
            ("authorities", certificate, request, ("tls.signature.digest",)),
            ("key exchange", certificate, exchange, ("tls.signature.digest", "tls.group.strength", "tls.group.dh")),
        ):
            connections = [0]
            with self.subTest(case), listening(partial(takes_all, connections, der, more)) as port:
                status, host, said = probe(port)
                self.assertEqual((status, said), (3, ""))
                self.assertLessEqual(connections[0], MOST_CONNECTIONS)
                verdicts = {check["control"]: check["verdict"] for check in host["checks"]}
                self.assertEqual({control: verdicts[control] for control in unknown}, dict.fromkeys(unknown, "unknown"))
                self.assertEqual(verdicts["tls.suite.rc4"], "fail")
                notes = host["endpoints"][0]["wire"]["notes"]
                self.assertEqual(len(notes), len(set(notes)))

    def test_plain_http_where_tls_is_expected_is_a_finding(self) -> None:
        with listening(http("200 OK", "<title>Ternholm</title>")) as port:
            _, host, _ = probe(port)
        found = {check["control"]: check["verdict"] for check in host["checks"]}
        self.assertEqual((found["transport.tls.listener"], found["redirect.present"]), ("fail", "fail"))
        self.assertEqual(host["endpoints"][0]["transport"], "plain")

    def test_an_application_that_takes_every_method_is_no_proxy(self) -> None:
        pretends = says(b"HTTP/1.1 200 OK\r\n\r\n", b"HTTP/1.1 200 OK\r\n\r\n", drip=0.05)
        for case, answer, wanted in (
            ("a page", http("200 OK", "ok"), "unknown"),
            ("a page without a length", says(b"HTTP/1.1 200 OK\r\nConnection: close\r\n\r\nok"), "unknown"),
            ("an answer behind the answer", pretends, "fail"),
        ):
            with self.subTest(case), listening(answer) as port:
                _, host, _ = probe(port, at=80, skip_paths=False)
                found = {check["control"]: check["verdict"] for check in host["checks"]}
                self.assertEqual(found["proxy.open"], wanted)

    def test_tls_on_port_80_is_seen_as_tls(self) -> None:
        with peers.s_server("-tls1_2") as port:
            _, host, _ = probe(port, at=80)
        self.assertEqual(host["endpoints"][0]["transport"], "tls")
        self.assertEqual(host["endpoints"][0]["tls"]["protocols"]["value"], ["TLSv1.2"])

    def test_where_a_redirect_leads_is_recorded_as_sent_and_shown_harmless(self) -> None:
        here = f"http://{NAME}"
        for sent, leads in (
            ("https://a.test/%2e%2e/%3Cb%3E", "https://a.test/%2e%2e/%3Cb%3E"),
            ("https://a.test/<script>alert(1)</script>", "https://a.test/<script>alert(1)</script>"),
            ("javascript:alert(1)", "javascript:alert(1)"),
            ("//b.test/\x1b[31m", "http://b.test/\x1b[31m"),
            ("https://\u00e9.test/\u202e", "https://\u00e9.test/\u202e"),
            ("/\\c.test/p#a\\b", "http://c.test/p#a\\b"),
            ("https://[::1", "https://[::1"),
            ("https://a.test:99999/", "https://a.test:99999/"),
            ("x:y", "x:y"),
            ("next", f"{here}/next"),
        ):
            answer = f"HTTP/1.1 302 Found\r\nLocation: {sent}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
            with self.subTest(sent), listening(says(answer.encode())) as port, TemporaryDirectory() as folder:
                forms = ("text", "html", "markdown", "csv", "junit", "sarif", "cyclonedx")
                files = [f"--output={form}:{folder}/{form}" for form in forms]
                way = ("--connect", f"127.0.0.1:{port}", "--patience", "5", "--skip-paths")
                done = rupex("probe", f"{NAME}:80", *way, "--format", "json", "--verbose", *files)
                self.assertEqual((done.stderr, done.returncode in (0, 3)), ("", True))
                exchange = valid_document(done.stdout)["hosts"][0]["endpoints"][0]["wire"]["exchanges"][0][0]
                self.assertEqual((exchange["location"], dict(exchange["headers"])["Location"]), (leads, sent))
                for form in forms:
                    shown = Path(folder, form).read_text()
                    self.assertNotRegex(shown, "[\x1b\u202e]", form)
                    if form in ("html", "markdown", "junit"):
                        self.assertNotIn("<script>alert", shown, form)

    def test_redirects_that_lead_nowhere_end(self) -> None:
        for case, location, words in (
            ("in a circle", f"http://{NAME}/", "circle"),
            ("to a file", "file:///etc/passwd", "no browser follows"),
            ("to a host that nobody asked for", "https://elsewhere.test/", "was not asked for"),
            ("to an address with a port that is none", "http://x:99999999/", "was not asked for"),
        ):
            with self.subTest(case), listening(http(f"301 Moved\r\nLocation: {location}")) as port:
                _, host, said = probe(port, at=80)
                hops = next(check for check in host["checks"] if check["control"] == "redirect.hops")
                self.assertIn(words, hops["places"][0]["message"])
                self.assertEqual(said, "")

    def test_headers_without_end_and_marks_that_turn_text(self) -> None:
        with listening(endlessly(b"HTTP/1.1 200 OK\r\nX-Pad: " + b"a" * 4000 + b"\r\n")) as port:
            status, host, said = probe(port, at=80, patience="0.4")
            self.assertEqual((status, said), (3, ""))
            self.assertTrue(host["problems"])
        evil = "200 OK\r\nServer: pier/1.0\x1b[31m\x9b5m\r\nX-Powered-By: <script>alert(1)</script>\x07"
        with listening(http(evil, "hello")) as port:
            shown = rupex("probe", f"{NAME}:80", "--connect", f"127.0.0.1:{port}", "--skip-paths", "--verbose")
        self.assertIn("pier/1.0", shown.stdout)
        self.assertEqual(
            [mark for mark in shown.stdout if (ord(mark) < 32 and mark != "\n") or 126 < ord(mark) < 160], []
        )

    def test_a_name_without_address_and_a_closed_port_leave_the_others(self) -> None:
        closed = free_port()
        with listening(http("404 Not Found")) as port:
            done = rupex("probe", "nobody.invalid", f"127.0.0.1:{closed}", f"localhost:{port}", "--format", "json",
                         "--skip-paths", "--patience", "2")  # fmt: skip
        self.assertEqual(done.returncode, 3)
        nobody, shut, there = valid_document(done.stdout)["hosts"]
        self.assertIn("does not resolve", json.dumps(nobody["problems"]))
        self.assertEqual([(p["kind"], p["message"]) for p in shut["problems"]], [("refused", "the port is closed")])
        self.assertEqual((len(there["endpoints"]), there["problems"]), (1, []))

    def test_a_server_that_stops_answering_leaves_unknowns(self) -> None:
        taken = 0

        def bans(peer: socket.socket) -> None:
            nonlocal taken
            peer.recv(1 << 14)
            taken += 1
            if taken < 8:
                peer.sendall(handshake(server_hello(0x002F), DONE))
                time.sleep(0.05)

        with listening(bans) as port:
            status, host, _ = probe(port)
        self.assertEqual(status, 3)
        checks = {check["control"]: check for check in host["checks"]}
        self.assertEqual(checks["tls.suite.rc4"]["verdict"], "unknown")


if __name__ == "__main__":
    unittest.main()
