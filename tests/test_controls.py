"""What each control says of small nginx configurations: the verdict, the line that decides it, the reason."""

from __future__ import annotations

import unittest

from rupex.controls import all_controls
from rupex.http.cookies import broken_prefix, parse_cookie
from rupex.http.csp import parse_csp, unsafe_script_sources
from rupex.http.policies import effective_referrer, parse_permissions
from tests.support import TreeTest

TLS = (
    "server { listen 443 ssl; server_name a.test; ssl_certificate /etc/ssl/site.pem;"
    " ssl_certificate_key /etc/ssl/site.key; %s }"
)
PLAIN = "server { listen 80; server_name a.test; %s }"
ALL_HEADERS = "add_header X-Content-Type-Options nosniff always; add_header X-Frame-Options DENY always;"


def tls(text: str) -> str:
    return TLS % text


def plain(text: str) -> str:
    return PLAIN % text


# Control, what the configuration shows, the http block, the verdict, and words of the message.
CASES = (
    ("transport.tls.offered", "only plain", plain("return 204;"), "fail", "no endpoint of it speaks TLS"),
    ("transport.tls.offered", "TLS", tls(""), "pass", ""),
    ("transport.tls.offered", "on loopback alone", "server { listen 127.0.0.1:80; }", "exempt", ""),
    ("transport.names", "www is plain only", "server { listen 80; server_name a.test www.a.test; }" + tls(""),
     "fail", "no TLS endpoint has the name www.a.test"),
    ("transport.names", "both", plain("") + tls(""), "pass", ""),
    ("transport.unknown-host", "content for any name", plain("root /srv;"), "fail", "names that nobody has"),
    ("transport.unknown-host", "closed", "server { listen 80; return 444; }" + plain("root /srv;"), "pass", ""),
    ("transport.upstream.tls", "to loopback", plain("location / { proxy_pass http://127.0.0.1:8080; }"), "exempt", ""),
    ("transport.upstream.tls", "to a private address", plain("location / { proxy_pass http://10.1.2.3; }"),
     "fail", "requests go on to 10.1.2.3 in clear"),
    ("transport.upstream.tls", "to a group", "upstream app { server app.example.test:80; }"
     + plain("location / { proxy_pass http://app; }"), "fail", "app.example.test"),
    ("transport.upstream.tls", "to a name of this host's own", plain("location / { proxy_pass http://app:80; }"), "unknown", "app"),
    ("transport.upstream.tls", "with TLS", plain("location / { proxy_pass https://app.example.test; }"), "pass", ""),
    ("transport.upstream.verify", "not verified", plain("location / { proxy_pass https://app.example.test; }"),
     "fail", "is not verified"),
    ("transport.upstream.verify", "verified", plain("proxy_ssl_verify on; location / { proxy_pass https://app.example.test; }"),
     "pass", ""),
    ("redirect.present", "to http", plain("return 301 http://b.test/;"), "fail", "which is not https"),
    ("redirect.present", "ACME beside a redirect", plain("location / { return 301 https://$host$request_uri; }"
     " location /.well-known/acme-challenge/ { root /srv/acme; }"), "pass", ""),
    ("redirect.present", "a robot's refusal does not hide the redirect",
     plain("if ($http_user_agent ~ bot) { return 403; } return 301 https://$host$request_uri;"), "pass", ""),
    ("redirect.present", "a phone's redirect is run time's",
     plain("if ($http_user_agent ~ phone) { return 302 http://m.a.test/; } root /srv;"), "unknown", "client's own"),
    ("redirect.same-host", "to another host", plain("return 301 https://www.a.test$request_uri;"), "fail", "www.a.test at once"),
    ("redirect.keeps-request", "to the front page", plain("return 301 https://a.test/;"), "fail", "the path is lost"),
    ("redirect.keeps-request", "without the query", plain("return 301 https://a.test$uri;"), "fail", "the query is lost"),
    ("redirect.target", "wherever the client says", plain("return 301 https://$host$request_uri;"), "fail", "any name"),
    ("redirect.target", "to a fixed name", plain("return 301 https://a.test$request_uri;"), "pass", ""),
    ("redirect.injection", "a decoded path", plain("return 301 https://a.test$uri;"), "fail", "$uri is decoded"),
    ("redirect.injection", "a capture that matches line ends",
     plain("location ~ ^/x/([^/]*)$ { return 301 https://a.test/$1; }"), "fail", "$1"),
    ("redirect.injection", "a capture that does not", plain("location ~ ^/x/(.*)$ { return 301 https://a.test/$1; }"), "pass", ""),
    ("redirect.injection", "through a variable", plain("set $to $uri; return 301 https://a.test$to;"), "fail", "which is $uri"),
    ("proxy.open", "by the Host header", plain("location / { proxy_pass http://$http_host; }"), "fail", "$http_host"),
    ("proxy.open", "by a capture", plain("location ~ ^/p/(.*)$ { proxy_pass http://$1; }"), "fail", "part of the path"),
    ("proxy.open", "closed to strangers", plain("location / { deny all; proxy_pass http://$http_host; }"), "pass", ""),
    ("proxy.open", "a fixed variable", plain("set $app 127.0.0.1; location / { proxy_pass http://$app; }"), "pass", ""),
    ("proxy.client-address", "everybody", plain("set_real_ip_from 0.0.0.0/0;"), "fail", "0.0.0.0/0"),
    ("proxy.client-address", "a network of one's own", plain("set_real_ip_from 10.0.0.0/8;"), "pass", ""),
    ("tls.early-data", "on", tls("ssl_protocols TLSv1.3; ssl_early_data on;"), "fail", "replayed"),
    ("tls.tickets", "off", tls("ssl_session_tickets off;"), "pass", ""),
    ("tls.tickets", "keys as old as the process", tls(""), "fail", "when the server starts"),
    ("tls.client-certificate", "asked for, never looked at", tls("ssl_verify_client optional_no_ca;"), "fail", "nothing looks"),
    ("tls.client-certificate", "looked at",
     tls("ssl_verify_client optional_no_ca; if ($ssl_client_verify != SUCCESS) { return 403; }"), "pass", ""),
    ("tls.client-certificate", "passed on", tls("ssl_verify_client optional_no_ca;"
     " location / { proxy_set_header X-Client $ssl_client_verify; proxy_pass http://127.0.0.1; }"), "unknown", "passed on"),
    ("tls.group.dh", "no parameters", tls(""), "pass", ""),
    ("tls.group.strength", "a short curve", tls("ssl_ciphers HIGH:@SECLEVEL=0; ssl_ecdh_curve secp192r1;"), "fail", "secp192r1"),
    ("tls.suite.http2", "prohibited first", ("server { listen 443 ssl http2; server_name a.test; ssl_prefer_server_ciphers on;"
     " ssl_certificate /etc/ssl/site.pem; ssl_certificate_key /etc/ssl/site.key;"
     " ssl_ciphers ECDHE-ECDSA-AES128-SHA256:ECDHE-ECDSA-AES128-GCM-SHA256; }"), "fail", "before one that it allows"),
    ("header.hsts", "too short", tls("add_header Strict-Transport-Security max-age=600;"), "fail", "0 days"),
    ("header.hsts", "twice the same word", tls('add_header Strict-Transport-Security "max-age=1; max-age=2";'), "fail", "not valid"),
    ("header.hsts", "behind a proxy", tls("location / { proxy_pass http://127.0.0.1; }"), "unknown", "the upstream may send it"),
    ("header.hsts.subdomains", "without", tls("add_header Strict-Transport-Security max-age=31536000;"), "fail", "includeSubDomains"),
    ("header.hsts.plain", "over plain HTTP", plain("add_header Strict-Transport-Security max-age=1;"), "fail", "over plain HTTP"),
    ("header.hsts.preload", "without subdomains", tls('add_header Strict-Transport-Security "max-age=31536000; preload";'),
     "fail", "without includeSubDomains"),
    ("header.sniffing", "a wrong word", tls("add_header X-Content-Type-Options sniff;"), "fail", "not nosniff"),
    ("header.framing", "one that nobody obeys", tls('add_header X-Frame-Options "ALLOW-FROM b.test";'), "fail", "not obeyed"),
    ("header.framing", "the two contradict", tls("add_header X-Frame-Options DENY;"
     " add_header Content-Security-Policy \"frame-ancestors 'self'\";"), "fail", "X-Frame-Options says DENY"),
    ("header.csp", "only reporting", tls("add_header Content-Security-Policy-Report-Only \"default-src 'self'\";"), "fail", "reporting"),
    ("header.csp", "restricts nothing", tls("add_header Content-Security-Policy upgrade-insecure-requests;"), "fail", "nothing"),
    ("header.csp.scripts", "inline", tls("add_header Content-Security-Policy \"script-src 'unsafe-inline'\";"), "fail", "unsafe-inline"),
    ("header.csp.base", "no base-uri", tls("add_header Content-Security-Policy \"default-src 'self'\";"), "fail", "base-uri"),
    ("header.referrer", "the whole URL", tls("add_header Referrer-Policy unsafe-url;"), "fail", "sends the path"),
    ("header.permissions", "camera for itself", tls('add_header Permissions-Policy "camera=(self), microphone=(), geolocation=()";'),
     "fail", "camera is not denied"),
    ("header.isolation", "none", tls(""), "fail", "Cross-Origin-Opener-Policy"),
    ("header.obsolete", "a filter", tls('add_header X-XSS-Protection "1; mode=block";'), "fail", "turned against"),
    ("header.everywhere", "not with errors", tls("add_header X-Frame-Options DENY;"), "fail", "not sent with errors"),
    ("header.everywhere", "a deeper block drops it", tls(f"{ALL_HEADERS} location /a/ {{ add_header X-A b; }}"), "fail", "do not reach"),
    ("header.everywhere", "an error page drops it", tls(f"{ALL_HEADERS} error_page 404 /e; location = /e {{ internal; add_header X-A b; }}"),
     "fail", "not sent with errors"),
    ("header.everywhere", "all is well", tls(f"{ALL_HEADERS} location /a/ {{ root /srv; }}"), "pass", ""),
    ("header.effective", "every block has its own", tls("add_header X-Frame-Options DENY; location / { add_header X-A b; }"), "fail", "declared"),
    ("header.effective", "never that status", tls("add_header X-Frame-Options DENY; return 404;"), "fail", "status 404"),
    ("header.conflict", "two values", tls("add_header X-Frame-Options DENY; add_header X-Frame-Options SAMEORIGIN;"), "fail", "is sent as"),
    ("header.cors", "whoever asks", tls("add_header Access-Control-Allow-Origin $http_origin;"
     " add_header Access-Control-Allow-Credentials true;"), "fail", "whatever origin asks"),
    ("header.cors", "a list", 'map $http_origin $ok { default ""; "https://b.test" $http_origin; }'
     + tls("add_header Access-Control-Allow-Origin $ok; add_header Access-Control-Allow-Credentials true;"), "pass", ""),
    ("cookie.secure", "without", tls("add_header Set-Cookie deck=1;"), "fail", "deck has no Secure"),
    ("cookie.httponly", "deletion", tls('add_header Set-Cookie "deck=; Max-Age=0; Secure";'), "pass", ""),
    ("cookie.samesite", "none without Secure", tls('add_header Set-Cookie "deck=1; SameSite=None";'), "fail", "browsers refuse"),
    ("cookie.prefix", "a domain", tls('add_header Set-Cookie "__Host-deck=1; Secure; Path=/; Domain=a.test";'), "fail", "no Domain"),
    ("exposure.technology", "FastCGI's own", plain("location / { fastcgi_pass unix:/run/php.sock; }"), "unknown", "X-Powered-By"),
    ("exposure.technology", "hidden",
     plain("location / { fastcgi_pass unix:/run/php.sock; fastcgi_hide_header X-Powered-By; }"), "pass", ""),
    ("exposure.error-page", "the upstream's", "server_tokens off;" + plain("location / { proxy_pass http://127.0.0.1; }"),
     "unknown", "the upstream's own"),
    ("exposure.status-page", "open", plain("location /s { stub_status; }"), "fail", "open to everybody"),
    ("exposure.status-page", "by address", plain("location /s { stub_status; allow 10.0.0.0/8; deny all; }"), "pass", ""),
    ("exposure.status-page", "one of two is enough, and that one is open",
     plain('location /s { stub_status; satisfy any; allow all; auth_basic "x"; auth_basic_user_file u; }'), "fail", "open"),
    ("exposure.status-page", "one of two is enough, and no address is let in by itself",
     plain('location /s { stub_status; satisfy any; allow 192.0.2.9; auth_basic "x"; auth_basic_user_file u; }'), "pass", ""),
    ("exposure.admin", "open", plain("location /phpMyAdmin/ { root /usr/share; }"), "fail", "open to everybody"),
    ("exposure.admin", "with a password", plain('location /phpmyadmin/ { auth_basic "x"; auth_basic_user_file u; }'), "pass", ""),
    ("exposure.files", "nothing refuses them", plain("root /srv/none;"), "unknown", "/.git/config"),
    ("exposure.files", "all refused", plain(r"root /srv/none; location ~ /\. { deny all; }"
     r" location ~ (~|\.(bak|sql))$ { return 404; }"), "pass", ""),
    ("exposure.address", "the host's name", plain("add_header X-Node $hostname;"), "fail", "$hostname"),
    ("exposure.address", "an inside name", plain("return 302 http://intra.corp/;"), "fail", "intra.corp"),
    ("surface.account", "root", "}\nuser root;\nhttp {" + plain(""), "fail", "as root"),
    ("surface.sample", "the packaged page", "server { listen 80 default_server; root /var/www/html; server_name _; }", "fail", "packaged"),
    ("surface.limits", "any size", plain("client_max_body_size 0;"), "fail", "any size"),
    ("surface.limits", "an hour", plain("client_header_timeout 1h;"), "fail", "3600 s"),
    ("redirect.same-host", "to its own host", plain("return 301 https://a.test$request_uri;"), "pass", ""),
    ("redirect.keeps-request", "kept whole", plain("return 301 https://a.test$request_uri;"), "pass", ""),
    ("redirect.permanent", "temporary", plain("return 302 https://a.test$request_uri;"), "fail", "status 302"),
    ("redirect.permanent", "308", plain("return 308 https://a.test$request_uri;"), "pass", ""),
    ("tls.early-data", "off", tls("ssl_protocols TLSv1.3;"), "pass", ""),
    ("tls.group.strength", "two strong curves", tls("ssl_ecdh_curve X25519:prime256v1;"), "pass", ""),
    ("tls.suite.http2", "allowed ones alone", ("server { listen 443 ssl http2; server_name a.test;"
     " ssl_certificate /etc/ssl/site.pem; ssl_certificate_key /etc/ssl/site.key;"
     " ssl_ciphers ECDHE-ECDSA-AES128-GCM-SHA256; }"), "pass", ""),
    ("tls.protocol.floor", "1.0", tls("ssl_protocols TLSv1 TLSv1.2; ssl_ciphers ALL:@SECLEVEL=0;"), "fail", "TLSv1"),
    ("tls.protocol.floor", "1.2", tls("ssl_protocols TLSv1.2 TLSv1.3;"), "pass", ""),
    ("tls.protocol.newest", "no 1.3", tls("ssl_protocols TLSv1.2;"), "fail", "TLSv1.3 is not offered"),
    ("tls.protocol.newest", "1.3", tls("ssl_protocols TLSv1.2 TLSv1.3;"), "pass", ""),
    ("tls.suite.aead", "CBC too", tls("ssl_protocols TLSv1.2; ssl_ciphers ECDHE-ECDSA-AES128-SHA256;"), "fail", "CBC"),
    ("tls.suite.aead", "GCM alone", tls("ssl_protocols TLSv1.2; ssl_ciphers ECDHE-ECDSA-AES128-GCM-SHA256;"), "pass", ""),
    ("tls.suite.anonymous", "over a curve", tls("ssl_protocols TLSv1.2; ssl_ciphers AECDH-AES128-SHA:@SECLEVEL=0;"), "fail", "anon"),
    ("tls.suite.anonymous", "Diffie-Hellman without parameters",
     tls("ssl_protocols TLSv1.2; ssl_ciphers ADH-AES128-SHA256:ECDHE-ECDSA-AES128-SHA256:@SECLEVEL=0;"), "pass", ""),
    ("tls.suite.anonymous", "certificates", tls("ssl_ciphers HIGH:!aNULL;"), "pass", ""),
    ("tls.suite.unencrypted", "none", tls("ssl_protocols TLSv1.2; ssl_ciphers ECDHE-ECDSA-NULL-SHA:@SECLEVEL=0;"), "fail", "NULL"),
    ("tls.suite.unencrypted", "all encrypted", tls("ssl_ciphers HIGH;"), "pass", ""),
    ("header.hsts", "a year", tls("add_header Strict-Transport-Security max-age=31536000 always;"), "pass", ""),
    ("header.hsts.subdomains", "with",
     tls('add_header Strict-Transport-Security "max-age=31536000; includeSubDomains" always;'), "pass", ""),
    ("header.hsts.plain", "not in clear", plain("return 301 https://a.test$request_uri;"), "pass", ""),
    ("header.hsts.preload", "as the list wants it",
     tls('add_header Strict-Transport-Security "max-age=63072000; includeSubDomains; preload" always;'), "pass", ""),
    ("header.sniffing", "nosniff", tls(ALL_HEADERS), "pass", ""),
    ("header.framing", "denied", tls(ALL_HEADERS), "pass", ""),
    ("header.framing", "by the policy alone", tls("add_header Content-Security-Policy \"frame-ancestors 'none'\" always;"), "pass", ""),
    ("header.csp", "in force", tls("add_header Content-Security-Policy \"default-src 'self'\" always;"), "pass", ""),
    ("header.csp.scripts", "its own alone", tls("add_header Content-Security-Policy \"script-src 'self'; object-src 'none'\" always;"),
     "pass", ""),
    ("header.csp.base", "none", tls("add_header Content-Security-Policy \"default-src 'self'; base-uri 'none'\" always;"), "pass", ""),
    ("header.referrer", "no path to others", tls("add_header Referrer-Policy strict-origin-when-cross-origin always;"), "pass", ""),
    ("header.permissions", "all denied", tls('add_header Permissions-Policy "camera=(), microphone=(), geolocation=()" always;'),
     "pass", ""),
    ("header.obsolete", "none", tls(ALL_HEADERS), "pass", ""),
    ("header.effective", "it arrives", tls(ALL_HEADERS + " root /srv;"), "pass", ""),
    ("header.conflict", "one value", tls(ALL_HEADERS), "pass", ""),
    ("cookie.secure", "with", tls('add_header Set-Cookie "deck=1; Secure";'), "pass", ""),
    ("cookie.httponly", "without", tls('add_header Set-Cookie "deck=1; Secure";'), "fail", "deck"),
    ("cookie.samesite", "lax", tls('add_header Set-Cookie "deck=1; Secure; SameSite=Lax";'), "pass", ""),
    ("cookie.prefix", "as it must be", tls('add_header Set-Cookie "__Host-deck=1; Secure; Path=/";'), "pass", ""),
    ("exposure.version", "told", plain("server_tokens on;"), "fail", ""),
    ("exposure.version", "not told", plain("server_tokens off;"), "pass", ""),
    ("exposure.listing", "on", plain("location /f/ { root /srv; autoindex on; }"), "fail", ""),
    ("exposure.listing", "off", plain("location /f/ { root /srv; }"), "pass", ""),
    ("exposure.technology", "its own", plain("add_header X-Powered-By harbour/2;"), "fail", "X-Powered-By"),
    ("exposure.address", "a public name", plain("return 302 http://www.a.test/;"), "pass", ""),
    ("surface.account", "one without rights", "}\nuser www-data;\nhttp {" + plain(""), "pass", ""),
    ("surface.limits", "the defaults", plain(""), "pass", ""),
    ("tls.http2", "not offered", tls(""), "fail", ""),
    ("tls.http2", "offered", tls("").replace("443 ssl", "443 ssl http2"), "pass", ""),
    ("transport.tls.listener", "443 in clear", "server { listen 443; server_name a.test; }", "fail", "speaks plain HTTP"),
    ("transport.tls.listener", "443 with TLS", tls(""), "pass", ""),
)  # fmt: skip


class VerdictsTest(TreeTest):
    def test_each_control_says_what_it_should(self) -> None:
        self.mint(["a.test"])
        self.write({"etc/passwd": "root:x:0:0::/:\n"})
        for control, case, http, verdict, words in CASES:
            with self.subTest(control, case=case):
                self.write_nginx(http)
                check = self.check(control, openssl="3.0")
                self.assertEqual(check.verdict, verdict, [p.message for p in check.places])
                if words:
                    said = [place.message for place in check.places if place.verdict == verdict]
                    self.assertTrue(any(words in message for message in said), said)

    def test_what_is_missing_is_to_be_added_in_the_innermost_block(self) -> None:
        self.mint(["a.test"])
        self.write_nginx(tls("\nadd_header X-A b;\nlocation /a/ {\n}\n"))
        places = {place.scope: place.line for place in self.check("header.csp", openssl="3.0").places}
        self.assertEqual(places, {"prefix:/a/": 5, "any": 3})

    def test_files_under_a_document_root_of_the_tree_are_found_where_they_are_served(self) -> None:
        self.write(
            {"srv/site/.git/config": "", "srv/site/dump.sql": "", "srv/site/.well-known/x": "", "srv/site/a.html": ""}
        )
        for refusal, verdict, words in (
            ("", "fail", "serves /.git/, /dump.sql"),
            (r"location ~ /\.git { deny all; }", "fail", "serves /dump.sql"),
            (r"location ~ (\.git|sql$) { return 404; }", "pass", ""),
        ):
            with self.subTest(refusal):
                self.write_nginx(plain(f"root /srv/site; {refusal}"))
                places = [p for p in self.check("exposure.files").places if p.verdict != "exempt"]
                self.assertEqual([(p.verdict, p.message) for p in places], [(verdict, words)])

    def test_a_site_whose_files_are_in_the_tree_still_serves_content(self) -> None:
        self.write({"srv/site/index.html": "pier"})
        for text in ("root /srv/site;", "root /srv/site; location / { try_files $uri $uri/ =404; }"):
            with self.subTest(text):
                self.write_nginx(plain(text))
                self.assertEqual(self.check("redirect.present").verdict, "fail")

    def test_modules_that_nothing_uses_are_named(self) -> None:
        load = "load_module modules/ngx_http_headers_more_filter_module.so;\nload_module modules/ngx_http_geoip_module.so;\n"
        for text, verdict in (
            (plain("more_clear_headers Server;"), "fail"),
            (plain("more_clear_headers A; geoip_country /x;"), "pass"),
        ):
            self.write({"etc/nginx/nginx.conf": f"{load}http {{ {text} }}"})
            check = self.check("surface.modules")
            self.assertEqual(check.verdict, verdict)
            self.assertEqual("http_geoip_module" in check.places[0].message, verdict == "fail")

    def test_a_listener_that_refuses_every_handshake_is_not_judged_for_its_tls(self) -> None:
        self.write_nginx("server { listen 443 ssl default_server; ssl_reject_handshake on; }")
        verdicts = {check.control: check.verdict for check in self.assess(nginx="1.22.1").checks}
        self.assertEqual(verdicts["transport.unknown-host"], "pass")
        self.assertEqual({verdicts[c] for c in ("tls.protocol.floor", "exposure.version", "header.hsts")}, {"exempt"})

    def test_releases_and_the_systems_policy_are_read_from_the_tree(self) -> None:
        self.mint(["a.test"])
        self.write_nginx(tls("ssl_ciphers PROFILE=SYSTEM; ssl_conf_command Options KTLS;"))
        self.write(
            {
                "lib/apk/db/installed": "P:nginx\nV:1.18.0-r3\n\nP:libssl3\nV:3.0.7-r1\n\n",
                "etc/crypto-policies/back-ends/openssl.config": "@SECLEVEL=2:kEECDH:-SHA1:-SHA256:-SHA384:-CHACHA20",
                "etc/pki/tls/openssl.cnf": "openssl_conf = a\n.include /etc/policy.cnf\n[a]\nssl_conf = b\n[b]\nsystem_default = c\n",
                "etc/policy.cnf": "[c]\nbest = secp521r1\nGroups = secp384r1:$best\nMinProtocol = TLSv1.3\n",
            }
        )
        evidence = self.gather()
        problem = evidence.host.problems[0]
        self.assertIn('"ssl_conf_command" came with 1.19.4: nginx 1.18.0 does not start', problem.message)
        settings = evidence.host.endpoints[0].tls
        assert settings is not None
        self.assertEqual(settings.protocols.value, ("TLSv1.2",))  # nginx sets the system's minimum aside
        self.assertEqual(settings.groups.value, ("secp384r1", "secp521r1"))
        self.assertIn("TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384", settings.suites.value or ())
        self.assertNotIn("TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256", settings.suites.value or ())

    def test_every_case_names_a_control(self) -> None:
        self.assertLessEqual({case[0] for case in CASES}, set(all_controls()))


class HeaderValuesTest(unittest.TestCase):
    def test_script_sources_that_the_standard_ignores_do_not_count(self) -> None:
        for value, unsafe in (
            ("script-src 'self'", ()),
            ("default-src 'self' 'unsafe-inline'", ("'unsafe-inline'",)),
            ("script-src 'unsafe-inline' 'nonce-abc'", ()),
            ("script-src 'unsafe-inline' https: 'strict-dynamic' 'nonce-abc'", ()),
            ("script-src 'unsafe-eval' 'strict-dynamic'", ("'unsafe-eval'",)),
            ("script-src *; script-src 'self'", ("*",)),
            ("img-src 'self'", None),
        ):
            with self.subTest(value):
                self.assertEqual(unsafe_script_sources(parse_csp(value)[0]), unsafe)

    def test_cookies_permissions_and_referrers(self) -> None:
        cookie = parse_cookie("__Secure-a=b=c; Path=/; HttpOnly; SameSite=Lax")
        assert cookie is not None
        self.assertEqual((cookie.name, cookie.http_only, cookie.same_site), ("__Secure-a", True, "lax"))
        self.assertEqual(broken_prefix(cookie), "its prefix asks for Secure")
        self.assertIsNone(parse_cookie("no pair; Secure"))
        self.assertEqual(
            parse_permissions('camera=(), geolocation=(self "https://b.test"), fullscreen=*'),
            {"camera": (), "geolocation": ("self", "https://b.test"), "fullscreen": ("*",)},
        )
        self.assertIsNone(parse_permissions("camera 'none'; x=="))
        self.assertEqual(effective_referrer(["no-referrer, unknown", "origin"]), "origin")


if __name__ == "__main__":
    unittest.main()
