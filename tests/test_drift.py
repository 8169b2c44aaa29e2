"""Disk against wire: a real nginx runs one configuration, and the tree on disk says the same or another."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from tests import peers
from tests.oracle import free_port
from tests.support import TreeTest, rupex, valid_document

NAME = "www.ternholm.test"
HEADERS = "add_header Strict-Transport-Security max-age=31536000 always; add_header X-Frame-Options DENY always;"
TLS = (
    f"listen LISTEN ssl; server_name {NAME}; ssl_certificate CRED/rsa.pem; ssl_certificate_key CRED/rsa.key;"
    " ssl_protocols TLSv1.2 TLSv1.3; ssl_ciphers EECDH+AESGCM;"
)
SITE = f"{TLS} {HEADERS} location / {{ return 200 ok; }}"
PLAIN = f"listen LISTEN; server_name {NAME}; return 301 https://$host$request_uri;"


class DriftTest(TreeTest):
    @contextmanager
    def listening(self, running: str, configured: str, also: str = "") -> Iterator[int]:
        """nginx with the server block ``running``, and a tree that says ``configured``."""
        with peers.nginx(running) as port:
            text = f"server {{ {configured} }} {also}".replace("LISTEN", f"127.0.0.1:{port}").replace(
                "CRED", "/etc/ssl"
            )
            self.write_nginx(text)
            shutil.copytree(peers.credentials(), self.root / "etc/ssl", dirs_exist_ok=True)
            yield port

    def audit(self, port: int, *more: str) -> dict[str, Any]:
        done = rupex(
            "audit", self.root, "--assume", "nginx=1.22.1", "--assume", "openssl=3.0", "--wire", f"{NAME}:{port}",
            "--connect", "127.0.0.1", "--skip-paths", "--format", "json", "--patience", "4", *more,
        )  # fmt: skip
        self.assertEqual(done.stderr, "")
        host = valid_document(done.stdout)["hosts"][0]
        return {check["control"]: check for check in host["checks"]} | {"host": host}

    def test_what_is_served_is_what_is_configured(self) -> None:
        for site, controls in (
            (SITE, ("drift.tls", "drift.headers", "drift.certificate")),
            (PLAIN, ("drift.redirect",)),
        ):
            with self.subTest(site), self.listening(site, site) as port:
                found = self.audit(port)
                self.assertEqual({name: found[name]["verdict"] for name in controls}, dict.fromkeys(controls, "pass"))
                self.assertEqual({source["kind"] for source in found["host"]["sources"]}, {"config", "wire"})

    def test_each_way_of_differing_is_told_with_what_differs(self) -> None:
        old = SITE.replace("TLSv1.2 TLSv1.3", "TLSv1.2")
        for case, running, configured, control, words in (
            ("a version", old, SITE, "drift.tls", "does not offer TLSv1.3"),
            ("a suite", SITE.replace("AESGCM", "AES256"), SITE, "drift.tls", "offers TLS_ECDHE_RSA_WITH_AES_256_CBC"),
            ("a header that is not sent", f"{TLS} location / {{ return 200 ok; }}", SITE, "drift.headers",
             "strict-transport-security is configured, and not sent"),
            ("another value", SITE.replace("DENY", "SAMEORIGIN"), SITE, "drift.headers", "'SAMEORIGIN'"),
            ("another certificate", SITE.replace("rsa.", "ecdsa."), SITE, "drift.certificate", "another certificate"),
            ("no redirect", f"listen LISTEN; server_name {NAME}; location / {{ return 200 ok; }}", PLAIN, "drift.redirect",
             "answered with content, and the configuration says 301"),
            ("another status", PLAIN.replace("301", "302"), PLAIN, "drift.redirect", "302 to https"),
        ):  # fmt: skip
            with self.subTest(case), self.listening(running, configured) as port:
                check = self.audit(port)[control]
                self.assertEqual(check["verdict"], "fail")
                self.assertIn(words, check["places"][0]["message"])

    def test_the_likeliest_cause_is_named_with_its_evidence(self) -> None:
        stale = f"{SITE} add_header Age 5120;"
        other = SITE.replace(NAME, "pier.ternholm.test").replace("rsa.", "ecdsa.")
        processes = "17\tnginx\troot\t2020-01-01T00:00:00+00:00\n18\tnginx\twww-data\t2020-01-01T00:00:00+00:00\n"
        for case, running, also, control, words in (
            ("a cache", stale.replace("DENY", "SAMEORIGIN"), "", "drift.headers", "a cache answered (age: 5120"),
            ("not reloaded", SITE.replace(" TLSv1.3", ""), "", "drift.tls", "no process of nginx is younger than 2020-01-01"),
            ("another endpoint", SITE.replace("rsa.", "ecdsa."), f"server {{ {other} }}", "drift.certificate",
             "pier.ternholm.test answered"),
        ):  # fmt: skip
            self.write({"rupex/processes.tsv": processes if case == "not reloaded" else ""})
            with self.subTest(case), self.listening(running, SITE, also) as port:
                message = self.audit(port)[control]["places"][0]["message"]
                self.assertIn(words, message.lower() if case == "a cache" else message)

    def test_what_nobody_configured_is_unknown_and_one_side_alone_exempt(self) -> None:
        with self.listening(SITE, SITE.replace("LISTEN", f"127.0.0.1:{free_port()}")) as port:
            found = self.audit(port)
            self.assertEqual(found["drift.tls"]["verdict"], "unknown")
            self.assertIn("nothing in the configuration listens", found["drift.tls"]["places"][0]["message"])
        alone = valid_document(rupex("audit", self.root, "--format", "json").stdout)["hosts"][0]
        self.assertEqual({c["verdict"] for c in alone["checks"] if c["control"].startswith("drift.")}, {"exempt"})

    def test_what_only_the_configuration_can_tell_is_no_hole_in_what_was_seen(self) -> None:
        with self.listening(SITE, SITE) as port:
            both = self.audit(port)
        blind = [place for place in both["surface.limits"]["places"] if place["verdict"] == "unknown"]
        self.assertEqual(blind, [])
        certificates = both["cert.dates"]["counts"]
        self.assertEqual(sum(certificates.values()), 1, "a certificate that lies on disk and is sent is one")
