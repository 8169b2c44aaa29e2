"""What controls say of certificates, keys, and the suites that an old library still offers."""

from __future__ import annotations

import os
import subprocess
from datetime import timedelta

from rupex.demo.mint import Authority, new_key, write_chain, write_key
from tests.support import NOW, TreeTest

SITE = (
    "server {{ listen 443 ssl; server_name a.test {names}; ssl_certificate /etc/ssl/site.pem;"
    " ssl_certificate_key /etc/ssl/site.key; {more} }}"
)

# Control, a cipher expression that offers what it is about, and one that does not; OpenSSL 1.0.2, TLS 1.0 and 1.2.
OLD_SUITES = (
    ("tls.suite.rc4", "RC4-SHA:AES128-SHA", "AES128-SHA"),
    ("tls.suite.export", "DES-CBC-SHA:AES128-SHA", "AES128-SHA"),
    ("tls.suite.block64", "DES-CBC3-SHA", "AES128-SHA"),
    ("tls.suite.md5", "RC4-MD5", "RC4-SHA"),
    ("tls.suite.static-key", "AES128-SHA", "ECDHE-RSA-AES128-SHA"),
    ("tls.suite.unencrypted", "NULL-SHA256", "AES128-SHA"),
    ("tls.suite.anonymous", "AECDH-AES128-SHA", "ECDHE-RSA-AES128-SHA"),
)


class CredentialControlsTest(TreeTest):
    def site(self, names: str = "", more: str = "") -> None:
        self.write({"etc/passwd": "root:x:0:0::/:\nwww-data:x:33:33::/:\n", "etc/group": "root:x:0:\nwww-data:x:33:\n"})
        self.write_nginx(SITE.format(names=names, more=more))

    def test_a_certificate_is_judged_by_its_dates(self) -> None:
        self.site()
        for days_old, lifetime, valid, soon in (
            (10, 90, "pass", "pass"),
            (100, 90, "fail", "fail"),
            (-5, 90, "fail", "fail"),  # what it refines fails, and so does it
            (85, 90, "pass", "fail"),
        ):
            with self.subTest(days_old=days_old):
                self.mint(["a.test"], days_old=days_old, lifetime=lifetime)
                self.assertEqual(self.check("cert.dates").verdict, valid)
                self.assertEqual(self.check("cert.expiry").verdict, soon)

    def test_a_wildcard_covers_one_label(self) -> None:
        for certified, served, verdict in (
            (["a.test"], "", "pass"),
            (["a.test", "*.b.test"], "www.b.test", "pass"),
            (["a.test", "*.b.test"], "b.test", "fail"),
            (["a.test", "*.b.test"], "x.www.b.test", "fail"),
        ):
            with self.subTest(served):
                self.site(served)
                self.mint(certified)
                self.assertEqual(self.check("cert.names").verdict, verdict)

    def test_a_key_of_another_certificate_is_told(self) -> None:
        self.site()
        self.mint(["a.test"])
        self.assertEqual(self.check("cert.key-match").verdict, "pass")
        write_key(self.root / "etc/ssl/site.key", new_key())
        self.assertEqual(self.check("cert.key-match").verdict, "fail")

    def test_a_short_key_is_told(self) -> None:
        self.site()
        self.mint(["a.test"])
        for bits, verdict in ((2048, "pass"), (1024, "fail")):
            key = new_key("RSA", bits)
            leaf = Authority("Ternholm Test CA", NOW).issue(["a.test"], key, NOW, NOW + timedelta(days=90))
            write_chain(self.root / "etc/ssl/site.pem", leaf)
            with self.subTest(bits):
                self.assertEqual(self.check("cert.key-strength").verdict, verdict)

    def test_a_signature_with_sha_1_is_told(self) -> None:
        self.site()
        self.mint(["a.test"])
        self.assertEqual(self.check("cert.digest").verdict, "pass")
        subprocess.run(
            ["openssl", "req", "-new", "-sha1", "-nodes", "-newkey", "rsa:2048", "-subj", "/CN=a.test",
             "-keyout", self.root / "ca.key", "-out", self.root / "a.csr"], check=True, capture_output=True,
        )  # fmt: skip
        subprocess.run(
            ["openssl", "req", "-x509", "-sha256", "-nodes", "-newkey", "rsa:2048", "-subj", "/CN=Ternholm Test CA",
             "-keyout", self.root / "ca.key", "-out", self.root / "ca.pem"], check=True, capture_output=True,
        )  # fmt: skip
        subprocess.run(
            ["openssl", "x509", "-req", "-sha1", "-in", self.root / "a.csr", "-CA", self.root / "ca.pem", "-CAkey",
             self.root / "ca.key", "-CAcreateserial", "-out", self.root / "etc/ssl/site.pem"], check=True, capture_output=True,
        )  # fmt: skip
        self.assertEqual(self.check("cert.digest").verdict, "fail")

    def test_modes_of_keys_and_configuration(self) -> None:
        self.site()
        self.mint(["a.test"])
        key, config = self.root / "etc/ssl/site.key", self.root / "etc/nginx/nginx.conf"
        for file, control, good, bad in (
            (key, "key.mode", 0o600, 0o644),
            (key, "key.mode", 0o400, 0o604),
            (config, "config.mode", 0o644, 0o666),
        ):
            for mode, is_bad in ((good, False), (bad, True)):
                os.chmod(file, mode)
                with self.subTest(control, mode=oct(mode)):
                    said = {place.verdict for place in self.check(control).places if (place.file or "") in str(file)}
                    self.assertEqual("fail" in said, is_bad)

    def test_what_an_old_library_still_offers(self) -> None:
        (self.root / "etc/ssl").mkdir(parents=True)
        key = new_key("RSA")
        leaf = Authority("Ternholm Test CA", NOW).issue(["a.test"], key, NOW, NOW + timedelta(days=90))
        write_chain(self.root / "etc/ssl/site.pem", leaf)
        write_key(self.root / "etc/ssl/site.key", key)
        for control, bad, good in OLD_SUITES:
            for expression, verdict in ((bad, "fail"), (good, "pass")):
                with self.subTest(control, expression=expression):
                    self.site(more=f"ssl_protocols TLSv1 TLSv1.2; ssl_ciphers {expression};")
                    check = self.check(control, openssl="1.0.2", nginx="1.14.0")
                    self.assertEqual(check.verdict, verdict, [p.message for p in check.places])
