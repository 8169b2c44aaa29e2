"""Protocol versions, suites and ALPN that Rupex predicts for nginx, held against handshakes with nginx."""

from __future__ import annotations

import re
import subprocess
import unittest
from collections.abc import Sequence
from typing import Any

from rupex.audit.assess import gather
from rupex.host import open_tree
from rupex.model import Endpoint, Tls
from rupex.tls.negotiate import TLS13_DEFAULT
from rupex.tls.signatures import SCHEMES
from rupex.tls.suites import suite_called
from tests.oracle import Case, accepted_suites, handshake, is_agreed, running_nginx, s_client, using_newest_nginx
from tests.tls_oracle import ASKED_GROUPS, VERSIONS, known_to_the_library

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


OLD_AND_NEW = "ssl_protocols TLSv1.2 TLSv1.3; "
POLICY = """openssl_conf = default_conf
[default_conf]
ssl_conf = ssl_sect
[ssl_sect]
system_default = system_default_sect
[system_default_sect]
"""

# About one setting each: its name, the default server's and the other's directives, the system's policy. Each is measured.
SETTINGS = (
    ("groups are the library's own", "groups", OLD_AND_NEW, OLD_AND_NEW, ""),
    ("groups are the default server's", "groups", OLD_AND_NEW + "ssl_ecdh_curve secp384r1;",
     OLD_AND_NEW + "ssl_ecdh_curve X25519:prime256v1;", ""),
    ("groups by a command", "groups", OLD_AND_NEW + "ssl_conf_command Groups P-521:X448;", OLD_AND_NEW, ""),
    ("groups below the level are not offered", "groups", "ssl_ecdh_curve secp224r1:secp192r1:secp256k1;", "", ""),
    ("groups of TLS 1.2 are no finite fields", "groups", "ssl_protocols TLSv1.2;", "", ""),
    ("groups by the system's policy", "groups", OLD_AND_NEW, OLD_AND_NEW, "Groups = P-384:P-256\n"),
    ("the order is the name's own", "preference", "ssl_prefer_server_ciphers on;", "", ""),
    ("the order by a command", "preference", "", "ssl_conf_command Options ServerPreference;", ""),
    ("tickets need both servers' consent", "tickets", "ssl_session_tickets off;", "", ""),
    ("tickets may be off for one name", "tickets", "", "ssl_session_tickets off;", ""),
    ("tickets by a command", "tickets", "", "ssl_conf_command Options -SessionTicket;", ""),
    ("finite-field parameters are the name's own", "dh", "ssl_dhparam /etc/ssl/case/dh.pem;", "", ""),
    ("early data is the default server's", "early_data", OLD_AND_NEW + "ssl_early_data on;", OLD_AND_NEW, ""),
    ("early data only in the other has no effect", "early_data", OLD_AND_NEW, OLD_AND_NEW + "ssl_early_data on;", ""),
    ("a client's certificate", "client_certificate", "ssl_verify_client optional_no_ca;", "", ""),
    ("a response is stapled from a file", "stapling", "ssl_stapling on; ssl_stapling_file /etc/ssl/case/staple.der;", "", ""),
    ("nothing is stapled for a certificate without a responder", "stapling", "ssl_stapling on;", "ssl_stapling on;", ""),
    ("SHA-1 signatures at level 0", "signatures", "", 'ssl_ciphers "HIGH:@SECLEVEL=0";', ""),
    ("signatures by a command", "signatures", OLD_AND_NEW, OLD_AND_NEW + "ssl_conf_command SignatureAlgorithms RSA-PSS+SHA512;", ""),
    ("versions by a command, of the default server", "protocols", OLD_AND_NEW + "ssl_conf_command MinProtocol TLSv1.3;", "", ""),
    ("versions by a command, of another", "protocols", OLD_AND_NEW, OLD_AND_NEW + "ssl_conf_command MinProtocol TLSv1.3;", ""),
    ("surprise: nginx sets aside the system's lowest version", "protocols", OLD_AND_NEW, "", "MinProtocol = TLSv1.3\n"),
    ("the system's level lets old versions in", "protocols", "ssl_protocols TLSv1 TLSv1.2;", "", "CipherString = DEFAULT@SECLEVEL=0\n"),
    ("suites of TLS 1.3 are the default server's", "newest_suites",
     OLD_AND_NEW + "ssl_conf_command Ciphersuites TLS_CHACHA20_POLY1305_SHA256;", OLD_AND_NEW, ""),
    ("suites of TLS 1.3 by the system's policy", "newest_suites", OLD_AND_NEW, "", "Ciphersuites = TLS_AES_128_GCM_SHA256\n"),
    ("suites by a command", "suites", "ssl_conf_command CipherString ECDHE-RSA-AES128-SHA256; ssl_ciphers AES256-SHA;", "", ""),
)  # fmt: skip

ORDERS = (
    "ECDHE-RSA-AES256-GCM-SHA384:ECDHE-RSA-AES128-GCM-SHA256",
    "ECDHE-RSA-AES128-GCM-SHA256:ECDHE-RSA-AES256-GCM-SHA384",
)


OF_THE_NEWEST = ("protocols", "tickets", "newest_suites", "early_data")
"""Settings that are asked of the newest release too: those that changed, or might have, with what decides by name."""


class NginxTlsTest(unittest.TestCase):
    def test_versions_suites_and_alpn_are_as_predicted(self) -> None:
        self._ask(CASES)

    def test_the_newest_release_is_as_predicted(self) -> None:
        with using_newest_nginx():
            by_directive = ("h2 by a directive, for one name", server(more="http2 on;") + server("www.a.test"))
            self._ask((CASES[0], CASES[1], *CASES[-2:], by_directive))

    def _ask(self, cases: Sequence[tuple[str, str]]) -> None:
        for number, (about, text) in enumerate(cases):
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


class NginxTlsSettingsTest(unittest.TestCase):
    """Each setting of its own, and whose it is: the listener's default server's or the name's."""

    def test_each_setting_is_as_predicted_for_both_names(self) -> None:
        self._ask(SETTINGS)

    def test_the_newest_release_is_as_predicted(self) -> None:
        groups = next(row for row in SETTINGS if row[0] == "groups are the default server's")
        with using_newest_nginx():
            self._ask([groups, *(row for row in SETTINGS if row[1] in OF_THE_NEWEST)])

    def _ask(self, settings: Sequence[tuple[str, str, str, str, str]]) -> None:
        for number, (about, setting, first, other, policy) in enumerate(settings):
            text = server(more=first) + server("www.a.test", more=other)
            case = Case(f"setting-{number}", text, openssl_conf=POLICY + policy if policy else "")
            with running_nginx(case) as tree:
                evidence = gather(open_tree(tree).tree, "", name=case.name)
                self.assertEqual(evidence.host.problems, ())
                for endpoint in evidence.host.endpoints:
                    assert endpoint.tls is not None
                    with self.subTest(about, name=endpoint.names[0]):
                        predicted, measured = getattr(self, f"_{setting}")(endpoint.tls, case.secure, endpoint.names[0])
                        self.assertEqual(predicted, measured)

    def _groups(self, tls: Tls, port: int, name: str) -> tuple[Any, Any]:
        older = ("-tls1_2", "-cipher", "ECDHE:@SECLEVEL=0")
        spoken = [
            option
            for version, option in (("TLSv1.2", older), ("TLSv1.3", ("-tls1_3",)))
            if version in (tls.protocols.value or ())
        ]
        measured = {
            g for g in ASKED_GROUPS for options in spoken if is_agreed(s_client(port, name, "-groups", g, *options))
        }
        return set(tls.groups.value or ()).intersection(ASKED_GROUPS), measured

    def _preference(self, tls: Tls, port: int, name: str) -> tuple[Any, Any]:
        chosen = {handshake(port, name, "TLSv1.2", order) for order in ORDERS}
        return tls.preference.value, "server" if len(chosen) == 1 else "client"

    def _tickets(self, tls: Tls, port: int, name: str) -> tuple[Any, Any]:
        return tls.tickets.value, "ticket lifetime hint" in s_client(port, name, "-tls1_2")

    def _dh(self, tls: Tls, port: int, name: str) -> tuple[Any, Any]:
        assert tls.dh is not None
        said = s_client(port, name, "-tls1_2", "-cipher", "DHE")
        measured = re.search(r"Server Temp Key: DH, (\d+) bits", said)
        if tls.dh.value is not None:
            self.assertEqual(tls.dh.value.group, "ffdhe3072")
        return tls.dh.value and tls.dh.value.bits, measured and int(measured[1])

    def _early_data(self, tls: Tls, port: int, name: str) -> tuple[Any, Any]:
        assert tls.early_data is not None
        with subprocess.Popen(
            ["openssl", "s_client", "-connect", f"127.0.0.1:{port}", "-servername", name, "-tls1_3"],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
        ) as client:  # fmt: skip
            assert client.stdin is not None
            assert client.stdout is not None
            client.stdin.write(f"GET / HTTP/1.1\r\nHost: {name}\r\nConnection: close\r\n\r\n".encode())
            client.stdin.flush()
            said = client.stdout.read().decode(errors="replace")
        largest = re.findall(r"Max Early Data: (\d+)", said)
        self.assertTrue(largest)
        return tls.early_data.value, largest[-1] != "0"

    def _client_certificate(self, tls: Tls, port: int, name: str) -> tuple[Any, Any]:
        assert tls.client_certificate is not None
        asked = "Client Certificate Types" in s_client(port, name, "-tls1_2")
        return tls.client_certificate.value, "unverified" if asked else "none"

    def _stapling(self, tls: Tls, port: int, name: str) -> tuple[Any, Any]:
        return tls.stapling.value, "OCSP Response Status: successful" in s_client(port, name, "-tls1_2", "-status")

    def _signatures(self, tls: Tls, port: int, name: str) -> tuple[Any, Any]:
        assert tls.signatures is not None
        measured = []
        for scheme in SCHEMES:
            if scheme.key == "RSA":
                said = s_client(port, name, "-tls1_2", "-sigalgs", scheme.openssl, "-cipher", "ECDHE:@SECLEVEL=0")
                if is_agreed(said):
                    measured.append(scheme.name)
        return set(tls.signatures.value or ()), set(measured)

    def _protocols(self, tls: Tls, port: int, name: str) -> tuple[Any, Any]:
        return tls.protocols.value, tuple(v for v in VERSIONS if handshake(port, name, v) is not None)

    def _newest_suites(self, tls: Tls, port: int, name: str) -> tuple[Any, Any]:
        predicted = {s for s in tls.suites.value or () if s in TLS13_DEFAULT}
        return predicted, {s for s in TLS13_DEFAULT if is_agreed(s_client(port, name, "-tls1_3", "-ciphersuites", s))}

    def _suites(self, tls: Tls, port: int, name: str) -> tuple[Any, Any]:
        predicted = [s.openssl for s in map(suite_called, tls.suites.value or ()) if s and s.version != "TLSv1.3"]
        return sorted(map(str, predicted)), sorted(accepted_suites(port, name, "TLSv1.2", known_to_the_library()))


if __name__ == "__main__":
    unittest.main()
