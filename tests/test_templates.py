"""Sites that are written from one template are resolved and judged once; that must change nothing but the time it takes."""

from __future__ import annotations

import random
import re
import unittest
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, get_args, get_origin
from unittest import mock

from msgspec import structs

from rupex.audit.assess import assess
from rupex.audit.collect import gather, host_of, load_host
from rupex.audit.halves import Assessment, judge_in_halves, judge_whole
from rupex.baseline import Baseline, load_baseline
from rupex.controls import all_controls
from rupex.demo.mint import Authority, new_key, write_chain, write_key
from rupex.documents.run import CheckDocument, HostDocument
from rupex.documents.sites import written_out
from rupex.host import open_tree
from rupex.model.templates import MARK
from rupex.servers.common.templates import Language, Templates
from rupex.servers.contract import Request
from tests import support
from tests.apache_generator import Generator as ApacheGenerator
from tests.nginx_generator import Generator
from tests.support import TreeTest

PATTERNS = 12
MODULES = "ssl headers rewrite autoindex dir alias authz_core"
SITES = 7

NAMES = (
    "pier{}.test", "pier{}.internal", "pier{}.corp.test", "www.pier{}.local", "pier{}.home.arpa", "a{}.b.c.test", "p{}.lan",
    "x-{}.pier.test", "pier{}.test.pier{}.test",
)  # fmt: skip
"""What sites are called: names that a control may tell apart by how they end or begin."""
WORDS = (
    ".test",
    ".corp.test",
    ".internal",
    ".lan",
    ".local",
    ".arpa",
    "pier1.test",
    "pier",
    "www.",
    "a",
    "X-A",
    "nosniff",
)

TLS_HOST = (
    "<VirtualHost *:443>\nServerName {name}\nServerAlias www.{name}\nSSLEngine on\n"
    "SSLCertificateFile /etc/ssl/{name}.pem\nSSLCertificateKeyFile /etc/ssl/{name}.key\nDocumentRoot /srv/{name}\n"
    "CustomLog /var/log/{name}.log combined\nHeader always set X-A {name}\nRedirect /home https://{name}/\n"
    "<Directory /srv/{name}>\nRequire all granted\n</Directory>\n</VirtualHost>\n"
)
TLS_SERVER = (
    "server {{\n listen 443 ssl;\n server_name {name};\n ssl_certificate /etc/ssl/{name}.pem;\n"
    " ssl_certificate_key /etc/ssl/{name}.key;\n root /srv/{name};\n"
    ' add_header Permissions-Policy "camera=(self)" always;\n'
    " location /x {{\n return 301 https://pier3.test/;\n }}\n location /y {{\n add_header X-A {name};\n }}\n}}\n"
)
HOME = "\n location = /home {{\n return 301 https://{name}/;\n }}\n}}\n"


def random_baseline(choose: random.Random, folder: Path) -> Baseline:
    """A baseline with other thresholds and weights than the built-in one's, and no control that is off."""
    builtin = load_baseline("public-web").rules
    lines = ['name = "random"', 'extend = "public-web"']
    for name, control in all_controls().items():
        lines.append(f'[controls."{name}"]')
        lines += [f"weight = {choose.randint(1, 9)}", 'source = "made up"']
        for parameter, kind in control.parameters.items():
            usual = builtin[name].parameters.get(parameter) if name in builtin else None
            value = _random_value(choose, kind, usual)
            if value is not None:
                lines.append(f"parameters.{parameter} = {value}")
    file = folder / f"random-{choose.random()}.toml"
    file.write_text("\n".join(lines))
    return load_baseline(str(file))


def _random_value(choose: random.Random, kind: Any, usual: Any) -> str | None:
    if kind is int:
        return str(choose.choice((0, 1, 30, 443, 10_000)))
    if get_origin(kind) is Mapping:
        pattern = choose.choice(("pier*", "*.test", "pier1.test", "*.lan", "x"))
        return choose.choice(("{}", f'{{ "{pattern}" = ["camera", "microphone", "geolocation"] }}'))
    if get_origin(kind) in (tuple, frozenset) and str in get_args(kind) and choose.random() < 0.7:
        words = choose.sample(WORDS, choose.randint(0, 5)) + sorted(usual or ())[:2]
        return str(words).replace("'", '"')
    return None


FIRST_HOSTS = """Listen 80
Listen 443
<VirtualHost *:80>
ServerName none.test
</VirtualHost>
<VirtualHost *:443>
ServerName none.test
SSLEngine on
SSLCertificateFile /etc/ssl/site.pem
SSLCertificateKeyFile /etc/ssl/site.key
</VirtualHost>
<Directory /srv/>
Require all granted
</Directory>
Include sites/*.conf
"""


def as_pattern(text: str) -> str:
    """Configuration of a.test as a pattern that ``format`` fills with other names."""
    braced = text.replace("{", "{{").replace("}", "}}")
    return braced.replace("a.test", "{name}").replace("/srv/site", "/srv/{name}")


class TemplatesTest(TreeTest):
    def test_server_blocks_of_a_template_are_judged_as_if_each_stood_alone(self) -> None:
        self.mint(["pier1.test"])
        generator, choose = Generator(7), random.Random(7)
        grouped = 0
        for _ in range(PATTERNS):
            body = generator.case().split("server_name a.test;", 1)[1].split("\n}\nserver {", 1)[0]
            plain = "server {{\n listen 80;\n server_name www.{name} {name};\n" + as_pattern(body) + HOME
            self.write_nginx("server { listen 80; listen 443 ssl; return 444; }\ninclude sites/*;")
            grouped += self._compare("etc/nginx/sites", "# {name}\n" + plain + TLS_SERVER, choose)
        self.assertGreater(grouped, 2 * PATTERNS)

    def test_virtual_hosts_of_a_template_are_judged_as_if_each_stood_alone(self) -> None:
        self.mint(["pier1.test"])
        generator, choose = ApacheGenerator(7), random.Random(7)
        modules = "".join(f"LoadModule {name}_module modules/mod_{name}.so\n" for name in MODULES.split())
        grouped = 0
        for _ in range(PATTERNS):
            plain = as_pattern(generator.host("a.test").replace("@plain@", "80"))
            self.write({"etc/apache2/apache2.conf": modules + FIRST_HOSTS})
            grouped += self._compare("etc/apache2/sites", "# {name}\n" + plain + "\n" + TLS_HOST, choose)
        self.assertGreater(grouped, 3 * PATTERNS // 2)

    def test_words_that_differ_otherwise_than_as_words_do_are_read_by_themselves(self) -> None:
        self.mint(["pier1.test"])
        first = ("pier1.test", "www.pier1.test", "/srv/pier1", "/etc/ssl/pier1")
        for about, odd, is_site in (
            ("only another site", ("pier2.test", "www.pier2.test", "/srv/pier2", "/etc/ssl/pier2"), True),
            ("longer words", ("pier-two.b.test", "w.pier2.test", "/srv/web/pier2/x", "/etc/ssl/pier2"), True),
            ("names that are no longer one in another", ("pier2.test", "www.pier3.test", *first[2:]), True),
            ("a root of the package", ("pier2.test", "www.pier2.test", "/usr/share/nginx/html", first[3]), False),
            ("a root that is there", ("pier2.test", "www.pier2.test", "/srv/there", first[3]), False),
            ("two slashes", ("pier2.test", "www.pier2.test", "/srv/pier2", "//tc/ssl/pier2"), False),
            ("a folder that is the one above", ("pier2.test", "www.pier2.test", "/srv/pier2", "/./c/ssl/pier2"), False),
            ("a slash at the end", ("pier2.test", "www.pier2.test", "/srv/pier/", "/etc/ssl/pier2"), False),
            ("a name that all sites speak of", ("pier9.test", "www.pier9.test", "/srv/pier9", "/etc/ssl/pier9"), False),
            ("a pattern", ("~pier2.est", "www.pier2.test", "/srv/pier2", "/etc/ssl/pier2"), False),
            ("a name in capitals", ("PIER2.test", "www.PIER2.test", "/srv/pier2", "/etc/ssl/pier2"), False),
            ("a stand-in", ("pier2.test", "www.pier2.test", "/srv/stand-in-000001", "/etc/ssl/pier2"), False),
        ):  # fmt: skip
            self.write({"srv/there/index.html": ""})
            self.write_nginx("server { listen 8080; listen 443 ssl; return 444; }\ninclude sites/*;")
            for number, words in enumerate((first, first, odd, odd)):
                self.write({f"etc/nginx/sites/{number}": self._site(*words)})
                for suffix in ("pem", "key"):
                    path = words[3].lstrip("/")
                    self.write({f"{path}.{suffix}": (self.root / f"etc/ssl/site.{suffix}").read_text()})
            tree = open_tree(self.root).tree
            task = Assessment(load_baseline("public-web"), support.NOW, keep_all=False, waivers=None, written="full")
            quick = judge_whole(load_host(tree, "", name="host"), task)
            alone = judge_whole(load_host(tree, "", name="host", uses_templates=False), task)
            with self.subTest(about):
                self._assert_same(written_out(quick), alone)
                files = {endpoint.provenance.file for endpoint in quick.endpoints}
                self.assertEqual("etc/nginx/sites/2" not in files, is_site)

    def test_what_hangs_on_a_name_is_told_for_each_site(self) -> None:
        """Sites that look as if they were of one template, and are answered differently by what is in a name, or beside it."""
        self.mint(["pier1.test"])
        for about, http, site, files in (
            ("two directives on one line", "", "server_name {name}; add_header X-A b;", {}),
            ("a root by name", "", "server_name {name};\n root /srv/$host;", {"srv/pier-three.b.test/.git/config": ""}),
            (
                "a file by name", "", "server_name {name};\n root /srv/all;\n location / {{\n try_files /$host.html =404;\n }}",
                {"srv/all/pier-three.b.test.html": "", "srv/all/.git/config": ""},
            ),
            (
                "a test for a file by name", "",
                "server_name {name};\n root /srv/all;\n if (-f /srv/all/$host.off) {{\n return 503;\n }}",
                {"srv/all/pier-three.b.test.off": ""},
            ),
            ("what looks like a comment in a word", "", 'server_name {name};\n add_header X-A "a\n# {name}\nb" always;', {}),
            (
                "a table of names", "map $host $policy { default nosniff; pier-three.b.test sniff; }",
                "server_name {name};\n add_header X-Content-Type-Options $policy always;", {},
            ),
            ("a pattern on the name", "", "server_name {name};\n if ($host ~ ^pier-three) {{\n return 301 /a;\n }}", {}),
            ("the name of another upstream", "upstream pier-three.b.test { server 198.51.100.1; }",
             "server_name {name};\n location / {{\n proxy_pass http://{name};\n }}", {}),
        ):  # fmt: skip
            self.write_nginx(f"{http}\nserver {{ listen 80; listen 443 ssl; return 444; }}\ninclude sites/*;")
            self.write(files)
            text = "server {{\n listen 80;\n " + site + "\n}}\n"
            names = ["pier1.test", "pier2.test", "pier-three.b.test", "pier4.test", "pier5.test"]
            with self.subTest(about):
                self._same_for("etc/nginx/sites", {f"{at}": text.format(name=name) for at, name in enumerate(names)})

    def test_what_hangs_on_a_certificate_is_told_for_each_site(self) -> None:
        for number in range(6):
            self.mint([f"pier{number}.test"])
            for suffix in ("pem", "key"):
                self.write({f"etc/ssl/{number}.{suffix}": (self.root / f"etc/ssl/site.{suffix}").read_text()})
        now = datetime.now(UTC)
        key = new_key("RSA")
        leaf = Authority("Ternholm Test CA", now).issue(["pier3.test"], key, now - timedelta(1), now + timedelta(60))
        write_chain(self.root / "etc/ssl/3.pem", leaf)
        write_key(self.root / "etc/ssl/3.key", key)
        self.write_nginx("server { listen 443 ssl; return 444; }\ninclude sites/*;")
        site = (
            "server {{\n listen 443 ssl;\n server_name pier{0}.test;\n ssl_certificate /etc/ssl/{0}.pem;\n"
            " ssl_certificate_key /etc/ssl/{0}.key;\n}}\n"
        )
        quick = self._same_for("etc/nginx/sites", {str(number): site.format(number) for number in range(6)})
        self.assertEqual(len(quick.templates), 2)

    def test_what_the_main_server_says_of_one_site_is_told_for_that_site(self) -> None:
        self.mint(["pier1.test"])
        modules = "".join(f"LoadModule {name}_module modules/mod_{name}.so\n" for name in MODULES.split())
        self.write(
            {
                "etc/apache2/apache2.conf": f"{modules}Listen 80\n<VirtualHost *:80>\nServerName none.test\n</VirtualHost>\n"
                "<Directory /srv/>\nRequire all granted\n</Directory>\n<Directory /srv/pier2.test>\nOptions Indexes\n"
                "Header set X-A b\n</Directory>\nInclude sites/*\n"
            }
        )
        site = "<VirtualHost *:80>\nServerName {0}\nDocumentRoot /srv/{0}\n</VirtualHost>\n"
        names = ("pier1.test", "pier2.test", "pier3.test", "pier4.test")
        self._same_for("etc/apache2/sites", {name: site.format(name) for name in (*names, "pier5.test")})

    def _same_for(self, folder: str, files: Mapping[str, str]) -> HostDocument:
        for old in (self.root / folder).glob("*"):
            old.unlink()
        self.write({f"{folder}/{name}": text for name, text in files.items()})
        tree = open_tree(self.root).tree
        task = Assessment(load_baseline("strict"), support.NOW, keep_all=False, waivers=None, written="full")
        scene, each = (load_host(tree, "", name="host", uses_templates=uses) for uses in (True, False))
        self.assertEqual(host_of(scene).endpoints, host_of(each).endpoints)
        quick = judge_whole(scene, task)
        self._assert_same(written_out(quick), judge_whole(each, task))
        return quick

    def test_a_host_without_templates_is_hardly_looked_at(self) -> None:
        seen = []
        language = Language(re.compile("^name (.*)$", re.MULTILINE), re.compile("^path (.*)$", re.MULTILINE), False)
        templates: Templates[str] = Templates(language, open_tree(self.root).tree)
        with mock.patch.object(Templates, "_words_of", lambda _, text: seen.append(text)):
            for number in range(1000):
                self.assertIsNone(templates.find(str(number), f"{number}\n" * number, lambda _, text: text))
        self.assertLess(len(seen), 150)

    def test_templates_that_come_late_are_found(self) -> None:
        language = Language(re.compile("^name (.*)$", re.MULTILINE), re.compile("^path (.*)$", re.MULTILINE), False)
        templates: Templates[str] = Templates(language, open_tree(self.root).tree)
        texts = [f"name a{number}.test\n{'x' * number}" for number in range(500)]
        texts += [f"name a{number}.test\npath /srv/{number}\n# {number}\n" for number in range(500)]
        found = [templates.find("f", text, lambda _, model: model) for text in texts]
        self.assertGreater(sum(one is not None for one in found), 400)
        words = found[-1]
        assert words is not None
        self.assertEqual(words[1].put_in(words[0]), "name a499.test\npath /srv/499\n#\n")

    @staticmethod
    def _site(name: str, other: str, root: str, path: str) -> str:
        return (
            f"server {{\n listen 8080;\n server_name {name} {other};\n location / {{\n return 301 https://{name}/;\n }}\n"
            " location /9 {\n return 301 https://pier9.test/;\n }\n}\n"
            f"server {{\n listen 443 ssl;\n server_name {name} {other};\n root {root};\n"
            f" ssl_certificate {path}.pem;\n ssl_certificate_key {path}.key;\n}}\n"
        )

    def _compare(self, folder: str, pattern: str, choose: random.Random) -> int:
        """Sites of a pattern, judged by groups and each alone, whole and in halves, under a random baseline; how many were in
        groups."""
        for old in (self.root / folder).glob("*"):
            old.unlink()
        names = [choose.choice(NAMES).replace("{}", str(site)) for site in range(SITES)]
        for site, name in enumerate(names):
            self.write({f"{folder}/{site}.conf": pattern.format(name=name)})
            for suffix in ("pem", "key"):
                self.write({f"etc/ssl/{name}.{suffix}": (self.root / f"etc/ssl/site.{suffix}").read_text()})
        baseline = random_baseline(choose, self.root.parent)
        tree = open_tree(self.root).tree
        by_hand = load_host(tree, "", name="host", assumed={"openssl": "3.0"}, uses_templates=False)
        alone_host = host_of(by_hand)
        alone = assess(alone_host, baseline, support.NOW)
        task = Assessment(baseline, support.NOW, keep_all=False, waivers=None, written="full")
        brief = Assessment(baseline, support.NOW, keep_all=False, waivers=None, written="brief")
        found = 0
        with self.subTest(pattern, names=names):
            for judge in (judge_whole, judge_in_halves):
                scene = load_host(tree, "", name="host", assumed={"openssl": "3.0"})
                self.assertEqual(host_of(scene).endpoints, alone_host.endpoints)
                quick = judge(scene, task)
                assert quick is not None
                found = len(quick.sites)
                self.assertNotIn(MARK, str(written_out(quick)))
                self._assert_same(written_out(quick), alone)
                short = judge(load_host(tree, "", name="host", assumed={"openssl": "3.0"}), brief)
                assert short is not None
                self._assert_same(structs.replace(written_out(short), endpoints=alone.endpoints), alone)
                listed = written_out(short, 2)
                for check, whole in zip(listed.checks, alone.checks, strict=True):
                    self.assertEqual(sum(p.count for p in check.places), len(whole.places), check.control)
            self._assert_same_answers(names)
        return found

    def _assert_same(self, quick: HostDocument, alone: HostDocument) -> None:
        for one, other in zip(quick.endpoints, alone.endpoints, strict=True):
            self.assertEqual(one, other)
        for ours, theirs in zip(quick.checks, alone.checks, strict=True):
            self.assertEqual(_comparable(ours), _comparable(theirs), ours.control)
        self.assertEqual(quick.score, alone.score)

    def _assert_same_answers(self, names: list[str]) -> None:
        """What each site answers, with its reasons: for that its file is read again."""
        requests = [
            Request(scheme=scheme, name=name, port=port, path=path)
            for name in names
            for scheme, port in (("http", 80), ("https", 443))
            for path in ("/", "/x", "/y/z")
        ]
        tree = open_tree(self.root).tree
        quick = gather(tree, "", name="host").configurations[0]
        alone = load_host(tree, "", name="host", uses_templates=False).configurations[0]
        for request in requests:
            self.assertEqual(quick.answer(request), alone.answer(request))


def _comparable(check: CheckDocument) -> tuple[object, ...]:
    return check.control, check.parameters, check.counts, check.lost, check.gain, sorted(map(str, check.places))


if __name__ == "__main__":
    unittest.main()
