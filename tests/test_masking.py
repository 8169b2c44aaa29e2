"""Values that no verdict needs are masked, by the command and by the awk program of the script alike."""

from __future__ import annotations

import glob
import os
import re
import shutil
import subprocess
import tempfile
import unittest
from collections import Counter
from collections.abc import Sequence
from importlib import resources
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from rupex.masking.leaves import USUAL_CLASS, rows
from rupex.masking.marks import MARK
from rupex.masking.texts import LANGUAGES, Masker, mask
from rupex.snapshot.script import render_tables
from tests.planted import TRACE, planted

TESTS = Path(__file__).parent
PROGRAM = str(resources.files("rupex.masking").joinpath("mask.awk"))

# Files that others wrote, by their language: those of the cases, and of Debian's packages on this machine.
PATTERNS = (
    ("nginx", f"{TESTS}/nginx_cases/*"), ("nginx", "/etc/nginx/*"), ("nginx", "/etc/nginx/**/*.conf"),
    ("apache", f"{TESTS}/apache_cases/*"), ("apache", "/etc/apache2/**/*.conf"), ("apache", f"{TESTS}/tomcat_cases/**/*.config"),
    ("xml", f"{TESTS}/tomcat_cases/**/*.xml"), ("xml", "/etc/tomcat10/*.xml"), ("rules", f"{TESTS}/firewall_cases/*"),
    ("properties", "/etc/tomcat10/*.properties"), ("properties", "/etc/java-*/security/java.security"),
    ("unit", "/usr/lib/systemd/system/*.service"), ("script", "/etc/cron.daily/*"), ("openssl", "/etc/ssl/openssl.cnf"),
    ("environment", "/etc/default/*"), ("os-release", "/etc/os-release"), ("ini", "/etc/default/*"), ("words", "/etc/hosts"),
    ("yaml", "/etc/default/*"), ("map", "/etc/hosts"),
)  # fmt: skip

# What a value becomes: language, text, and the text that leaves, marks numbered from 1.
CASES = (
    ("nginx", "proxy_set_header X-Api-Key abc;", "proxy_set_header X-Api-Key M1;"),
    ("nginx", "proxy_set_header Host $host;", "proxy_set_header Host $host;"),
    ("nginx", "proxy_set_header X-A \"$scheme abc\";", "proxy_set_header X-A \"$scheme M1\";"),
    ("nginx", "proxy_set_header X-A ${scheme}abc$host;", "proxy_set_header X-A ${scheme}M1$host;"),
    ("nginx", "set $a abc; set $b abc; if ($a = abc) { }", "set $a M1; set $b M1; if ($a = M1) { }"),
    ("nginx", "fastcgi_param A abc; fastcgi_param B abc;", "fastcgi_param A M1; fastcgi_param B M2;"),
    ("nginx", "set $a /srv/x; set $b a.test; set $c 17; set $d on;", "set $a /srv/x; set $b a.test; set $c 17; set $d on;"),
    ("nginx", "set $password abc; if ($x = abc) { }", "set $password S1; if ($x = S1) { }"),
    ("nginx", "set $password changeit;", "set $password F1;"),
    ("nginx", "location /a { # abc\n}", "location /a { #\n}"),
    ("nginx", "return 301 https://u:p1@a.test/x?k=v&u=$uri;", "return 301 https://M1:S2@a.test/x?M3=M4&M5=$uri;"),
    ("nginx", "return 200 \"one\ntwo\";", "return 200 \"M1\n\";"),
    ("nginx", "map $http_x $y { abc 1; default 0; }", "map $http_x $y { M1 1; default 0; }"),
    ("nginx", "map $host $y { abc 1; ~^x\\. 2; }", "map $host $y { abc 1; ~^x\\. 2; }"),
    ("nginx", "unheard abc { }", "M1 M2 { }"),
    ("nginx", "a_by_lua_block { x = \"}\" -- }\n [[ } ]] } server { }", "M1 {\n} server { }"),
    ("nginx", "add_header Set-Cookie \"id=abc; Path=/; Secure\";", "add_header Set-Cookie \"id=M1; Path=/; Secure\";"),
    ("nginx", "root /srv/site; \"open abc", "root /srv/site; M1"),
    ("apache", "SetEnv A abc\n", "SetEnv A M1\n"),
    ("apache", "# abc\\\n  def\nListen 80\n", "#\n\nListen 80\n"),
    ("apache", "RequestHeader set X-A \"%{SSL_PROTOCOL}s abc\"\n", "RequestHeader set X-A \"%{SSL_PROTOCOL}s M1\"\n"),
    ("apache", "RewriteCond %{HTTP_HOST} ^www\\.(.*)$\n", "RewriteCond %{HTTP_HOST} ^www\\.(.*)$\n"),
    ("apache", "RewriteCond %{HTTP:X-A} ^abc$ [NC]\n", "RewriteCond %{HTTP:X-A} M1 [NC]\n"),
    ("apache", "RewriteRule ^/a /b?k=v [R=301,E=A:abc,L]\n", "RewriteRule ^/a /b?M1=M2 [R=301,E=A:M3,L]\n"),
    ("apache", "RewriteRule ^/a - [CO=name:abc:.b.test:60:/:secure,L]\n", "RewriteRule ^/a - [CO=name:M1:.b.test:60:/:secure,L]\n"),
    ("apache", "RewriteRule ^/a - [CO=;name;abc;.b.test;0;/]\n", "RewriteRule ^/a - [CO=;name;M1;.b.test;0;/]\n"),
    ("apache", "<If \"%{HTTP:X-A} == 'abc' && %{REQUEST_URI} =~ m#^/x#\">\n", "<If \"%{HTTP:X-A} == 'M1' && %{REQUEST_URI} =~ m#^/x#\">\n"),
    ("apache", "Require user anna\nRequire ip 10.0.0.0/8\n", "Require user M1\nRequire ip 10.0.0.0/8\n"),
    ("xml", "<Connector port=\"80\" secret=\"abc\" x=\"abc\"/>", "<Connector port=\"80\" secret=\"S1\" x=\"M2\"/>"),
    ("xml", "<a><!-- abc\n --><param-name>k</param-name><param-value>abc</param-value></a>", "<a>\n<param-name>k</param-name><param-value>M1</param-value></a>"),
    ("xml", "<user username=\"tom\" password=\"tom\"/>", "<user username=\"S1\" password=\"S1\"/>"),
    ("yaml", "image: a/b:1\nports: [\"80:80\"]\nkey: abc\n", "image: a/b:1\nports: [\"80:80\"]\nkey: M1\n"),
    ("yaml", "a: |\n  abc def\nb: true\n", "a: |\n  M1 M2\nb: true\n"),
    ("environment", "A=abc\nDB_PASSWORD=abc\nP=/srv\nQ=$X\n", "A=M1\nDB_PASSWORD=S2\nP=/srv\nQ=$X\n"),
    ("environment", "PASSWORD=$ecret1x\n", "PASSWORD=M1\n"),
    ("script", "0 3 * * * root certbot renew --key abc\n", "0 3 * * * root certbot renew --key M1\n"),
    ("unit", "Environment=\"A=abc\"\nExecStart=/bin/x --k abc\n", "Environment=\"M1\"\nExecStart=/bin/x --k M2\n"),
    ("rules", "tcp dport 443 accept comment \"abc\" # abc\n", "tcp dport 443 accept comment \"M1\" #\n"),
)  # fmt: skip


OF = {"conf": "nginx", "xml": "xml", "yml": "yaml", "yaml": "yaml", "env": "environment", "service": "unit"}
"""The language of a planted file, by its suffix."""


def awks() -> list[list[str]]:
    """The awk programs of this machine; mawk is Debian's, busybox that of small systems."""
    found = [["mawk"], ["gawk"], ["busybox", "awk"], ["original-awk"]]
    present = [command for command in found if shutil.which(command[0])]
    missing = {"mawk", "gawk", "busybox"} - {command[0] for command in present}
    if missing:
        raise AssertionError(f"{', '.join(missing)} is needed for this test; 'make servers' as root installs it")
    return present


def by_awk(command: Sequence[str], items: Sequence[tuple[str, str]]) -> list[str]:
    """The texts of ``items`` (language, text), masked by the script's program."""
    with tempfile.TemporaryDirectory(prefix="rupex-test-") as folder:
        Path(folder, "tables").write_text(render_tables())
        work = ""
        for number, (language, text) in enumerate(items):
            Path(folder, f"{number}.in").write_text(text, "latin-1")
            work += f"{language}\t{folder}/{number}.in\t{folder}/{number}.out\n"
        done = subprocess.run(
            [*command, "-v", f"TABLES={folder}/tables", "-f", PROGRAM], input=work, text=True, capture_output=True,
            env=os.environ | {"LC_ALL": "C"}, timeout=120, check=False,
        )  # fmt: skip
        assert (done.returncode, done.stderr) == (0, ""), done.stderr
        return [Path(folder, f"{number}.out").read_bytes().decode("latin-1") for number in range(len(items))]


def renumbered(text: str) -> str:
    """``text`` with its marks numbered in the order in which they come, which is not that of their making."""
    numbers: dict[str, int] = {}
    return MARK.sub(
        lambda found: (
            f"{found[0].rpartition('-')[0]}-{numbers.setdefault(found[0].rpartition('-')[2], len(numbers) + 1)}"
        ),
        text,
    )


def shortened(text: str) -> str:
    for name, letter in (("rupex-secret-", "S"), ("rupex-factory-secret-", "F"), ("rupex-masked-", "M")):
        text = text.replace(name, letter)
    return text


class MaskingTest(unittest.TestCase):
    def test_a_value_leaves_or_becomes_a_mark(self) -> None:
        by_way = {"command": [mask(text, language, Masker()) for language, text, _ in CASES]}
        by_way |= {" ".join(awk): [by_awk(awk, [case[:2]])[0] for case in CASES] for awk in awks()}
        for way, made in by_way.items():
            for (language, text, wanted), masked in zip(CASES, made, strict=True):
                with self.subTest(text, language=language, way=way):
                    self.assertEqual(shortened(renumbered(masked)).rstrip("\n"), wanted.rstrip("\n"))

    def test_the_script_masks_what_the_command_masks(self) -> None:
        items = []
        for language, pattern in PATTERNS:
            paths = [path for path in glob.glob(pattern, recursive=True) if os.path.isfile(path)]
            self.assertTrue(paths, pattern)
            for path in paths:
                text = Path(path).read_bytes().decode("latin-1")
                if not re.search("[\x00-\x08\x0e-\x1f\x7f]", text):
                    items.append((language, text))
        self.assertGreater(len(items), 300)
        wanted = [renumbered(mask(text, language, Masker())).rstrip("\n") for language, text in items]
        for awk in awks():
            for (language, text), mine, theirs in zip(items, wanted, by_awk(awk, items), strict=True):
                with self.subTest(text[:60], language=language, awk=awk[0]):
                    self.assertEqual(renumbered(theirs).rstrip("\n"), mine)

    def test_a_line_end_behind_a_backslash_is_a_part_of_a_word(self) -> None:
        texts = (
            'a "b" \\\n"c d" e\nf g\n',
            "a\\\n\\\nb;\n",
            "a\\\\\nb c;\n",
            "a \\\n",
            "a b\\\r\nc;\n",
            "if ($a ~ b\\\nc) { }",
        )
        for awk in awks():
            for text, theirs in zip(texts, by_awk(awk, [("nginx", text) for text in texts]), strict=True):
                with self.subTest(text, awk=awk[0]):
                    mine = renumbered(mask(text, "nginx", Masker()))
                    self.assertEqual(renumbered(theirs).rstrip("\n"), mine.rstrip("\n"))

    def test_lines_stay_and_what_is_masked_once_stays_as_it_is(self) -> None:
        files, _ = planted()
        for path, text in files.items():
            for language in LANGUAGES:
                with self.subTest(path, language=language):
                    masked = mask(text, language, Masker())
                    self.assertEqual(masked.count("\n"), text.count("\n"))
                    if language == OF.get(path.rpartition(".")[2]):
                        self.assertEqual(renumbered(mask(masked, language, Masker())), renumbered(masked))

    @given(
        st.sampled_from(sorted(LANGUAGES)),
        st.text(st.sampled_from("ab1 \t\n\"'\\{}<>=:;#$%/?&@-[]()|~^,!"), max_size=120),
    )
    def test_any_text_keeps_its_lines(self, language: str, text: str) -> None:
        masked = mask(text, language, Masker())
        self.assertEqual(masked.count("\n"), text.count("\n"))

    def test_marks_say_nothing_of_a_value(self) -> None:
        """Not its length, not what it is, and not that it is another one again, but where a verdict compares the two."""
        masker = Masker()
        texts = [mask(f"fastcgi_param A {value};", "nginx", masker) for value in ("gull", "gull", "g" * 500)]
        marks = [MARK.findall(text) for text in texts]
        self.assertEqual(marks, [["rupex-masked-1"], ["rupex-masked-2"], ["rupex-masked-3"]])
        files, _ = planted()
        counts = Counter(mark for text in files.values() for mark in MARK.findall(mask(text, "environment", masker)))
        self.assertEqual(set(counts.values()), {1})

    def test_every_class_of_the_tables_is_one_that_the_code_knows(self) -> None:
        known = set(
            "all file place answer look test setting kind image name header request parts shutdown compare never assign pairs env"
            " defines key condition header-line request-line require last flags headers requests expression names".split()
        )
        for language, names, classes, _ in rows():
            with self.subTest(names):
                self.assertIn(language, USUAL_CLASS)
                if names != "names":
                    self.assertEqual({kind.rstrip("=") for kind in classes.split()} - known, set())

    def test_no_planted_word_gets_through_a_language(self) -> None:
        """Not even through that of another kind of file than the one that it stands in."""
        files, words = planted()
        self.assertGreater(len(words), 400)
        items = [(OF[path.rpartition(".")[2]], text) for path, text in files.items() if path.rpartition(".")[2] in OF]
        items = [(language, text) for language, text in items if "apache" not in text]
        for way in (None, *awks()):
            made = [mask(text, language, Masker()) for language, text in items] if way is None else by_awk(way, items)
            for (language, _), text in zip(items, made, strict=True):
                for line in text.splitlines():
                    with self.subTest(language, way=way, line=line):
                        self.assertIsNone(TRACE.search(line))


if __name__ == "__main__":
    unittest.main()
