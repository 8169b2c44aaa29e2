"""The sweep against real servers: what it finds equals what each was told to do, and what its library allows."""

from __future__ import annotations

import asyncio
import socket
import time
import unittest
from contextlib import AbstractContextManager
from functools import partial
from typing import Any

from rupex.demo.listeners import listening
from rupex.model import Endpoint
from rupex.tls.suites import all_suites
from rupex.wire.codec import codepoints
from rupex.wire.connection.connection import Listener, ListenerError, ProbeLimits
from rupex.wire.connection.web import NoPage, Page
from rupex.wire.observe.describe import endpoint_of
from rupex.wire.observe.visit import Pages, Visit, visit
from tests import peers
from tests.peers import NAME

_NAMES = {suite.openssl: suite.name for suite in all_suites() if suite.openssl and suite.version != "SSLv2"}
_GOOD = "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384 TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256".split()
_NEWEST = "TLS_AES_256_GCM_SHA384 TLS_CHACHA20_POLY1305_SHA256 TLS_AES_128_GCM_SHA256".split()
_OPENSSL_GROUPS = "x25519 secp256r1 x448 secp521r1 secp384r1 ffdhe2048 ffdhe3072 ffdhe4096 ffdhe6144 ffdhe8192".split()


def suites(words: str) -> list[str]:
    """Suites by OpenSSL's names, in IANA's."""
    return [_NAMES[word] for word in words.split(":")]


def look(port: int, name: str = NAME, *, skip_paths: bool = True, **probe_limits: Any) -> Visit:
    async def go() -> Visit:
        listener = Listener("127.0.0.1", port, ProbeLimits(**probe_limits), asyncio.Semaphore(64))
        return await visit(listener, name, port, skip_paths=skip_paths)

    return asyncio.run(go())


def slow_to_accept(port: int, peer: socket.socket) -> None:
    """Hands a connection on to ``port``: refusals come back at once, handshakes that go on take their time."""
    with socket.create_connection(("127.0.0.1", port)) as server:
        server.sendall(peer.recv(1 << 14))
        while data := server.recv(1 << 14):
            if data[0] == codepoints.HANDSHAKE:
                time.sleep(0.2)
            peer.sendall(data)
            if data[0] == codepoints.HANDSHAKE:
                return


Told = dict[str, Any]
"""What a peer was told: ``protocols``, suites by version (in order where ``order`` is server), ``groups`` as a set, ``alpn``,
``dh`` bits, ``chains`` by kind of key, and single facts by their names in the model."""

NGINX = (
    "listen LISTEN ssl; server_name www.ternholm.test; ssl_certificate CRED/rsa.pem; ssl_certificate_key CRED/rsa.key;"
)

CASES: tuple[tuple[str, AbstractContextManager[int], Told], ...] = (
    (
        "nginx: the server decides, and 256 bits stand last",
        peers.nginx(
            f"{NGINX} ssl_protocols TLSv1.2 TLSv1.3; ssl_prefer_server_ciphers on; ssl_session_tickets off;"
            " ssl_ciphers ECDHE-RSA-AES128-GCM-SHA256:ECDHE-RSA-AES256-GCM-SHA384;"
        ),
        {
            "protocols": "TLSv1.2 TLSv1.3", "TLSv1.3": _NEWEST, "TLSv1.2": _GOOD[::-1], "order": "server",
            "groups": _OPENSSL_GROUPS, "alpn": ["http/1.1"], "chains": {"RSA": 2}, "secure_renegotiation": True,
            "client_renegotiation": False, "master_secret": True, "compression": False, "stapling": False,
        },
    ),
    (
        "nginx: old versions, a stapled response, both kinds of certificate, finite-field parameters, h2",
        peers.nginx(
            f"{NGINX.replace('ssl;', 'ssl http2;')} ssl_certificate CRED/ecdsa.pem; ssl_certificate_key CRED/ecdsa.key;"
            " ssl_protocols TLSv1 TLSv1.1 TLSv1.2; ssl_ciphers DHE-RSA-AES128-SHA:ECDHE-ECDSA-AES128-SHA@SECLEVEL=0;"
            " ssl_dhparam CRED/dh1024.pem; ssl_ecdh_curve prime256v1; ssl_stapling on; ssl_stapling_file CRED/staple.der;"
        ),
        {
            "protocols": "TLSv1 TLSv1.1 TLSv1.2", "TLSv1": suites("ECDHE-ECDSA-AES128-SHA:DHE-RSA-AES128-SHA"),
            "TLSv1.2": suites("ECDHE-ECDSA-AES128-SHA:DHE-RSA-AES128-SHA"), "groups": ["secp256r1"], "dh": 1024,
            "alpn": ["h2", "http/1.1"], "chains": {"RSA": 2, "ECDSA": 2}, "fallback_signal": True, "stapling": True,
        },
    ),
    (
        "nginx: a client certificate is asked for",
        peers.nginx(f"{NGINX} ssl_protocols TLSv1.3; ssl_verify_client optional_no_ca; ssl_early_data on;"),
        {"protocols": "TLSv1.3", "TLSv1.3": _NEWEST, "groups": _OPENSSL_GROUPS, "asks": True, "early_data": True},
    ),
    (
        "Apache: its own order",
        peers.apache(
            "SSLEngine on\nSSLCertificateFile CRED/rsa.pem\nSSLCertificateKeyFile CRED/rsa.key\nSSLProtocol TLSv1.2\n"
            "SSLHonorCipherOrder on\nSSLCipherSuite AES128-SHA:ECDHE-RSA-AES256-GCM-SHA384"
        ),
        {
            "protocols": "TLSv1.2", "TLSv1.2": suites("AES128-SHA:ECDHE-RSA-AES256-GCM-SHA384"), "order": "server",
            "alpn": ["http/1.1"], "chains": {"RSA": 2}, "client_renegotiation": False,
        },
    ),
    (
        "HAProxy: order of the bind line in both versions, two groups",
        peers.haproxy(
            "crt CRED/rsa.both alpn h2,http/1.1 ssl-min-ver TLSv1.2 curves P-256:X448"
            " ciphers ECDHE-RSA-AES256-GCM-SHA384:AES128-SHA:ECDHE-RSA-AES128-SHA"
            " ciphersuites TLS_CHACHA20_POLY1305_SHA256:TLS_AES_128_GCM_SHA256"
        ),
        {
            "protocols": "TLSv1.2 TLSv1.3", "order": "server", "groups": ["secp256r1", "x448"], "alpn": ["h2", "http/1.1"],
            "TLSv1.3": ["TLS_CHACHA20_POLY1305_SHA256", "TLS_AES_128_GCM_SHA256"],
            "TLSv1.2": suites("ECDHE-RSA-AES256-GCM-SHA384:AES128-SHA:ECDHE-RSA-AES128-SHA"),
        },
    ),
    (
        "OpenSSL: TLS 1.3 with one odd suite, a group that has to be asked for, early data",
        peers.s_server("-tls1_3", "-ciphersuites", "TLS_AES_128_CCM_8_SHA256", "-groups", "P-521", "-early_data", www=False),
        {
            "protocols": "TLSv1.3", "TLSv1.3": ["TLS_AES_128_CCM_8_SHA256"], "groups": ["secp521r1"],
            "chains": {"RSA": 2}, "early_data": True,
        },
    ),
    (
        "OpenSSL: suites that do not encrypt, a client that may renegotiate",
        peers.s_server("-tls1_2", "-cipher", "NULL-SHA256:AES256-SHA256@SECLEVEL=0", "-client_renegotiation"),
        {
            "protocols": "TLSv1.2", "TLSv1.2": suites("AES256-SHA256:NULL-SHA256"), "groups": [], "order": "client",
            "client_renegotiation": True,
        },
    ),
    (
        "GnuTLS: versions back to 1.0, its own order within each kind of certificate",
        peers.gnutls(
            "NONE:+VERS-TLS1.0:+VERS-TLS1.2:+VERS-TLS1.3:+AES-128-CBC:+AES-256-GCM:+SHA1:+AEAD:+ECDHE-RSA:+ECDHE-ECDSA:+RSA"
            ":+GROUP-SECP384R1:+SIGN-ALL:+COMP-NULL:+CTYPE-X509:%SERVER_PRECEDENCE"
        ),
        {
            "protocols": "TLSv1 TLSv1.2 TLSv1.3", "TLSv1.3": ["TLS_AES_256_GCM_SHA384"], "groups": ["secp384r1"],
            "TLSv1": suites("ECDHE-RSA-AES128-SHA:ECDHE-ECDSA-AES128-SHA:AES128-SHA"),
        },
    ),
    (
        "Java: the enabled suites in their order",
        peers.java(
            "TLSv1.2,TLSv1.3",
            "TLS_AES_256_GCM_SHA384,TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,TLS_RSA_WITH_AES_128_CBC_SHA",
        ),
        {
            "protocols": "TLSv1.2 TLSv1.3", "order": "server", "TLSv1.3": _NEWEST[:1],
            "TLSv1.2": ["TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256", "TLS_RSA_WITH_AES_128_CBC_SHA"],
        },
    ),
    (
        # Go puts ChaCha20 first for a client that does: a comparison with it in front looks as if the client decided.
        "Go: a hybrid group with ML-KEM",
        peers.caddy(curves=["x25519mlkem768", "x25519"], protocol_min="tls1.2"),
        {
            "protocols": "TLSv1.2 TLSv1.3", "groups": ["X25519MLKEM768", "x25519"], "order": "server", "alpn": ["h2", "http/1.1"],
            "TLSv1.2": suites(
                "ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384:ECDHE-ECDSA-CHACHA20-POLY1305"
            ),
        },
    ),
    (
        "OpenSSL 1.0.0: SSL 2.0, SSL 3.0 and TLS 1.0",
        peers.node("node08", ciphers="RC4:DES-CBC3-MD5", secureProtocol="SSLv23_method", honorCipherOrder=True),
        {
            "protocols": "SSLv2 SSLv3 TLSv1", "fallback_signal": False, "order": "server",
            # There "RC4" selects the export suite of SSL 2.0 too.
            "SSLv2": ["SSL_CK_RC4_128_WITH_MD5", "SSL_CK_RC4_128_EXPORT40_WITH_MD5", "SSL_CK_DES_192_EDE3_CBC_WITH_MD5"],
            "SSLv3": suites("RC4-SHA:RC4-MD5"), "TLSv1": suites("RC4-SHA:RC4-MD5"),
        },
    ),
    (
        # To an SSL 2.0 hello it answers with an empty list, which is no offer.
        "OpenSSL 1.0.0: export suites with a key of 512 bits",
        peers.node("node08", "short", ciphers="EXP:!SSLv2", honorCipherOrder=True),
        {
            "protocols": "SSLv3 TLSv1",
            "TLSv1": suites("EXP-DES-CBC-SHA:EXP-RC2-CBC-MD5:EXP-RC4-MD5"),
        },
    ),
    (
        "OpenSSL 1.0.2: anonymous suites, no extended master secret",
        peers.node("node4", ciphers="AECDH-AES128-SHA:AES128-GCM-SHA256", honorCipherOrder=True),
        {
            "protocols": "TLSv1 TLSv1.1 TLSv1.2", "TLSv1.2": suites("AECDH-AES128-SHA:AES128-GCM-SHA256"),
            "TLSv1": suites("AECDH-AES128-SHA"), "master_secret": False, "groups": ["secp256r1"],
        },
    ),
    (
        # Whoever keeps no connection open gets one more for each page.
        "nginx: no order of strength, and no connection outlives its answer",
        peers.nginx(
            f"{NGINX} ssl_protocols TLSv1 TLSv1.1 TLSv1.2 TLSv1.3; ssl_prefer_server_ciphers on; keepalive_timeout 0;"
            " ssl_certificate CRED/ecdsa.pem; ssl_certificate_key CRED/ecdsa.key; ssl_ciphers AES128-SHA:"
            "ECDHE-RSA-AES128-GCM-SHA256:AES256-GCM-SHA384:ECDHE-ECDSA-AES128-GCM-SHA256:CAMELLIA128-SHA@SECLEVEL=0;"
        ),
        {
            "protocols": "TLSv1 TLSv1.1 TLSv1.2 TLSv1.3", "TLSv1.3": _NEWEST,
            "TLSv1.2": suites(
                "AES128-SHA:ECDHE-RSA-AES128-GCM-SHA256:AES256-GCM-SHA384:ECDHE-ECDSA-AES128-GCM-SHA256:CAMELLIA128-SHA"
            ),
            "TLSv1.1": suites("AES128-SHA:CAMELLIA128-SHA"), "TLSv1": suites("AES128-SHA:CAMELLIA128-SHA"),
        },
    ),
    (
        "tlslite-ng: SSL 3.0 alone, with RC4 and 3DES",
        peers.tlslite(minVersion=(3, 0), maxVersion=(3, 0), cipherNames=["rc4", "3des"], keyExchangeNames=["rsa"],
                      macNames=["sha", "md5"]),
        {"protocols": "SSLv3", "SSLv3": suites("RC4-SHA:RC4-MD5:DES-CBC3-SHA")},
    ),
    (
        "tlslite-ng: anonymous key exchange over a finite field",
        peers.tlslite(anonymous=True, minVersion=(3, 1), maxVersion=(3, 3), cipherNames=["aes128"], macNames=["sha"],
                      keyExchangeNames=["dh_anon"]),
        {"protocols": "TLSv1 TLSv1.1 TLSv1.2", "TLSv1.2": suites("ADH-AES128-SHA"), "chains": {}, "dh": 2048},
    ),
)  # fmt: skip


class SweepTest(unittest.TestCase):
    maxDiff = None

    def test_what_is_found_is_what_the_server_was_told(self) -> None:
        for name, peer, told in CASES:
            with self.subTest(name), peer as port:
                found = look(port)
                self.compare(endpoint_of(found, ()), found, told)
                self.assertLessEqual(found.connections, self.promised(found), "more connections than promised")

    def promised(self, found: Visit) -> int:
        """Forty, one for each version and suite, and one for each page where the server closes the connection after it."""
        assert found.sweep is not None
        every = [getattr(found.pages, field, None) for field in Pages.__struct_fields__]
        pages = [page for page in every if isinstance(page, Page | NoPage)]
        closes = any(isinstance(page, Page) and page.closes for page in pages)
        return 40 + found.sweep.pairs + closes * len(pages)

    def test_no_more_connections_are_made_than_promised(self) -> None:
        async def go(port: int) -> int:
            listener = Listener("127.0.0.1", port, ProbeLimits(), asyncio.Semaphore(64))
            with self.assertRaisesRegex(ListenerError, "so that connections stay few"):
                while True:
                    async with listener.open():
                        pass
            return listener.connections

        with listening(lambda peer: None) as port:
            self.assertEqual(asyncio.run(go(port)), 40)

    def test_who_decides_the_order_is_told_when_all_suites_of_tls_1_3_are_known(self) -> None:
        for more, wanted in (("", "client"), (" ssl_prefer_server_ciphers on;", "server")):
            block = f"{NGINX} ssl_protocols TLSv1.3;{more}"
            with self.subTest(wanted), peers.nginx(block) as port, listening(partial(slow_to_accept, port)) as slow:
                tls = endpoint_of(look(slow), ()).tls
                assert tls is not None
                self.assertEqual((sorted(tls.suites.value or ()), tls.preference.value), (sorted(_NEWEST), wanted))

    def compare(self, endpoint: Endpoint, found: Visit, told: Told) -> None:
        tls, wire = endpoint.tls, endpoint.wire
        assert tls is not None
        assert wire is not None
        assert found.sweep is not None
        self.assertEqual(found.sweep.doubts, {})
        self.assertEqual(" ".join(tls.protocols.value or ()), told["protocols"])
        is_ordered = told.get("order") == "server"
        for key, wanted in told.items():
            match key:
                case "protocols":
                    continue
                case "TLSv1.3" | "TLSv1.2" | "TLSv1.1" | "TLSv1" | "SSLv3" | "SSLv2":
                    got = list(wire.suites[key])
                    if is_ordered and key != "SSLv2":
                        self.assertEqual(got, wanted, f"{key}, in order")
                    self.assertCountEqual(got, wanted, key)
                case "order":
                    self.assertEqual(tls.preference.value, wanted)
                case "groups":
                    self.assertCountEqual(tls.groups.value or (), wanted)
                case "alpn":
                    self.assertEqual(list(tls.alpn.value or ()), wanted)
                case "dh":
                    self.assertEqual(tls.dh and tls.dh.value and tls.dh.value.bits, wanted)
                case "chains":
                    lengths = {use.certificate: 0 for use in tls.certificates}
                    self.assertCountEqual([place.rpartition("(")[2][:-1] for place in lengths if place], wanted)
                    self.assertCountEqual([len(chain) for chain in wire.chains], wanted.values())
                case "asks":
                    self.assertIs(tls.client_certificate and tls.client_certificate.is_known, False)
                case _:
                    setting = getattr(tls, key)
                    self.assertEqual(setting and setting.value, wanted, key)

    def test_the_signature_schemes_are_those_that_the_library_allows(self) -> None:
        server = f"{NGINX} ssl_protocols TLSv1.2; ssl_ciphers ECDHE+AESGCM@SECLEVEL=%d;"
        modern = [f"rsa_{kind}_sha{bits}" for kind in ("pkcs1", "pss_rsae") for bits in (256, 384, 512)]
        for level, more in ((0, ["rsa_pkcs1_sha1", "rsa_pkcs1_sha224"]), (2, ["rsa_pkcs1_sha224"])):
            with self.subTest(level=level), peers.nginx(server % level) as port:
                tls = endpoint_of(look(port), ()).tls
                self.assertCountEqual((tls and tls.signatures and tls.signatures.value) or (), modern + more)


if __name__ == "__main__":
    unittest.main()
