"""The other commands: effective, control, baseline, demo, and what all of them share."""

from __future__ import annotations

import unittest

from rupex.controls import all_controls
from tests.support import TreeTest, rupex, valid_document

SITE = """
server { listen 80; server_name a.test; return 301 https://$host$request_uri; }
server {
    listen 443 ssl;
    server_name a.test;
    ssl_certificate /etc/ssl/site.pem;
    ssl_certificate_key /etc/ssl/site.key;
    add_header X-Frame-Options DENY always;
    location /api/ { add_header Cache-Control no-store; return 200 fine; }
}
"""


class EffectiveTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.write_nginx(SITE)
        self.mint(["a.test"])

    def test_a_url_gets_an_answer_with_its_reasons(self) -> None:
        done = rupex("effective", self.root, "--url", "http://a.test/deck?x=1", "--format", "json")
        document = valid_document(done.stdout)
        self.assertEqual(document["response"]["status"], 301)
        self.assertEqual(document["response"]["location"], "https://a.test/deck?x=1")
        self.assertIn(
            ("etc/nginx/nginx.conf", 4), {(w["provenance"]["file"], w["provenance"]["line"]) for w in document["why"]}
        )

    def test_what_a_deeper_block_drops_is_told(self) -> None:
        for words in ("--verbose", "--quiet"):
            text = rupex("effective", self.root, "--url", "https://a.test/api/", words).stdout
            self.assertIn("X-Frame-Options is dropped", text)
            self.assertIn("etc/nginx/nginx.conf:10", text)
            self.assertTrue(all(len(line) <= 100 for line in text.splitlines()))

    def test_a_line_is_shown_as_it_stands_by_any_name_of_its_file(self) -> None:
        self.write({"etc/nginx/sites/a": "server {\nlisten 82;\nadd_header X-Frame-Options DENY always;\n}\n"})
        (self.root / "etc/nginx/enabled").mkdir()
        (self.root / "etc/nginx/enabled/a").symlink_to("../sites/a")
        main = self.root / "etc/nginx/nginx.conf"
        main.write_text(main.read_text() + "http { include enabled/*; }\n")
        for name in ("sites", "enabled"):
            done = rupex("effective", self.root, "--line", f"etc/nginx/{name}/a:3")
            self.assertIn("  add_header X-Frame-Options DENY always;\n", done.stdout, done.stderr)

    def test_a_line_that_is_not_in_force_says_why(self) -> None:
        self.write(
            {
                "etc/apache2/apache2.conf": "LoadModule headers_module m.so\nListen 80\n<Directory />\nAllowOverride None\n"
                "</Directory>\nDocumentRoot /srv/site\n<IfModule mod_gull.c>\nServerTokens Prod\n</IfModule>\n",
                "srv/site/.htaccess": "Header set X-Deck 1\n<Files a>\nHeader set X-Deck 2\n</Files>\n",
            }
        )
        for line in (1, 3):
            said = rupex("effective", self.root, "--as", "apache", "--line", f"srv/site/.htaccess:{line}").stdout
            self.assertIn("override files are not read for it: AllowOverride None", said)
            self.assertIn("apache2.conf:4)", said)
        skipped = rupex("effective", self.root, "--as", "apache", "--line", "etc/apache2/apache2.conf:8").stdout
        self.assertIn("module gull is not loaded", skipped)
        read = rupex("effective", self.root, "--as", "apache", "--line", "etc/apache2/apache2.conf:6").stdout
        self.assertNotIn("in force", read)

    def test_a_block_that_listens_on_several_addresses_is_shown_once(self) -> None:
        listens = "listen 80; listen [::]:80; listen 443 ssl; listen [::]:443 ssl;"
        versions = "ssl_certificate a.pem; ssl_certificate_key a.key; ssl_protocols TLSv1.1 TLSv1.2;"
        self.write_nginx(
            f"server {{ server_name a.test; {listens} {versions} }} server {{ listen 80; server_name b.test; }}"
        )
        text = rupex("effective", self.root, "--assume", "nginx=1.22.1", "--assume", "openssl=3.0.19").stdout
        heads = [line for line in text.splitlines() if "test" in line and not line.startswith(" ")]
        self.assertEqual(
            [head.split("  ")[0] for head in heads], ["0.0.0.0:80, [::]:80", "0.0.0.0:443, [::]:443", "0.0.0.0:80"]
        )
        self.assertIn("TLSv1.1 is configured and refused by OpenSSL 3.0.19 at security level 1", text)

    def test_the_line_that_lets_a_visitor_in_is_told(self) -> None:
        self.write({
            "etc/apache2/apache2.conf": "".join(f"LoadModule {m}_module /x.so\n" for m in ("authz_core", "authz_host", "dir"))
            + "Listen 80\nDocumentRoot /srv/site\n<Location /admin>\n<RequireAny>\nRequire ip 192.0.2.0/24\n"
            "Require ip 198.51.100.9\n</RequireAny>\n</Location>\n",
            "etc/tomcat10/server.xml": '<Server>\n<Service name="c">\n<Connector port="8080"/>\n<Engine defaultHost="a">\n'
            '<Host name="a" appBase="apps">\n<Valve className="org.apache.catalina.valves.RemoteAddrValve" allow="192.*"/>\n'
            "</Host></Engine></Service></Server>",
        })  # fmt: skip
        for url, source, words in (
            (
                "http://a/admin",
                "198.51.100.9",
                r"Require ip 198.51.100.9 lets 198.51.100.9 in\n +etc/apache2/apache2.conf:9",
            ),
            ("http://a/admin", "203.0.113.5", r"<RequireAny>\n +etc/apache2/apache2.conf:7"),
            ("http://a:8080/", "192.0.2.7", r"192.0.2.7 is let in\n +etc/tomcat10/server.xml:6"),
        ):
            with self.subTest(url, source=source):
                self.assertRegex(rupex("effective", self.root, "--url", url, "--source", source).stdout, words)

    def test_a_source_decides_rules_by_address(self) -> None:
        self.write_nginx(
            "server { listen 80; server_name a.test; location / { allow 192.0.2.0/24; deny all; empty_gif; } }"
        )
        for source, status in (("192.0.2.7", "200"), ("198.51.100.7", "403")):
            text = rupex("effective", self.root, "--url", "http://a.test/", "--source", source).stdout
            self.assertRegex(text, rf"status +{status}")
        self.assertIn("--source ADDRESS", rupex("effective", self.root, "--url", "http://a.test/").stdout)
        done = rupex("effective", self.root, "--url", "http://a.test/", "--source", "nobody")
        self.assertEqual((done.returncode, done.stdout), (2, ""))

    def test_an_account_decides_rules_by_login(self) -> None:
        self.write({
            "etc/nginx/users": "aino:x\n", "etc/apache2/users": "aino:x\nlotta:x\n",
            "etc/apache2/apache2.conf": "".join(
                f"LoadModule {m}_module /x.so\n"
                for m in ("authz_core", "auth_basic", "authn_file", "authz_user", "dir", "authn_core")
            ) + 'Listen 81\nDocumentRoot /srv/site\n<Location "/">\nAuthType Basic\nAuthName pier\nAuthUserFile users\n'
            "Require user aino\nErrorDocument 401 default\n</Location>\n",
            "etc/tomcat10/server.xml": '<Server>\n<Service name="c">\n<Connector port="8080"/>\n<Engine defaultHost="a">\n'
            '<Realm className="org.apache.catalina.realm.MemoryRealm" pathname="/etc/tomcat10/crew.xml"/>\n'
            '<Host name="a" appBase="/srv/apps"/></Engine></Service></Server>',
            "etc/tomcat10/crew.xml": '<tomcat-users><user username="aino" roles="crew"/><user username="lotta"/></tomcat-users>',
            "srv/apps/ROOT/WEB-INF/web.xml": "<web-app><security-constraint><web-resource-collection><url-pattern>/*"
            "</url-pattern></web-resource-collection>\n<auth-constraint><role-name>crew</role-name></auth-constraint>"
            "</security-constraint>\n<login-config/></web-app>",
            "srv/apps/ROOT/index.html": "pier", "srv/site/index.html": "pier",
        })  # fmt: skip
        self.write_nginx("server { listen 80; auth_basic x; auth_basic_user_file users; location / { stub_status; } }")
        for port, words in (
            (80, "asks for a password, and aino has one"),
            (81, "lets aino in"),
            (8080, "aino has a role that is let in"),
        ):
            for account, status in (("aino", 200), ("lotta", 403 if port == 8080 else 401), ("stranger", 401)):
                with self.subTest(port, account=account):
                    text = rupex("effective", self.root, "--url", f"http://a:{port}/", "--account", account).stdout
                    self.assertRegex(text, rf"status +{status}")
                    self.assertEqual(words in text, status == 200)
        (self.root / "etc/nginx/users").unlink()
        text = rupex("effective", self.root, "--url", "http://a/", "--account", "aino").stdout
        self.assertIn("whether aino has an account is not known", text)

    def test_endpoints_are_listed_with_their_scopes(self) -> None:
        document = valid_document(rupex("effective", self.root, "--format", "json").stdout)
        self.assertEqual(
            [e["id"] for e in document["endpoints"]], ["nginx:0.0.0.0:80/a.test", "nginx:0.0.0.0:443/a.test"]
        )
        self.assertEqual(document["endpoints"][1]["scopes"][0]["dropped"][0]["name"], "X-Frame-Options")
        self.assertIn("0.0.0.0:443", rupex("effective", self.root).stdout)

    def test_a_url_nobody_answers_or_understands_is_a_usage_error(self) -> None:
        for url in ("http://a.test:81/", "a.test", "ftp://a.test/", "http://a.test:x/"):
            done = rupex("effective", self.root, "--url", url)
            self.assertEqual((done.returncode, done.stdout), (2, ""))


class CatalogueTest(TreeTest):
    def test_every_control_is_listed_and_explained_with_its_source(self) -> None:
        listed = rupex("control", "list").stdout
        for name, control in all_controls().items():
            self.assertIn(name, listed)
            self.assertTrue(control.references and control.remedy and control.why, name)
        shown = rupex("control", "show", "tls.protocol.floor").stdout
        for words in ("RFC 8996", "CWE-327", "ssl_protocols", "parameters.floor"):
            self.assertIn(words, shown)
        self.assertIn("did you mean", rupex("control", "show", "tls.protocol.flor").stderr)

    def test_a_bad_baseline_is_refused_with_the_key_path_and_what_is_allowed(self) -> None:
        floor = '[controls."tls.protocol.floor"]\n'
        for case, text, words in (
            ("no TOML", "name = ", "not TOML"),
            ("an unknown key", "weights = 1", "weights: unknown key; allowed are name"),
            ("a wrong type", floor + 'weight = "a"', ".weight: Expected `float`, got `str`"),
            ("not a number", floor + "weight = nan", '"tls.protocol.floor".weight: Expected `float` >= 0.0'),
            ("endless", floor + "weight = inf", '"tls.protocol.floor".weight'),
            ("a negative ceiling", floor + "ceiling = -1", '"tls.protocol.floor".ceiling: Expected `float` >= 0.0'),
            ("no such severity", floor + 'severity = "bad"', "allowed are critical, high, medium, low"),
            ("no such version", floor + 'parameters.floor = "TLSv9"', "parameters.floor: Invalid enum value"),
            ("no such parameter", floor + "parameters.top = 1", "parameters.top: no parameter of this control"),
            ("no such control", '[controls."tls.floor"]', 'controls."tls.floor": there is no such control'),
            ("a circle", 'extend = "mine.toml"', "extend each other in a circle"),
        ):
            with self.subTest(case):
                head = 'name = "mine"\n' + ("" if "extend" in text else 'extend = "public-web"\n')
                (self.root / "mine.toml").write_text(head + text)
                done = rupex("baseline", "check", "mine.toml", cwd=self.root)
                self.assertEqual(done.returncode, 2)
                self.assertIn(words, done.stderr)
                self.assertEqual(rupex("audit", ".", "--baseline", "mine.toml", cwd=self.root).returncode, 2)

    def test_a_baseline_of_ones_own_changes_what_counts(self) -> None:
        (self.root / "mine.toml").write_text(
            'name = "mine"\nextend = "public-web"\n[controls."redirect.present"]\noff = "behind our edge"\n'
        )
        self.assertIn("off: behind our edge", rupex("baseline", "show", self.root / "mine.toml").stdout)
        self.write_nginx("server { listen 80; server_tokens off; }")
        run = valid_document(
            rupex("audit", self.root, "--baseline", self.root / "mine.toml", "--format", "json").stdout
        )
        self.assertEqual(run["baseline"]["name"], "mine")
        self.assertNotIn("redirect.present", {check["control"] for check in run["hosts"][0]["checks"]})


class SharedMannersTest(TreeTest):
    def test_the_demo_tells_its_story(self) -> None:
        done = rupex("demo", "--keep", self.root / "demo")
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        for words in (
            r"booking\.ternholm\.test  59\.0 weak", r"camera\.piers\.ternholm\.test  29\.0 open", "held at 29",
            r"booking  29\.0 open → 9\d\.\d hardened", r"booking\.ternholm\.test  59\.0 weak → 9\d\.\d hardened",
            "Ranking, worst first", "ran out on 2026-10-31", "run:2", "figures/scores.png",
        ):  # fmt: skip
            self.assertRegex(done.stdout, words)
        for chapter in range(1, 10):
            self.assertRegex(done.stdout, rf"(?m)^{chapter}\. ")
        lines = [line for line in done.stdout.splitlines() if str(self.root) not in line]
        self.assertLessEqual(max(map(len, lines)), 100)
        for name in (
            "before/booking/etc/nginx/nginx.conf",
            "report.html",
            "report.sarif",
            "inventory.cdx.json",
            "trend.png",
        ):
            self.assertTrue((self.root / "demo" / name).is_file(), name)
        self.assertEqual(rupex("demo", "--keep", self.root / "demo").returncode, 2)

    def test_hosts_of_one_name_are_told_apart_by_their_paths(self) -> None:
        self.write({f"{when}/pier/etc/nginx/nginx.conf": "events {}\n" for when in ("before", "after")})
        done = rupex("audit", "before/pier", "after/pier", "--format", "json", cwd=self.root)
        self.assertEqual([h["name"] for h in valid_document(done.stdout)["hosts"]], ["before/pier", "after/pier"])

    def test_every_verb_has_help_with_an_example(self) -> None:
        for verb in (["audit"], ["effective"], ["demo"], ["control", "show"], ["baseline", "check"]):
            self.assertIn("example: rupex", rupex(*verb, "--help").stdout)

    def test_a_bad_time_and_a_bad_version_are_usage_errors(self) -> None:
        self.write_nginx("")
        for option in (("--now", "soon"), ("--assume", "nginx"), ("--assume", "nginx=old"), ("--as", "gopher")):
            done = rupex("audit", self.root, *option)
            self.assertEqual((done.returncode, done.stdout), (2, ""), option)
            self.assertNotIn("Traceback", done.stderr)


if __name__ == "__main__":
    unittest.main()
