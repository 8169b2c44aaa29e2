"""Protocol versions, suites and ALPN that Rupex predicts for nginx, held against handshakes with nginx."""

from __future__ import annotations

import subprocess
import unittest
from functools import cache

from rupex.assess import gather
from rupex.host import open_tree
from rupex.model import Endpoint
from rupex.tls.suites import suite_called
from tests.oracle import Case, accepted_suites, handshake, running_nginx

VERSIONS = ("TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3")

SERVER = """
server {{
    listen 127.0.0.1:@secure@ ssl{listen};
    server_name {name};
    ssl_certificate /etc/ssl/case/{kind}.pem;
    ssl_certificate_key /etc/ssl/case/{kind}.key;
    {more}
    return 200 fine;
}}
"""


def server(name: str = "a.test", kind: str = "rsa", listen: str = "", more: str = "") -> str:
    return SERVER.format(name=name, kind=kind, listen=listen, more=more)


BOTH = "ssl_certificate /etc/ssl/case/ecdsa.pem; ssl_certificate_key /etc/ssl/case/ecdsa.key;"

# What the case is about, and its configuration. Every name is then asked for versions, suites and ALPN.
CASES = (
    ("the defaults", server()),
    ("old versions are enabled, the library at its level refuses them", server(more="ssl_protocols TLSv1 TLSv1.1 TLSv1.2;")),
    (
        "old versions come back with level 0 in the cipher list",
        server(more='ssl_protocols TLSv1 TLSv1.1 TLSv1.2; ssl_ciphers "ALL:@SECLEVEL=0";'),
    ),
    ("TLS 1.3 alone", server(more="ssl_protocols TLSv1.3;")),
    ("an ECDSA certificate offers no RSA suites", server(kind="ecdsa")),
    ("both kinds of certificate", server(more=BOTH)),
    ("a list of AEAD suites", server(more="ssl_ciphers EECDH+AESGCM:EECDH+CHACHA20; ssl_prefer_server_ciphers on;")),
    ("no parameters, so no finite-field suites", server(more="ssl_ciphers DHE:ECDHE;")),
    ("NULL suites with level 0", server(more='ssl_protocols TLSv1.2; ssl_ciphers "ALL:eNULL:@SECLEVEL=0";')),
    ("h2 by a word of listen", server(listen=" http2")),
    (
        "versions are the default server's, suites the name's own",
        server(more="ssl_protocols TLSv1.2;")
        + server("www.a.test", more="ssl_protocols TLSv1.3 TLSv1.2; ssl_ciphers ECDHE-RSA-AES256-GCM-SHA384;"),
    ),
    (
        "versions are the default server's, also where it offers more",
        server() + server("www.a.test", more="ssl_protocols TLSv1.3;"),
    ),
)  # fmt: skip


@cache
def known_to_the_library() -> tuple[str, ...]:
    said = subprocess.run(
        ["openssl", "ciphers", "ALL:COMPLEMENTOFALL:@SECLEVEL=0"], capture_output=True, text=True, check=True
    )
    return tuple(
        name
        for name in said.stdout.strip().split(":")
        if not name.startswith("TLS_") and "PSK" not in name and "SRP" not in name
    )


class NginxTlsTest(unittest.TestCase):
    def test_versions_suites_and_alpn_are_as_predicted(self) -> None:
        for number, (about, text) in enumerate(CASES):
            case = Case(f"tls-{number}", text)
            with running_nginx(case) as tree:
                evidence = gather(open_tree(tree).tree, "", name=case.name)
                self.assertEqual(evidence.host.problems, ())
                for endpoint in evidence.host.endpoints:
                    with self.subTest(about, name=endpoint.names[0]):
                        self._compare(endpoint, case.secure)

    def _compare(self, endpoint: Endpoint, port: int) -> None:
        name = endpoint.names[0]
        assert endpoint.tls is not None
        spoken = tuple(version for version in VERSIONS if handshake(port, name, version) is not None)
        self.assertEqual(endpoint.tls.protocols.value, spoken)
        if "TLSv1.2" in spoken:
            predicted = [s for s in map(suite_called, endpoint.tls.suites.value or ()) if s and s.version != "TLSv1.3"]
            accepted = accepted_suites(port, name, "TLSv1.2", known_to_the_library())
            self.assertEqual(sorted(str(s.openssl) for s in predicted), sorted(accepted))
            if endpoint.tls.preference.value == "server":
                reverse = ":".join(reversed(accepted))
                chosen = handshake(port, name, "TLSv1.2", reverse)
                assert chosen is not None
                self.assertEqual(chosen[0], predicted[0].openssl)
        agreed = handshake(port, name, spoken[-1], alpn=("h2", "http/1.1"))
        assert agreed is not None
        self.assertEqual(agreed[1], (endpoint.tls.alpn.value or ("",))[0])


if __name__ == "__main__":
    unittest.main()
