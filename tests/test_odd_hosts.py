"""Hosts of which one file is odd, broken or hostile: a problem of that file or nothing at all, and the rest is judged. What is
known to be odd stands in tables; the rest is made up at random, from a fixed seed."""

from __future__ import annotations

import contextlib
import gzip
import io
import os
import random
import tarfile
import tempfile
import unittest
from pathlib import Path
from typing import Final
from unittest import mock

from rupex.audit.assess import assess, gather
from rupex.baseline import load_baseline
from rupex.demo.scenario import build_scenario
from rupex.documents.encoding import encode_json
from rupex.host import open_tree
from rupex.model import Host, RupexError, bounds
from tests.support import NOW, TreeTest, rupex, valid_document

SITE: Final = "server { listen 80; server_name a.test; root /srv; return 301 https://$host$request_uri; }"
LONG: Final = "9" * 5000
PIECES: Final = (
    b"\0", b"\xff\xfe", b'"', b"'", b"{", b"}", b"\\", b"\n", b"${a}", b"%{a}", b"<", b">", b"9" * 5000, "\u0663".encode(),
    "\u2028".encode(), b"-1", b"0", b"*", b"[", b"(", b"/..", b"/" * 300, b" " * 1000, b"\r", b";", b"#", b"~", b"=", b":", b",",
    b"<!--", b"<![CDATA[", b"include *;", b"Include *", b"return 301;", b"1e999", b"@SECLEVEL=9", b"[::]:443", b"unix:/a",
    b"1.1.1.1/99",
)  # fmt: skip
NAMES: Final = (
    b"\xff\xfe", b"a\nb", b"x" * 240, b"-rf", b"$(id)", b"\x1b[31m", b"*", b"[a", b"a b", b"\xe2\x80\xae", b"..a", b"%00", b'"',
    b"\\", b"a\tb", b"\xed\xa0\x80",
)  # fmt: skip
ENDINGS: Final = (b"", b".conf", b".key", b".pem", b".env", b".htaccess", b".yml")


def judged(path: Path) -> Host:
    """The host, its document written: what is wrong with it must not keep the rest from being told."""
    host = gather(open_tree(path).tree, "", name="host").host
    encode_json(assess(host, load_baseline("public-web"), NOW, keep_all=True))
    return host


class OddFilesTest(TreeTest):
    def test_one_odd_file_leaves_the_rest(self) -> None:
        status = "Package: {}\nStatus: install ok installed\nVersion: {}\n\n"
        for path, text in {
            "etc/passwd": f"root:x:0:0::/:/bin/sh\nodd:x:{LONG}:0::/:\nodd:x:\u0663:\u00b2::/:\n:::\nx:x:-1:-1:::\n",
            "etc/group": f"www-data:x:{LONG}:\nwww-data:x:33:,,root,\n::::::\n",
            "var/lib/dpkg/status": status.format("libssl3", f"{LONG}.0.0-1") + status.format("nginx", f"9:{LONG}.{LONG}~"),
            "var/lib/rpm/rpmdb.sqlite": "no database",
            "etc/ssl/openssl.cnf": ".include =\n[[\n= =\n" + "\\\n" * 500,
            "etc/debian_version": "\0" * 4000,
            "proc/net/tcp": f"head\n 0: 0100007F:{'F' * 5000} 0:0 0A 0 0\n 1: x:y z\n",
            "etc/nftables.conf": "table inet f {" * 400,
            "etc/crontab": f"{LONG} * * * * root certbot renew\n* * * * *\n",
            "etc/systemd/system/certbot.timer": f"[Timer]\nOnCalendar={LONG}-*-* ::\nOnUnitActiveSec={LONG}y\n",
            "manifest.mtree": f"#mtree\n./srv mode={LONG} uid={LONG} time={LONG}.1\n./etc/nginx/nginx.conf size=\u0663\n",
            "srv/app/compose.yml": "a: &a [*a, *a]\n" + "- " * 5000,
        }.items():  # fmt: skip
            with self.subTest(path):
                self.setUp()
                self.write_nginx(SITE)
                self.write({path: text})
                host = judged(self.root)
                self.assertEqual([endpoint.names for endpoint in host.endpoints], [("a.test",)])
                done = rupex("audit", self.root, "--format", "json")
                self.assertIn(done.returncode, (0, 3), done.stderr)
                self.assertEqual(len(valid_document(done.stdout)["hosts"][0]["endpoints"]), 1)

    def test_a_manifest_is_a_file_of_the_tree(self) -> None:
        outside = self.root.parent / "outside"
        outside.write_text("#mtree\n./etc/nginx/nginx.conf mode=0777\n")
        for target in (str(outside), "../outside", "/proc/kmsg", "/dev/zero"):
            with self.subTest(target):
                self.setUp()
                self.write_nginx(SITE)
                (self.root / "manifest.mtree").symlink_to(target)
                facts = {file.path: file.mode.value for file in judged(self.root).files}
                self.assertNotEqual(facts["etc/nginx/nginx.conf"], 0o777)

    def test_names_that_no_file_can_have(self) -> None:
        deep = "/".join(["d"] * 2000)
        archive = self.root / "host.tar"
        with tarfile.open(archive, "w") as made:
            for name in ("etc/nginx/nginx.conf", "srv/" + "k" * 300 + ".key", f"srv/{deep}/f", "srv/\udcff\udcfe.env"):
                member = tarfile.TarInfo(name)
                content = f"http {{ {SITE} }}".encode() if name.startswith("etc") else b"password=ebb-and-flood\n"
                member.size = len(content)
                made.addfile(member, io.BytesIO(content))
        host = judged(archive)
        self.assertEqual(
            [(problem.kind, (problem.file or "")[:8]) for problem in host.problems], [("bound", "srv/kkkk")]
        )
        self.assertEqual(len(host.endpoints), 1)
        with mock.patch.object(bounds, "ARCHIVE_NAMES", 1000):
            self.assertIn("folder paths", " ".join(problem.message for problem in open_tree(archive).tree.problems))

    def test_an_archive_whose_headers_refer_to_themselves(self) -> None:
        made = io.BytesIO()
        with tarfile.open(fileobj=made, mode="w") as archive:
            member = tarfile.TarInfo("etc/nginx/nginx.conf")
            content = f"http {{ {SITE} }}".encode()
            member.size = len(content)
            archive.addfile(member, io.BytesIO(content))
        for kind in (tarfile.XHDTYPE, tarfile.XGLTYPE, tarfile.GNUTYPE_LONGNAME, tarfile.GNUTYPE_LONGLINK):
            header = tarfile.TarInfo("h")
            header.type, header.size = kind, 0
            block = header.tobuf(tarfile.USTAR_FORMAT)
            path = self.root / "host.tar"
            path.write_bytes(made.getvalue()[:1024] + block * 5000 + made.getvalue()[:1024] + bytes(1024))
            with self.subTest(kind):
                host = judged(path)
                self.assertEqual([endpoint.names for endpoint in host.endpoints], [("a.test",)])
                self.assertLessEqual({problem.kind for problem in host.problems}, {"syntax"})

    def test_an_archive_that_announces_more_than_anybody_has(self) -> None:
        header = bytearray(tarfile.TarInfo("etc/nginx/nginx.conf").tobuf(tarfile.USTAR_FORMAT))
        header[124:136] = b"\x80" + b"\xff" * 11  # the size, as GNU tar writes large ones
        header[148:156] = b" " * 8
        header[148:156] = b"%06o\0 " % sum(header)
        path = self.root / "host.tar"
        path.write_bytes(tarfile.TarInfo("etc/hostname").tobuf() + header + bytes(1024))
        self.assertIn("broken", open_tree(path).tree.problems[0].message)


class RandomTest(unittest.TestCase):
    folder: Path
    hosts: list[Path]

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        build_scenario(self.folder / "demo")
        found = sorted(path.parent for path in (self.folder / "demo").rglob("etc") if path.is_dir())
        self.hosts = [path for path in found if (path / "etc").is_dir()]
        self.random = random.Random(16)

    def altered(self, content: bytes) -> bytes:
        choose = self.random
        for _ in range(choose.choice((1, 1, 2, 4, 10))):
            at = choose.randrange(len(content) + 1)
            lines = content.split(b"\n")
            match choose.randrange(6):
                case 0:
                    content = content[:at] + choose.choice(PIECES) + content[at:]
                case 1:
                    content = content[:at] + choose.choice(PIECES) + content[at + 1 :]
                case 2:
                    content = content[:at] + content[at + choose.choice((1, 5, 50)) :]
                case 3:
                    content = content[:at]
                case 4:
                    lines.insert(choose.randrange(len(lines) + 1), choose.choice(lines))
                    content = b"\n".join(lines)
                case _:
                    words = content.split(b" ")
                    words[choose.randrange(len(words))] = choose.choice(words)
                    content = b" ".join(words)
        return content

    def test_altered_files(self) -> None:
        for number in range(120):
            host = self.random.choice(self.hosts)
            files = [path for path in sorted(host.rglob("*")) if path.is_file() and not path.is_symlink()]
            chosen = {path: path.read_bytes() for path in self.random.sample(files, self.random.choice((1, 1, 2, 5)))}
            for path, content in chosen.items():
                path.write_bytes(self.altered(content))
            with self.subTest(number=number, files=[str(path.relative_to(host)) for path in chosen]):
                judged(host)
            for path, content in chosen.items():
                path.write_bytes(content)

    def test_names_of_every_kind(self) -> None:
        for number in range(60):
            host = self.random.choice(self.hosts)
            folders = [path for path in sorted(host.rglob("*")) if path.is_dir()]
            made: list[bytes] = []
            for _ in range(4):
                name = self.random.choice(NAMES) + self.random.choice(ENDINGS)
                path = os.path.join(os.fsencode(self.random.choice(folders)), name)
                with contextlib.suppress(FileExistsError):
                    match self.random.randrange(4):
                        case 0:
                            os.mkdir(path)
                        case 1:
                            os.symlink(self.random.choice((b"/", b".", b"\xff", path, b"../../../../etc/passwd")), path)
                        case 2:
                            os.mkfifo(path)
                        case _:
                            Path(os.fsdecode(path)).write_text(f"{SITE}\npassword=ebb-and-flood\n")
                    made.append(path)
            with self.subTest(number=number, names=made):
                judged(host)
            for path in made:
                os.rmdir(path) if os.path.isdir(path) and not os.path.islink(path) else os.unlink(path)

    def test_altered_archives(self) -> None:
        plain = {host: self.packed(host) for host in self.hosts}
        kinds = (b"L", b"K", b"x", b"g", b"1", b"2", b"3", b"S", b"5", b"7", b"\xff")
        sizes = (b"77777777777\0", b"00000000010\0", b"\x80" + b"\xff" * 11, b"-0000000001\0")
        for number in range(80):
            content = bytearray(plain[self.random.choice(self.hosts)])
            for _ in range(self.random.choice((1, 3, 10, 50))):
                content[self.random.randrange(len(content))] = self.random.randrange(256)
            at = self.random.randrange(len(content) // 512) * 512
            if content[at + 257 : at + 262] == b"ustar":
                content[at + 156 : at + 157] = self.random.choice(kinds)
                content[at + 124 : at + 136] = self.random.choice(sizes)
                content[at + 148 : at + 156] = b" " * 8
                content[at + 148 : at + 156] = b"%06o\0 " % sum(content[at : at + 512])
            if self.random.random() < 0.3:
                del content[self.random.randrange(len(content)) :]
            path = self.folder / f"altered{number}.tar"
            if self.random.random() < 0.4:
                content = bytearray(gzip.compress(content, 1))
                content[self.random.randrange(len(content))] = self.random.randrange(256)
                path = path.with_suffix(".tar.gz")
            path.write_bytes(content)
            with self.subTest(number=number), contextlib.suppress(RupexError):
                judged(path)

    @staticmethod
    def packed(host: Path) -> bytes:
        made = io.BytesIO()
        with tarfile.open(fileobj=made, mode="w", format=tarfile.PAX_FORMAT) as archive:
            archive.add(host, arcname=".")
        return made.getvalue()


if __name__ == "__main__":
    unittest.main()
