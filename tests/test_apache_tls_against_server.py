"""What Rupex predicts that an httpd listener negotiates, held against what other clients see of the real one."""

from __future__ import annotations

import unittest
from typing import Any

from rupex.audit.assess import gather
from rupex.host import open_tree
from rupex.model import Tls
from rupex.tls.negotiate import TLS13_DEFAULT
from tests.apache_oracle import running_apache
from tests.oracle import Case
from tests.tls_oracle import ASKED_GROUPS, are_asked, seen_by_openssl, versions_by_gnutls

HOST = """# modules: ssl http2 socache_shmcb headers
Listen 127.0.0.1:@secure@
<VirtualHost *:@secure@>
    ServerName a.test
    SSLEngine on
    SSLCertificateFile /etc/ssl/case/{kind}.pem
    SSLCertificateKeyFile /etc/ssl/case/{kind}.key
    {settings}
</VirtualHost>
<VirtualHost *:@secure@>
    ServerName b.a.test
    SSLEngine on
    SSLCertificateFile /etc/ssl/case/{kind}.pem
    SSLCertificateKeyFile /etc/ssl/case/{kind}.key
    {other}
</VirtualHost>
"""
PROTOCOL = "SSLOpenSSLConfCmd Protocol"
OLD = "SSLCipherSuite ALL:COMPLEMENTOFALL:@SECLEVEL=0;"

# What is set, the kind of certificate, and what the second name of the listener sets.
CASES = (
    ("nothing", "rsa", ""),
    ("nothing;", "ecdsa", ""),
    ("SSLProtocol all -SSLv3 -TLSv1 -TLSv1.1", "rsa", "SSLProtocol TLSv1.3"),
    ("SSLProtocol -all +TLSv1.2", "rsa", ""),
    ("SSLProtocol TLSv1.2", "rsa", "SSLProtocol TLSv1.2 +TLSv1.3"),
    ('SSLProtocol "-all" "+TLSv1.2"; SSLHonorCipherOrder "on"; SSLSessionTickets "off"', "rsa", ""),
    ("SSLProtocol 'TLSv1.3'; Protocols \"h2\" 'http/1.1'", "rsa", "SSLCompression 'off'"),
    (f"{OLD} SSLProtocol all", "rsa", ""),
    (f"{OLD} SSLProtocol +TLSv1 +TLSv1.1", "rsa", f"{OLD} SSLProtocol TLSv1.2"),
    ("SSLCipherSuite ECDHE-RSA-AES256-GCM-SHA384:AES128-SHA", "rsa", "SSLCipherSuite AES256-SHA"),
    ("SSLCipherSuite ECDHE+AESGCM:DHE+AESGCM; SSLHonorCipherOrder on", "rsa", ""),
    ("SSLCipherSuite DHE-RSA-AES128-SHA; SSLHonorCipherOrder off", "rsa", ""),
    ("SSLCipherSuite TLSv1.3 TLS_AES_128_GCM_SHA256", "rsa", ""),
    ("SSLCipherSuite HIGH:!aNULL; SSLSessionTickets off", "ecdsa", "SSLSessionTickets on"),
    ("nothing;;;;", "rsa", "SSLSessionTickets off"),
    ("SSLOpenSSLConfCmd Groups P-256:X25519", "rsa", ""),
    ("nothing;;", "rsa", "SSLOpenSSLConfCmd Groups P-256"),
    ("SSLOpenSSLConfCmd MinProtocol TLSv1.3", "rsa", ""),
    ("SSLHonorCipherOrder on", "rsa", "SSLOpenSSLConfCmd MaxProtocol TLSv1.2"),
    ("SSLCipherSuite TLSv1.3 TLS_AES_256_GCM_SHA384", "rsa", "SSLCipherSuite TLSv1.3 TLS_AES_128_GCM_SHA256"),
    ("SSLOpenSSLConfCmd SignatureAlgorithms RSA+SHA512:RSA-PSS+SHA512", "rsa", ""),
    ("nothing;;;", "rsa", "SSLOpenSSLConfCmd Ciphersuites TLS_AES_128_GCM_SHA256"),
    ("SSLOpenSSLConfCmd Options ServerPreference", "rsa", ""),
    ("Protocols h2 http/1.1", "rsa", "Protocols http/1.1"),
    ("Protocols http/1.1", "rsa", "Protocols h2"),
    ("SSLOpenSSLConfCmd SignatureAlgorithms RSA+SHA256:RSA-PSS+SHA256", "rsa", ""),
    (f"{OLD} SSLProtocol all -TLSv1.2", "rsa", f"{OLD} SSLProtocol TLSv1 +TLSv1.2"),
    (f"{OLD} SSLProtocol TLSv1 +TLSv1.1 +TLSv1.3", "rsa", "nothing"),
    (f"{OLD} SSLProtocol all; {PROTOCOL} -TLSv1.2", "rsa", f"{OLD} SSLProtocol all; {PROTOCOL} TLSv1.3"),
    (f"{OLD} SSLProtocol all; {PROTOCOL} -TLSv1.2", "rsa", f"{OLD} SSLProtocol all; {PROTOCOL} -TLSv1.1,+TLSv1.2"),
    (f"{OLD} SSLProtocol all; {PROTOCOL} -ALL,TLSv1.1,+TLSv1.3", "rsa", ""),
    (f"{OLD} SSLProtocol all; SSLOpenSSLConfCmd MaxProtocol TLSv1.1", "rsa", OLD),
    ("SSLProtocol TLSv1.2; SSLCipherSuite TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384:ECDHE-RSA-AES128-SHA256", "rsa", ""),
    ("Protocols http/1.1 h2; ProtocolsHonorOrder off", "rsa", "Protocols h2 http/1.1; ProtocolsHonorOrder off"),
)  # fmt: skip


def values(tls: Tls) -> dict[str, Any]:
    """What is predicted, as :func:`~tests.tls_oracle.seen_by_openssl` sees it."""
    suites, protocols = tls.suites.value or (), tls.protocols.value or ()
    asked = [suite for suite in suites if suite not in TLS13_DEFAULT]
    return {
        "protocols": list(protocols),
        "suites": are_asked(suites),
        "preference": tls.preference.value if len(asked) > 1 else None,
        "groups": set(tls.groups.value or ()).intersection(ASKED_GROUPS),
        "tickets": tls.tickets.value,
        "alpn": sorted(tls.alpn.value or ()),
        "compression": tls.compression.value,
        "dh_bits": tls.dh.value.bits if tls.dh is not None and tls.dh.value is not None else None,
    }


def comparable(values: dict[str, Any], predicted: dict[str, Any], *, with_groups: bool) -> dict[str, Any]:
    """``values`` as far as they can be compared with what is ``predicted``."""
    found = dict(values)
    if predicted["preference"] != "server":
        found["suites"] = sorted(found["suites"])
    # Without tickets of the server's own TLS 1.3 still sends some, by which the server finds the session again.
    if "TLSv1.2" not in predicted["protocols"]:
        del found["tickets"]
    if "TLSv1.2" not in predicted["protocols"] or not any("_DHE_" in suite for suite in predicted["suites"]):
        del found["dh_bits"]
    if not with_groups or not {"TLSv1.2", "TLSv1.3"}.intersection(predicted["protocols"]):
        del found["groups"]
    return found


class ApacheTlsTest(unittest.TestCase):
    maxDiff = None

    def test_settings_are_negotiated_as_predicted(self) -> None:
        for settings, kind, other in CASES:
            told = "" if settings.startswith("nothing") else settings.replace("; ", "\n    ").replace(";", "\n    ")
            other = "" if other == "nothing" else other
            text = HOST.format(kind=kind, settings=told, other=other.replace("; ", "\n    ").replace(";", "\n    "))
            case = Case(settings, text)
            with running_apache(case) as tree:
                evidence = gather(open_tree(tree).tree, "", name="case")
                for name in ("a.test", "b.a.test"):
                    with self.subTest(settings, kind=kind, other=other, name=name):
                        endpoint = next(e for e in evidence.host.endpoints if name in e.names)
                        assert endpoint.tls is not None
                        predicted = values(endpoint.tls)
                        with_groups = "Groups" in f"{settings}{other}" or settings in ("nothing", "nothing;")
                        seen = seen_by_openssl(case.secure, name, with_groups=with_groups)
                        compared = [comparable(one, predicted, with_groups=with_groups) for one in (predicted, seen)]
                        self.assertEqual(*compared)

    def test_gnutls_comes_to_terms_as_predicted(self) -> None:
        for settings in ("", "SSLProtocol TLSv1.2", "SSLProtocol TLSv1.3"):
            case = Case(f"gnutls {settings}", HOST.format(kind="rsa", settings=settings, other=""))
            with running_apache(case) as tree:
                evidence = gather(open_tree(tree).tree, "", name="case")
                tls = next(e.tls for e in evidence.host.endpoints if "a.test" in e.names)
                assert tls is not None
                newer = [version for version in tls.protocols.value or () if version in ("TLSv1.2", "TLSv1.3")]
                with self.subTest(settings):
                    self.assertEqual(newer, versions_by_gnutls(case.secure, "a.test"))
