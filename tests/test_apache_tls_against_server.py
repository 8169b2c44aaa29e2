"""What Rupex predicts that an httpd listener negotiates, held against what a probe of the real one sees."""

from __future__ import annotations

import json
import unittest
from typing import Any

from rupex.audit.assess import gather
from rupex.host import open_tree
from tests.apache_oracle import running_apache
from tests.oracle import Case
from tests.support import seen_from_outside

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
    (f"{OLD} SSLProtocol all", "rsa", ""),
    (f"{OLD} SSLProtocol +TLSv1 +TLSv1.1", "rsa", f"{OLD} SSLProtocol TLSv1.2"),
    ("SSLCipherSuite ECDHE-RSA-AES256-GCM-SHA384:AES128-SHA", "rsa", "SSLCipherSuite AES256-SHA"),
    ("SSLCipherSuite ECDHE+AESGCM:DHE+AESGCM; SSLHonorCipherOrder on", "rsa", ""),
    ("SSLCipherSuite DHE-RSA-AES128-SHA; SSLHonorCipherOrder off", "rsa", ""),
    ("SSLCipherSuite TLSv1.3 TLS_AES_128_GCM_SHA256", "rsa", ""),
    ("SSLCipherSuite HIGH:!aNULL; SSLSessionTickets off", "ecdsa", "SSLSessionTickets on"),
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


def values(tls: Any) -> dict[str, Any]:
    """What both sides can speak about, in a form that can be compared."""
    order = tls["preference"]["value"]
    suites, groups = tls["suites"]["value"], tls["groups"]["value"]
    return {
        "protocols": tls["protocols"]["value"],
        "suites": suites if order == "server" else sorted(suites),
        "groups": sorted(groups),
        "preference": order
        if len([s for s in suites if not s.startswith("TLS_AES") and "CHACHA" not in s]) > 1
        else None,
        # Without tickets of the server's own TLS 1.3 still sends some, by which the server finds the session again.
        "tickets": tls["tickets"]["value"] if "TLSv1.3" not in tls["protocols"]["value"] else None,
        "alpn": sorted(tls["alpn"]["value"]),
        "compression": tls["compression"]["value"],
        "dh": tls["dh"]["value"] if any("_DHE_" in suite for suite in suites) else None,
    }


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
                        document = json.loads(_encoded(endpoint))
                        seen = seen_from_outside(name, case.secure)
                        self.assertEqual(values(document["tls"]), values(seen["tls"]))


def _encoded(endpoint: Any) -> bytes:
    import msgspec

    return msgspec.json.encode(endpoint)
