"""nginx's ``stream`` block: TLS that is taken off, and what goes through unopened; held against the real server."""

from __future__ import annotations

import socket
import ssl
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from rupex.documents.run import CheckDocument
from rupex.model import Endpoint
from tests.oracle import free_port, handshake, nginx_version, openssl_version
from tests.peers import credentials, running, scratch, tool
from tests.support import TreeTest, rupex

VERSIONS = ("TLSv1.2", "TLSv1.3")


@contextmanager
def stream_server(text: str, port: int) -> Iterator[None]:
    """The real server with what ``text`` says in its main block."""
    with scratch() as folder:
        (folder / "nginx.conf").write_text(
            "load_module /usr/lib/nginx/modules/ngx_stream_module.so;\n"
            f"daemon off; pid {folder}/pid; error_log stderr; events {{ worker_connections 64; }}\n{text}"
        )
        with running([tool("nginx"), "-c", f"{folder}/nginx.conf", "-p", str(folder)], port, folder):
            yield


def sent_certificate(port: int, name: str) -> bytes:
    """The certificate (DER) that a client gets who asks for ``name``."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    with (
        socket.create_connection(("127.0.0.1", port), 10) as plain,
        context.wrap_socket(plain, server_hostname=name) as tls,
    ):
        return tls.getpeercert(binary_form=True) or b""


class StreamTest(TreeTest):
    def endpoints(self, text: str) -> list[Endpoint]:
        self.write({"etc/nginx/nginx.conf": text})
        versions = {"nginx": nginx_version(), "openssl": openssl_version()}
        return list(self.gather(**versions).host.endpoints)

    def check(self, control: str, **assumed: str) -> CheckDocument:
        return next(check for check in self.assess(**assumed).checks if check.control == control)

    def test_tls_of_a_stream_server_is_as_the_server_speaks_it(self) -> None:
        cred = credentials()
        for about, more in (
            ("the defaults", ""),
            ("one version", "ssl_protocols TLSv1.2;"),
            ("the newest alone", "ssl_protocols TLSv1.3;"),
            ("protocols inside TLS", "ssl_alpn h2 mqtt;"),
        ):
            port, behind = free_port(), free_port()
            text = (
                f"stream {{ server {{ listen 127.0.0.1:{port} ssl; ssl_certificate {cred}/rsa.pem;"
                f" ssl_certificate_key {cred}/rsa.key; {more} proxy_pass 127.0.0.1:{behind}; }} }}\n"
            )
            found = self.endpoints(text.replace(str(cred), "/etc/ssl/x"))
            self.assertEqual([(e.transport, e.answers_http, e.scopes) for e in found], [("tls", False, ())], about)
            tls = found[0].tls
            assert tls is not None
            with self.subTest(about), stream_server(text, port):
                for version in VERSIONS:
                    spoken = handshake(port, "a.test", version, alpn=("mqtt",))
                    self.assertEqual(version in (tls.protocols.value or ()), spoken is not None, version)
                    if spoken is not None:
                        self.assertEqual(spoken[1], "mqtt" if "mqtt" in (tls.alpn.value or ()) else None)

    def test_old_versions_of_a_stream_server_fail(self) -> None:
        self.write(
            {
                "etc/nginx/nginx.conf": "stream { server { listen 8443 ssl; ssl_protocols SSLv3 TLSv1.2;"
                " ssl_certificate a.pem; ssl_certificate_key a.key; proxy_pass 10.0.0.1:1; } }"
            }
        )
        check = self.check("tls.protocol.floor", nginx="1.22.1", openssl="1.0.2")
        self.assertEqual([(p.verdict, p.line) for p in check.places], [("fail", 1)])
        self.assertEqual(self.check("header.hsts").counts.fail, 0)
        self.assertEqual(self.check("surface.limits").counts.exempt, 1)

    def test_names_decide_where_what_is_sent_goes_on_to(self) -> None:
        cred = credentials()
        port, one, other = free_port(), free_port(), free_port()
        text = (
            "stream {\n"
            f"map $ssl_preread_server_name $to {{ hostnames; pier1.test rsa; pier2.test rsa; default 127.0.0.1:{other}; }}\n"
            f"upstream rsa {{ server 127.0.0.1:{one}; }}\n"
            f"server {{ listen 127.0.0.1:{port}; ssl_preread on; proxy_pass $to; }}\n"
            f"server {{ listen 127.0.0.1:{one} ssl; ssl_certificate {cred}/rsa.pem; ssl_certificate_key {cred}/rsa.key;"
            " return a; }\n"
            f"server {{ listen 127.0.0.1:{other} ssl; ssl_certificate {cred}/ecdsa.pem;"
            f" ssl_certificate_key {cred}/ecdsa.key; return b; }}\n}}\n"
        )
        found = self.endpoints(text)
        through = [e for e in found if e.transport == "passthrough"]
        targets = {}
        for endpoint in through:
            assert isinstance(endpoint.backends, tuple)
            for name in endpoint.names or ("pier9.test",):
                targets[name] = [backend.port for backend in endpoint.backends]
        self.assertEqual(targets, {"pier1.test": [one], "pier2.test": [one], "pier9.test": [other]})
        self.assertEqual([e.opened_here for e in through], [True, True])
        self.assertEqual([e.default for e in through], [False, True])
        sent: dict[int | None, str] = {one: "rsa", other: "ecdsa"}
        with stream_server(text, port):
            for name, ports in targets.items():
                leaf, end, _ = Path(cred, f"{sent[ports[0]]}.pem").read_text().partition("-----END CERTIFICATE-----")
                self.assertEqual(sent_certificate(port, name), ssl.PEM_cert_to_DER_cert(leaf + end), name)

    def test_who_opens_it_is_judged_and_is_open_to_others(self) -> None:
        self.mint(["a.test"])
        self.write(
            {
                "etc/nginx/nginx.conf": "stream { server { listen 443; ssl_preread on; proxy_pass 127.0.0.1:8443; } }\n"
                "http { server { listen 127.0.0.1:8443 ssl; server_name a.test; ssl_protocols TLSv1 TLSv1.2;\n"
                "ssl_certificate /etc/ssl/site.pem; ssl_certificate_key /etc/ssl/site.key; } }\n"
            }
        )
        check = self.check("tls.protocol.floor", openssl="1.1.1")
        self.assertEqual(sorted(place.verdict for place in check.places), ["exempt", "fail"])
        self.assertEqual([e.is_local for e in self.gather().host.endpoints], [False, False])

    def test_tls_that_nobody_here_opens_is_unknown(self) -> None:
        self.write(
            {"etc/nginx/nginx.conf": "stream { server { listen 443; ssl_preread on; proxy_pass 198.51.100.9:443; } }\n"}
        )
        document = self.assess()
        for control in (
            "tls.protocol.floor",
            "tls.suite.rc4",
            "cert.names",
            "transport.tls.offered",
            "transport.tls.listener",
        ):
            check = next(check for check in document.checks if check.control == control)
            self.assertEqual(check.verdict, "unknown", control)
            self.assertNotIn("pass", [place.verdict for place in check.places], control)

    def test_a_request_is_answered_by_whom_it_goes_on_to(self) -> None:
        self.write(
            {"etc/nginx/nginx.conf": "stream { server { listen 443; ssl_preread on; proxy_pass 198.51.100.9:444; } }\n"}
        )
        done = rupex("effective", self.root, "--url", "https://a.test/")
        self.assertIn("198.51.100.9:444 decides the answer", done.stdout)
        self.assertIn("etc/nginx/nginx.conf:1", done.stdout)
        self.assertIn("198.51.100.9:444", rupex("effective", self.root).stdout)

    def test_what_speaks_mail_is_not_passed_over(self) -> None:
        self.write_nginx("server { listen 80; return 444; }")
        file = self.root / "etc/nginx/nginx.conf"
        file.write_text(file.read_text() + "mail { server { listen 993 ssl; protocol imap; } }\n")
        problems = self.gather().host.problems
        self.assertEqual([(p.kind, p.hides_endpoints) for p in problems], [("unmodelled", True)])


if __name__ == "__main__":
    unittest.main()
