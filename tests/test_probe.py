"""``rupex probe`` as a process, against real servers with known faults and without."""

from __future__ import annotations

import asyncio
import unittest
from contextlib import ExitStack
from datetime import UTC, datetime
from typing import Any

from msgspec import structs

from rupex.audit.assess import assess, gather
from rupex.baseline import load_baseline
from rupex.host import open_tree
from rupex.model import Endpoint, Host
from rupex.wire.connection.connection import ProbeLimits
from rupex.wire.connection.targets import Target, merge_targets, parse_target
from rupex.wire.observe.observe import Connect, ProbeSession, observe
from tests import peers
from tests.oracle import Case, free_port, running_nginx
from tests.support import rupex, valid_document

NAME = "www.ternholm.test"
HARD = (
    "server_tokens off; add_header Strict-Transport-Security 'max-age=31536000; includeSubDomains' always;"
    " add_header X-Content-Type-Options nosniff always; add_header Referrer-Policy no-referrer always;"
    " add_header Content-Security-Policy \"default-src 'self'; object-src 'none'; base-uri 'none'; frame-ancestors 'none'\""
    " always; add_header Permissions-Policy 'camera=(), microphone=(), geolocation=()' always;"
    " add_header Cross-Origin-Opener-Policy same-origin always; add_header Cross-Origin-Resource-Policy same-origin always;"
)
TLS = f"listen LISTEN ssl; server_name {NAME}; ssl_certificate CRED/rsa.pem; ssl_certificate_key CRED/rsa.key;"


def probe(*ports: int, options: tuple[str, ...] = ()) -> dict[str, Any]:
    """The host in the document of a probe of ``NAME`` at ``ports``."""
    names = [f"{NAME}:{port}" for port in ports]
    done = rupex("probe", *names, "--connect", "127.0.0.1", "--format", "json", "--verbose", *options)
    assert done.returncode in (0, 3), done.stderr
    hosts = valid_document(done.stdout)["hosts"]
    assert len(hosts) == 1
    host: dict[str, Any] = hosts[0]
    return host


def verdicts(host: dict[str, Any]) -> dict[str, str]:
    return {check["control"]: check["verdict"] for check in host["checks"]}


class ProbeTest(unittest.TestCase):
    def test_a_hardened_site_and_its_redirect_pass(self) -> None:
        plain = free_port()
        site = f"{TLS} ssl_protocols TLSv1.2 TLSv1.3; ssl_ciphers EECDH+AESGCM; {HARD}"
        site += " location / { default_type text/html; return 200 '<title>Ternholm</title>'; } location /rupex { return 404; }"
        with peers.nginx(
            site, also=f"server_tokens off; server {{ listen 127.0.0.1:{plain}; server_name {NAME};"
            f" return 301 https://$host:REDIRECT$request_uri; }}"
        ) as port:  # fmt: skip
            found = verdicts(probe(port))
        for control in (
            "tls.protocol.floor tls.protocol.newest tls.suite.static-key tls.suite.aead tls.compression tls.renegotiation"
            " tls.renegotiation.client tls.master-secret tls.early-data cert.names cert.dates cert.usage header.hsts"
            " header.hsts.subdomains header.csp header.csp.scripts header.framing header.sniffing header.permissions"
            " header.isolation header.everywhere header.conflict exposure.version exposure.trace exposure.error-page"
            " exposure.files"
        ).split():
            self.assertEqual((control, found[control]), (control, "pass"))
        self.assertEqual(found["cert.trust"], "fail")  # the lab's authority is on no public list
        self.assertEqual(found["proxy.open"], "unknown")
        self.assertEqual(found["transport.tls.offered"], "pass")

    def test_a_neglected_site_fails_where_it_should(self) -> None:
        with peers.scratch() as folder:
            (folder / ".git").mkdir()
            (folder / ".git/HEAD").write_text("ref: refs/heads/main\n")
            (folder / "index.html").write_text("<title>Welcome to nginx!</title>")
            (folder / "files").mkdir()
            site = (
                f"{TLS} root {folder}; ssl_protocols TLSv1 TLSv1.2; ssl_ciphers AES128-SHA@SECLEVEL=0;"
                " add_header X-Powered-By pier/3.1; add_header Set-Cookie 'berth=1'; add_header Strict-Transport-Security"
                " max-age=60; location = /nginx_status { stub_status; }"
            )
            with peers.nginx(site) as port:
                host = probe(port)
        found = verdicts(host)
        for control in (
            "tls.protocol.floor tls.suite.static-key tls.suite.aead header.hsts header.csp exposure.version"
            " exposure.technology exposure.error-page exposure.files exposure.status-page cookie.secure cookie.httponly"
            " surface.sample transport.unknown-host"
        ).split():
            self.assertEqual((control, found[control]), (control, "fail"))
        files = next(check for check in host["checks"] if check["control"] == "exposure.files")
        self.assertEqual([place["evidence"] for place in files["places"] if place["verdict"] == "fail"], ["/.git/HEAD"])

    def test_paths_that_were_not_asked_for_are_unknown(self) -> None:
        with peers.nginx(f"{TLS} location / {{ return 200 ok; }}") as port:
            self.assertEqual(verdicts(probe(port, options=("--skip-paths",)))["exposure.files"], "unknown")

    def test_a_chain_of_redirects_is_kept_hop_by_hop(self) -> None:
        with ExitStack() as stack:
            secure = stack.enter_context(
                peers.nginx(f"{TLS} {HARD} location = / {{ return 302 /start; }} location /start {{ return 200 ok; }}")
            )
            plain = stack.enter_context(
                peers.nginx(f"listen LISTEN; server_name {NAME}; return 301 https://{NAME}:{secure}$request_uri;")
            )
            host = probe(plain, secure)
        by_port = {endpoint["port"]: endpoint for endpoint in host["endpoints"]}
        hops = by_port[plain]["wire"]["exchanges"][0]
        self.assertEqual(
            [(hop["status"], hop["location"]) for hop in hops],
            [(301, f"https://{NAME}:{secure}/"), (302, f"https://{NAME}:{secure}/start"), (200, None)],
        )
        hsts = [[value for name, value in hop["headers"] if name == "Strict-Transport-Security"] for hop in hops]
        self.assertEqual(hsts, [[], ["max-age=31536000; includeSubDomains"], ["max-age=31536000; includeSubDomains"]])
        found = verdicts(host)
        for (
            control
        ) in "redirect.present redirect.permanent redirect.same-host redirect.keeps-request redirect.hops".split():
            self.assertEqual((control, found[control]), (control, "pass"))

    def test_redirects_that_lose_something_fail(self) -> None:
        for control, answer in (
            ("redirect.permanent", f"return 302 https://{NAME}$request_uri;"),
            ("redirect.same-host", "return 301 https://booking.ternholm.test$request_uri;"),
            ("redirect.keeps-request", f"return 301 https://{NAME}/;"),
            ("redirect.target", "return 301 https://$host$request_uri;"),
            ("redirect.present", "return 200 hello;"),
        ):
            with self.subTest(control), peers.nginx(f"listen LISTEN; server_name {NAME}; {answer}") as port:
                self.assertEqual(verdicts(probe(port))[control], "fail")

    def test_what_unknown_names_get(self) -> None:
        for case, also, wanted in (
            ("the site", "", "fail"),
            ("no handshake", "listen LISTEN ssl default_server; ssl_reject_handshake on;", "pass"),
            (
                "a refusal",
                f"{TLS.replace(NAME, '_').replace('ssl;', 'ssl default_server;', 1)} return 444;",
                "pass",
            ),
        ):
            more = f"server {{ {also} }}" if also else ""
            with self.subTest(case), peers.nginx(f"{TLS} location / {{ return 200 ok; }}", also=more) as port:
                self.assertEqual(verdicts(probe(port))["transport.unknown-host"], wanted)

    def test_a_name_whose_handshakes_are_refused_is_an_endpoint_that_refuses(self) -> None:
        refusing = "server { listen LISTEN ssl default_server; ssl_reject_handshake on; }"
        with peers.nginx(f"{TLS.replace(NAME, 'other.test')} return 200 ok;", also=refusing) as port:
            host = probe(port)
        endpoint = host["endpoints"][0]
        self.assertEqual((endpoint["transport"], endpoint["tls"], endpoint["scopes"]), ("tls", None, []))
        self.assertIn("unrecognized_name", " ".join(endpoint["wire"]["notes"]))
        self.assertEqual(host["problems"], [])

    def test_an_address_of_the_new_kind(self) -> None:
        with peers.nginx(f"{TLS} return 200 ok;") as port:
            done = rupex("probe", f"{NAME}:{port}", "--connect", "::ffff:127.0.0.1", "--format", "json", "--skip-paths")
        endpoint = valid_document(done.stdout)["hosts"][0]["endpoints"][0]
        self.assertRegex(endpoint["id"], rf"^wire:\[::ffff:[0-9a-f.:]+\]:{port}/")

    def test_an_origin_that_is_repeated_is_seen(self) -> None:
        site = f"{TLS} add_header Access-Control-Allow-Origin $http_origin; add_header Access-Control-Allow-Credentials true;"
        with peers.nginx(f"{site} location / {{ return 200 ok; }}") as port:
            self.assertEqual(verdicts(probe(port))["header.cors"], "fail")

    def test_trace_that_apache_answers(self) -> None:
        for told, wanted in (("On", "fail"), ("Off", "pass")):
            tls = "SSLEngine on\nSSLCertificateFile CRED/rsa.pem\nSSLCertificateKeyFile CRED/rsa.key"
            with self.subTest(told), peers.apache(f"{tls}\nTraceEnable {told}") as port:
                self.assertEqual(verdicts(probe(port))["exposure.trace"], wanted)

    def test_line_ends_that_a_redirect_decodes_are_seen(self) -> None:
        for target, wanted in (("$uri?$args", "fail"), ("$request_uri", "pass"), ("/start", "pass")):
            with self.subTest(target), peers.nginx(
                f"listen LISTEN; server_name {NAME}; return 301 https://{NAME}{target};"
            ) as port:  # fmt: skip
                self.assertEqual(verdicts(probe(port))["redirect.injection"], wanted)
                if wanted == "fail":
                    unasked = verdicts(probe(port, options=("--skip-paths",)))
                    self.assertEqual(unasked["redirect.injection"], "unknown")

    def test_a_forward_proxy_that_carries_strangers_is_seen(self) -> None:
        proxy = "ProxyRequests On\nAllowCONNECT PORT"
        for case, told, wanted in (
            ("open to everybody", proxy, "fail"),
            ("closed", f"{proxy}\n<Proxy *>\nRequire all denied\n</Proxy>", "unknown"),
            ("another way cannot be seen", "", "unknown"),
        ):
            with self.subTest(case), peers.apache(told, "proxy", "proxy_connect", "proxy_http") as port:
                self.assertEqual(verdicts(probe(port))["proxy.open"], wanted)

    def test_methods_that_a_listener_names_are_held_against_the_list(self) -> None:
        for allowed, wanted in ((["GET"], "fail"), (["GET", "HEAD", "POST", "OPTIONS"], "pass")):
            with peers.scratch() as folder, peers.apache("TraceEnable Off") as port:
                (folder / "own.toml").write_text(
                    'name = "own"\nextend = "public-web"\n'
                    f'[controls."surface.methods"]\nsource = "operational"\nparameters.allowed = {allowed}\n'
                )
                found = verdicts(probe(port, options=("--baseline", str(folder / "own.toml"))))
                self.assertEqual(found["surface.methods"], wanted)

    def test_a_gentle_probe_has_one_connection_at_a_time(self) -> None:
        with peers.s_server("-tls1_2", "-cipher", "ECDHE-RSA-AES128-GCM-SHA256") as port:
            host = probe(port, options=("--gentle", "--skip-paths", "--patience", "3"))
        self.assertEqual(host["endpoints"][0]["tls"]["protocols"]["value"], ["TLSv1.2"])

    def test_the_text_says_where_and_the_gate_holds(self) -> None:
        with peers.nginx(f"{TLS} location / {{ return 200 ok; }}") as port:
            done = rupex("probe", f"{NAME}:{port}", "--connect", "127.0.0.1", "--require", "90")
        self.assertEqual(done.returncode, 1)
        self.assertIn(f"127.0.0.1:{port}", done.stdout)
        self.assertIn("90 is required", done.stderr)

    def test_names_come_from_a_list_too(self) -> None:
        with peers.scratch() as folder, peers.nginx(f"{TLS} location / {{ return 200 ok; }}") as port:
            (folder / "names").write_text(f"# our names\n{NAME}:{port}\n\nternholm.test:{port}  # the bare one\n")
            done = rupex("probe", "--names", folder / "names", "--connect", "127.0.0.1", "--quiet", "--skip-paths")
        self.assertEqual([line.split()[0] for line in done.stdout.splitlines()], [NAME, "ternholm.test"])

    def test_what_cannot_be_meant_is_refused_with_a_reason(self) -> None:
        for words, reason in (
            (("https://www.ternholm.test/",), "no URL"),
            (("www.ternholm.test:99999",), "no port"),
            (("-",), "no host name"),
            ((), "name what to probe"),
            (("--names", "/nowhere/names"), "cannot be read"),
        ):
            with self.subTest(words):
                done = rupex("probe", *words)
                self.assertEqual(done.returncode, 2, done.stderr)
                self.assertIn(reason, done.stderr)


class TargetTest(unittest.TestCase):
    def test_names_as_people_write_them(self) -> None:
        for text, wanted in (
            ("WWW.Ternholm.test.", Target("www.ternholm.test")),
            ("www.ternholm.test:8443", Target("www.ternholm.test", (8443,), True)),
            ("fähre.test", Target("xn--fhre-loa.test")),
            ("[2001:db8::1]:443", Target("2001:db8::1", (443,), True)),
            ("2001:db8::1", Target("2001:db8::1")),
            ("192.0.2.1", Target("192.0.2.1")),
        ):
            with self.subTest(text):
                self.assertEqual(parse_target(text), wanted)

    def test_one_target_for_each_name(self) -> None:
        merged = merge_targets(map(parse_target, ("a.test:1", "b.test", "a.test:2", "b.test:9")))
        self.assertEqual(merged, [Target("a.test", (1, 2), True), Target("b.test", (443, 80, 9), False)])


BOTH = {
    "a plain site": """
        server { listen 127.0.0.1:@plain@; server_name a.test; return 301 https://a.test:@secure@$request_uri; }
        server { listen 127.0.0.1:@secure@ ssl; server_name a.test; root /srv/site; TLS; server_tokens off;
                 add_header X-Content-Type-Options nosniff; add_header Strict-Transport-Security max-age=31536000 always; }""",
    "old versions, its own order, h2": """
        server { listen 127.0.0.1:@plain@ default_server; server_name a.test; return 302 https://$host/; }
        server { listen 127.0.0.1:@secure@ ssl http2; server_name a.test; root /srv/site; TLS;
                 ssl_protocols TLSv1 TLSv1.2; ssl_ciphers AES128-SHA:ECDHE-RSA-AES128-GCM-SHA256@SECLEVEL=0;
                 ssl_prefer_server_ciphers on; ssl_session_tickets off; ssl_ecdh_curve secp384r1;
                 add_header Set-Cookie "berth=1; Secure; HttpOnly"; add_header X-Powered-By pier always; }""",
    "two certificates, early data, a policy that allows inline script": """
        server { listen 127.0.0.1:@plain@; server_name a.test; root /srv/site; }
        server { listen 127.0.0.1:@secure@ ssl; server_name a.test; root /srv/site; TLS;
                 ssl_early_data on; ssl_protocols TLSv1.2 TLSv1.3;
                 ssl_certificate /etc/ssl/case/ecdsa.pem; ssl_certificate_key /etc/ssl/case/ecdsa.key;
                 ssl_ciphers HIGH:!aNULL; ssl_stapling on; ssl_stapling_file /etc/ssl/case/staple.der;
                 add_header Content-Security-Policy "default-src 'self' 'unsafe-inline'; frame-ancestors 'self'" always; }""",
}
"""Configurations that are read by one half of Rupex and run for the other."""

ONE_SIDED = frozenset(
    {"exposure.etag", "exposure.listing", "tls.tickets", "surface.sample", "redirect.hops", "cert.stapling"}
)
"""Controls of which one side sees more than the other."""


class SameFromBothSidesTest(unittest.TestCase):
    """What is read off a configuration and what is seen on the wire are the same endpoint, and judged the same."""

    def test_configuration_and_wire_agree(self) -> None:
        for name, text in BOTH.items():
            tls = "ssl_certificate /etc/ssl/case/rsa.pem; ssl_certificate_key /etc/ssl/case/rsa.key"
            case = Case(name, text.replace("TLS;", f"{tls};"))
            with self.subTest(name), running_nginx(case) as tree:
                read = gather(open_tree(tree).tree, "", name="a").host
                seen = self.observe("a.test", (case.plain, case.secure))
                for endpoint in read.endpoints:
                    other = next(e for e in seen.endpoints if e.port == endpoint.port)
                    self.compare(endpoint, other)
                self.verdicts(read, seen)

    @staticmethod
    def observe(name: str, ports: tuple[int, ...]) -> Host:
        async def go() -> Host:
            target = Target(name, ports, True)
            return await observe(target, ProbeSession([target], ProbeLimits(), Connect("127.0.0.1"), skip_paths=True))

        return asyncio.run(go())

    def compare(self, read: Endpoint, seen: Endpoint) -> None:
        if read.tls is not None and seen.tls is not None:
            for setting in (
                "protocols",
                "preference",
                "alpn",
                "stapling",
                "compression",
                "early_data",
                "client_renegotiation",
            ):
                one, other = getattr(read.tls, setting), getattr(seen.tls, setting)
                self.assertEqual(one and one.value, other and other.value, setting)
            for setting in ("suites", "groups", "signatures"):
                one, other = getattr(read.tls, setting), getattr(seen.tls, setting)
                self.assertCountEqual(one.value, other.value, setting)
        site, front = read.scopes[0], seen.scopes[0]
        self.assertEqual(site.redirect and site.redirect.status, front.redirect and front.redirect.status)
        if site.redirect is None:
            sent = {(header.name, header.value) for header in front.headers}
            for header in site.headers:
                if header.is_on(200) and header.name not in ("ETag", "Last-Modified"):
                    self.assertIn((header.name, header.value), sent)

    def verdicts(self, read: Host, seen: Host) -> None:
        """Every control for which both sides have evidence says the same of both."""
        baseline = load_baseline("public-web")
        local = [structs.replace(e, local=False) for e in read.endpoints]  # the wire asks for a.test, not for loopback
        by_side = [
            {check.control: check.verdict for check in assess(host, baseline, datetime.now(UTC)).checks}
            for host in (structs.replace(read, endpoints=tuple(local)), seen)
        ]
        decided = ("pass", "fail")
        both = [c for c in by_side[0] if by_side[0][c] in decided and by_side[1][c] in decided and c not in ONE_SIDED]
        self.assertGreater(len(both), 40)
        self.assertEqual({c: by_side[0][c] for c in both}, {c: by_side[1][c] for c in both})


if __name__ == "__main__":
    unittest.main()
