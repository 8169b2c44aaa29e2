"""httpd trees as they lie about: layouts of distributions, broken files, and what the controls make of them."""

from __future__ import annotations

import re
import shutil
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from rupex.model import bounds
from rupex.servers.apache.syntax import Directive, parse
from tests.support import TreeTest, rupex, valid_document

SITE = """<VirtualHost *:443>
    ServerName a.test
    DocumentRoot /srv/site
    SSLEngine on
    SSLCertificateFile /etc/ssl/site.pem
    SSLCertificateKeyFile /etc/ssl/site.key
    {more}
    <Directory /srv/site>
        Require all granted
        {folder}
    </Directory>
</VirtualHost>
"""
STATUS = "<Location /status>\nSetHandler server-status\n"
USUAL = "ssl headers dir authz_core"
LOADS = "LoadModule {0}_module modules/mod_{0}.so\n"


TLS_LOADS = LOADS.format("ssl") + LOADS.format("authz_core")
PLAIN_SITE = SITE.format(more="", folder="")
LAYOUTS = {
    "Debian": {
        "etc/apache2/apache2.conf": "IncludeOptional mods-enabled/*.load\nInclude ports.conf\n"
        "IncludeOptional sites-enabled/*.conf\nUser ${APACHE_RUN_USER}\n",
        "etc/apache2/ports.conf": "Listen 80\n<IfModule ssl_module>\nListen 443\n</IfModule>\n",
        "etc/apache2/mods-enabled/ssl.load": TLS_LOADS,
        "etc/apache2/sites-enabled/a.conf": PLAIN_SITE,
        "etc/apache2/envvars": "export APACHE_RUN_USER=www-data\n",
    },
    "Red Hat": {
        "etc/httpd/conf/httpd.conf": 'ServerRoot "/etc/httpd"\nListen 80\nInclude conf.modules.d/*.conf\n'
        "User apache\nIncludeOptional conf.d/*.conf\n",
        "etc/httpd/conf.modules.d/00-ssl.conf": TLS_LOADS,
        "etc/httpd/conf.d/ssl.conf": f"Listen 443 https\n{PLAIN_SITE}",
    },
    "SUSE": {
        "etc/apache2/httpd.conf": "Include /etc/apache2/listen.conf\nInclude /etc/apache2/sysconfig.d/loadmodule.conf\n"
        "IncludeOptional /etc/apache2/vhosts.d/*.conf\nUser wwwrun\n",
        "etc/apache2/listen.conf": "Listen 80\n<IfDefine SSL>\nListen 443\n</IfDefine>\n",
        "etc/sysconfig/apache2": 'APACHE_SERVER_FLAGS="SSL STATUS"\n',
        "etc/apache2/sysconfig.d/loadmodule.conf": TLS_LOADS,
        "etc/apache2/vhosts.d/a.conf": PLAIN_SITE,
    },
}


def _deep_macros() -> str:
    """Macros of deep sections that use each other: deeper than any reader can go."""
    opened, closed = "<Files a>\n" * 60, "</Files>\n" * 60
    text = "".join(f"<Macro m{n}>\n{opened}Use m{n + 1}\n{closed}</Macro>\n" for n in range(40))
    return f"{text}<Macro m40>\nListen 80\n</Macro>\nUse m0\n"


class ApacheTest(TreeTest):
    def site(
        self,
        more: str = "",
        folder: str = "",
        modules: str = "ssl headers dir authz_core",
        main: str = "",
        **files: str,
    ) -> None:
        loads = "".join(LOADS.format(name) for name in modules.split())
        head = f"ServerRoot /etc/apache2\n{loads}Listen 80\nListen 443\nUser www-data\n{main}\n"
        accounts = {"etc/passwd": "root:x:0:0::/:\nwww-data:x:33:33::/:\n", "srv/site/index.html": "pier\n"}
        self.write({"etc/apache2/apache2.conf": head + SITE.format(more=more, folder=folder), **accounts})
        self.mint(["a.test"])

    def messages(self, control: str) -> str:
        check = self.check(control)
        return " ".join(place.message for place in check.places if place.verdict == check.verdict)

    def test_headers_that_do_nothing_are_told_with_the_reason(self) -> None:
        header = 'Header always set X-Content-Type-Options "nosniff"'
        for case, more, folder, modules, override, words in (
            ("it holds", header, "", "ssl headers authz_core", "", None),
            (
                "its module is not loaded",
                f"<IfModule mod_headers.c>\n{header}\n</IfModule>",
                "",
                "ssl authz_core",
                "",
                "module headers is not loaded",
            ),
            (
                "an override file that is not read",
                "",
                "AllowOverride None",
                "ssl headers authz_core",
                header,
                "override files are not read for it",
            ),
            ("an override file that is read", "", "AllowOverride FileInfo", "ssl headers authz_core", header, None),
        ):
            with self.subTest(case):
                (self.root / "srv/site/.htaccess").unlink(missing_ok=True)
                self.site(more, folder, modules)
                if override:
                    self.write({"srv/site/.htaccess": override + "\n"})
                verdict = self.check("header.effective").verdict
                self.assertEqual(verdict, "fail" if words else "pass")
                if words:
                    self.assertIn(words, self.messages("header.effective"))
                self.assertEqual(self.check("header.sniffing").verdict, "fail" if words else "pass")

    def test_a_directive_that_an_override_file_may_not_hold_breaks_every_answer(self) -> None:
        self.site("Redirect /x https://b.test/", "AllowOverride AuthConfig")
        self.write({"srv/site/.htaccess": "Header set X-Pier yes\n"})
        done = rupex("effective", self.root, "--url", "https://a.test/index.html", "--format", "json")
        self.assertEqual(valid_document(done.stdout)["response"]["status"], 500)

    def asked(self, path: str, *options: str) -> dict[str, Any]:
        """The answer to one request to the site."""
        done = rupex("effective", self.root, "--url", f"https://a.test{path}", "--format", "json", *options)
        document: dict[str, Any] = valid_document(done.stdout)
        return document

    def test_what_is_not_modelled_makes_its_own_scope_unknown(self) -> None:
        for words, path, method, is_known in (
            ("UnknownWord on", "/app/", "GET", False),
            ("UnknownWord on", "/index.html", "GET", True),
            ("UnknownWord off", "/app/", "GET", False),
            ("CheckSpelling on", "/app/none", "GET", False),
            ("CheckSpelling off", "/app/none", "GET", True),
            ("CheckSpelling on", "/app/index.html", "GET", True),
            ("Dav on", "/app/index.html", "PUT", False),
            ("Dav on", "/app/index.html", "GET", True),
            ("IndexOptions FancyIndexing", "/app/index.html", "GET", True),
        ):
            with self.subTest(words, path=path, method=method):
                self.site(
                    f"<Location /app>\n{words}\n</Location>", "", "ssl headers dir authz_core speling dav autoindex"
                )
                self.write({"srv/site/app/index.html": "x"})
                document = self.asked(path, "--method", method)
                self.assertEqual(document["unknown"] is None, is_known, document["unknown"])
                if not is_known:
                    self.assertIn("etc/apache2/apache2.conf:", document["unknown"])

    def test_a_page_for_what_is_not_there_that_is_redirected_is_unknown(self) -> None:
        self.site("FallbackResource /page.html\nRedirect /page.html /elsewhere", modules="ssl alias dir authz_core")
        self.write({"srv/site/page.html": "x"})
        self.assertIn("FallbackResource /page.html leads to a redirect", self.asked("/none")["unknown"])

    def test_headers_of_what_is_not_modelled_are_uncertain_and_no_cookie_is_exempt(self) -> None:
        self.site(
            "Session On\nSessionCookieName pier path=/", modules="ssl headers dir authz_core session session_cookie"
        )
        response = self.asked("/index.html")["response"]
        self.assertEqual([header["name"] for header in response["uncertain"]], ["Set-Cookie"])
        self.assertEqual(self.check("cookie.secure").verdict, "unknown")

    def test_an_if_that_is_not_known_leaves_what_does_not_depend_on_it(self) -> None:
        condition = "<If \"-n osenv('PIER')\">\n{}\n</If>\nHeader always set X-Sure on"
        for words, is_known, sent, uncertain in (
            ("Header always set X-Doubt on", True, ["X-Sure"], ["X-Doubt"]),
            ("Header always unset X-Sure", True, [], ["X-Sure"]),  # the section comes after what is said outside it
            ("Require all denied", False, [], []),
        ):
            with self.subTest(words):
                self.site(condition.format(words))
                document = self.asked("/index.html")
                self.assertEqual(document["unknown"] is None, is_known)
                response = document["response"]
                if is_known:
                    names = [name for name, _ in response["headers"] if name.startswith("X-")]
                    self.assertEqual((names, [h["name"] for h in response["uncertain"]]), (sent, uncertain))

    def test_an_override_file_that_cannot_be_read_is_a_problem(self) -> None:
        self.site("", "AllowOverride All")
        self.write({"srv/site/.htaccess": "#" * (bounds.CONFIG_FILE_BYTES + 1)})
        done = rupex("audit", self.root, "--format", "json")
        self.assertEqual(done.returncode, 3)
        problems = valid_document(done.stdout)["hosts"][0]["problems"]
        self.assertEqual([problem["file"] for problem in problems], ["srv/site/.htaccess"])

    def test_hostile_words_end_nothing(self) -> None:
        for words in (
            '<Directory /srv/site/x>\nOptions ""\n</Directory>', "<IfVersion >= 2.4 x>\n</IfVersion>",
            "<IfVersion ~ (>\n</IfVersion>",
            "<IfVersion ~ (a+)+$>\n</IfVersion>", "<IfDefine {x}>\n</IfDefine>", "<IfModule {0.__class__}>\n</IfModule>",
            "<IfFile {0}>\n</IfFile>", "<IfDirective {0}>\n</IfDirective>", "<DirectoryMatch>\n</DirectoryMatch>", "<If>\n</If>",
            "<Location>\n</Location>", "<Proxy>\n</Proxy>", "<Files>\n</Files>", "AuthType\nRequire valid-user", "Header",
            "ErrorDocument", "UseCanonicalName", "SetEnvIfExpr", "AllowOverride Options=", "RewriteRule ( x",
            '<LocationMatch "(?<n>a">\nHeader set X Y\n</LocationMatch>',
        ):  # fmt: skip
            with self.subTest(words):
                self.site(words)
                self.write({"srv/site/.htaccess": words + "\n"})
                self.assess()

    def test_variables_that_rules_set_are_theirs_alone(self) -> None:
        """A variable of any name, which no counter of Rupex's own may be mistaken for."""
        rules = "RewriteEngine on\nRewriteRule . - [E=_redirects:x]\nRewriteRule . - [E=rewrites:x]"
        self.site(rules, modules="ssl headers dir authz_core rewrite")
        self.assertEqual(self.asked("/index.html")["response"]["status"], 200)

    def test_what_the_controls_see(self) -> None:
        cases = (
            ("surface.override", "", "AllowOverride All", "fail"), ("surface.override", "", "AllowOverride None", "pass"),
            ("exposure.listing", "", "Options Indexes", "fail"), ("exposure.listing", "", "Options -Indexes", "pass"),
            ("exposure.trace", "", "", "fail"), ("exposure.trace", "MAIN", "", "pass"),
            ("exposure.etag", "FileETag All", "", "fail"), ("exposure.etag", "", "", "pass"),
            ("exposure.version", "", "", "fail"),
            ("exposure.error-page", "ServerSignature On", "", "fail"), ("exposure.error-page", "", "", "pass"),
            ("exposure.status-page", "<Location /status>\nSetHandler server-status\n</Location>", "", "fail"),
            ("exposure.status-page", "<Location /status>\nSetHandler server-status\nRequire local\n</Location>", "", "pass"),
            ("exposure.status-page", f"{STATUS}SSLVerifyClient require\n</Location>", "", "pass"),
            ("exposure.status-page", f"{STATUS}SSLVerifyClient optional\n</Location>", "", "fail"),
            ("exposure.status-page", f"{STATUS}SSLVerifyClient require\nSatisfy Any\n</Location>", "", "fail"),
            ("exposure.status-page", f"SSLVerifyClient require\n{STATUS}</Location>", "", "pass"),
            ("exposure.status-page", f"SSLVerifyClient optional\n{STATUS}</Location>", "", "fail"),
            (
                "exposure.status-page",
                f"SSLVerifyClient optional\n{STATUS}Require ssl-verify-client\n</Location>",
                "",
                "pass",
            ),
            ("tls.protocol.floor", "SSLProtocol all", "", "pass"), ("tls.protocol.newest", "SSLProtocol TLSv1.2", "", "fail"),
            ("tls.suite.order", "SSLHonorCipherOrder on\nSSLCipherSuite ECDHE+AESGCM", "", "pass"),
            ("header.hsts", "Header always set Strict-Transport-Security max-age=31536000", "", "pass"),
            ("header.hsts", "", "", "fail"),
            ("header.everywhere", "Header set X-Content-Type-Options nosniff", "", "fail"),
            ("header.everywhere", "Header always set X-Content-Type-Options nosniff", "", "pass"),
            ("proxy.open", "ProxyRequests On", "", "fail"),
            ("proxy.open", "ProxyRequests On\n<Proxy *>\nRequire ip 192.0.2.0/24\n</Proxy>", "", "pass"),
            ("transport.upstream.tls", "ProxyPass / http://app.test/", "", "fail"),
            ("transport.upstream.verify", "ProxyPass / https://app.test/", "", "fail"),
            ("transport.upstream.verify", "SSLProxyVerify require\nProxyPass / https://app.test/", "", "pass"),
            ("redirect.injection", "RewriteEngine On\nRewriteRule ^/old/(.*) https://b.test/$1 [NE,R,L]", "", "fail"),
            ("proxy.client-address", "RemoteIPHeader X-Forwarded-For", "", "fail"),
            ("proxy.client-address", "RemoteIPHeader X-Forwarded-For\nRemoteIPInternalProxy 192.0.2.7", "", "pass"),
        )  # fmt: skip
        for control, more, folder, verdict in cases:
            with self.subTest(control, more=more, folder=folder):
                self.site(
                    more.replace("MAIN", ""),
                    folder,
                    "ssl headers dir authz_core autoindex proxy proxy_http rewrite remoteip status access_compat",
                    main="ServerTokens OS" if more != "MAIN" else "TraceEnable off",
                )
                self.assertEqual(self.check(control, openssl="3.0.15", apache="2.4.62").verdict, verdict)

    def test_override_files_are_not_the_servers_to_change(self) -> None:
        self.site(folder="AllowOverride All")
        self.write({"srv/site/.htaccess": "Options -Indexes\n"})
        (self.root / "srv/site/.htaccess").chmod(0o666)
        self.assertEqual(self.check("override.mode").verdict, "fail")
        (self.root / "srv/site/.htaccess").chmod(0o644)
        self.assertEqual(self.check("override.mode").verdict, "pass")

    def test_layouts_of_distributions(self) -> None:
        for case, files in LAYOUTS.items():
            with self.subTest(case):
                for path in self.root.glob("etc/*"):
                    if path.is_dir():
                        shutil.rmtree(path)
                self.write(files)
                self.mint(["a.test"])
                host = self.gather().host
                self.assertEqual(host.problems, ())
                found = {(e.port, e.transport, e.names) for e in host.endpoints}
                self.assertIn((443, "tls", ("a.test",)), found)
                self.assertIn(host.services[0].workers.value, ("www-data", "apache", "wwwrun"))

    def test_what_is_broken_is_a_problem_with_its_line(self) -> None:
        for text, kind, line in (
            ("Listen 80\n<VirtualHost *:80>\nServerName a.test\n", "syntax", 2),
            ("Listen 80\n</Directory>\n", "syntax", 2),
            ("Listen 80\nInclude /etc/apache2/missing.conf\n", "missing", 2),
            ("Listen 80\nInclude /etc/apache2/apache2.conf\n", "loop", 2),
            ("Listen 80\nIfModule ssl\n", "syntax", 2),
            ("Listen harbour\n", "syntax", 1),
            ("Listen 80\nUse Nothing\n", "missing", 2),
            ("Listen 80\n<Macro m $x>\nUse n $x\n</Macro>\n<Macro n $x>\nUse m $x\n</Macro>\nUse m 1\n", "loop", 6),
            (_deep_macros(), "bound", 252),
            ("Listen 80\nInclude ${NOWHERE}/x.conf\n", "missing", 2),
            ("Listen 80\nUser ${NOBODY}\n", "missing", 2),
            ("LoadModule ssl_module x.so\nListen 80\n<Location />\nProxyPass http://a/\n</Location>\n", "missing", 4),
            ("Listen 80\n<Location /x\nRequire all denied\n", "syntax", 2),
        ):
            with self.subTest(text):
                self.write({"etc/apache2/apache2.conf": text})
                found = [(problem.kind, problem.line) for problem in self.gather().host.problems]
                self.assertIn((kind, line), found)

    def test_a_copy_without_its_modules_is_read_as_a_server_that_has_them(self) -> None:
        """A server starts with no directive whose module it lacks, and has the usual ones."""
        place = "<Location /in>\nAuthType Basic\nAuthName pier\nRequire valid-user\n</Location>\n"
        text = f"Listen 80\nDocumentRoot /srv/site\nHeader always set X-A b\n{place}"
        for loads, words in (
            ("", ("status    401", "X-A: b")),
            ("LoadModule headers_module x.so\nLoadModule authz_user_module x.so\n", ("status    500", "X-A: b")),
        ):
            self.write({"etc/apache2/apache2.conf": loads + text})
            said = rupex("effective", self.root, "--url", "http://a.test/in").stdout
            told = [
                problem.message for problem in self.gather().host.problems if "no LoadModule line" in problem.message
            ]
            self.assertEqual(len(told), 0 if loads else 1)
            for word in words:
                with self.subTest(loads=loads, word=word):
                    self.assertIn(word, said)

    def test_a_server_that_asks_itself_without_end_is_unknown(self) -> None:
        self.site(more=f"DirectoryIndex {'/folder/ ' * 12}\nFallbackResource /none")
        self.write({"srv/site/folder/a": "pier\n"})
        done = rupex("effective", self.root, "--url", "https://a.test/folder/")
        self.assertIn("it asks itself for too many pages", done.stdout)
        self.assertEqual(done.stderr, "")


class SyntaxTest(unittest.TestCase):
    def test_lines_words_and_places(self) -> None:
        text = '# a comment \\\nthat goes on\nHeader set X "a \\"b\\""\\\n   always\r\n'
        text += '<Location "/a b">\n  Require all denied\n</Location>\n'
        for ends in ("\n", "\r\n"):
            parsed = parse("x.conf", text.replace("\r\n", "\n").replace("\n", ends))
            self.assertIsNone(parsed.problem)
            header, location = parsed.directives
            self.assertEqual((header.args, header.line, header.column), (("set", "X", 'a "b"', "always"), 3, 1))
            self.assertEqual((location.args, location.line), (("/a b",), 5))
            assert location.children is not None
            self.assertEqual(
                (location.children[0].name, location.children[0].line, location.children[0].column), ("Require", 6, 3)
            )

    @given(
        st.lists(
            st.sampled_from(
                ("<If x>", "</If>", "<", ">", "\n", "\\\n", '"', "'", "#", "a ", "<Location /", "\r\n", "\\", "é")
            )
        ).map("".join)
    )
    def test_any_text_is_read_with_every_directive_in_its_place(self, text: str) -> None:
        waiting: list[Directive] = list(parse("x", text).directives)
        while waiting:
            directive = waiting.pop()
            self.assertLessEqual(directive.start, directive.end)
            joined = re.sub(r"\\\r?\n", "", text[directive.start :])
            self.assertTrue(joined.startswith(("<", directive.name)))
            waiting += directive.children or []
