"""The table of nginx's directives, held against the tables that the servers and their modules carry; and what a directive that is
not modelled makes unknown."""

from __future__ import annotations

import re
import runpy
import struct
import unittest
from collections.abc import Iterator
from pathlib import Path

from elftools.elf.elffile import ELFFile
from elftools.elf.relocation import RelocationSection

from rupex.servers.common.inventory import EFFECTS
from rupex.servers.contract import Answer, Request
from rupex.servers.nginx.inventory import directives, known
from tests.oracle import _binary, newest_nginx
from tests.support import InventoryRows, TreeTest

ROOT = Path(__file__).parent.parent
MODULES = Path("/usr/lib/nginx/modules")
_BLOCK_OF = {"ngx_stream": "stream", "ngx_mail": "mail", "ngx_rtmp": "rtmp"}
_FROM_MANUALS = frozenset(("otel", "acme", "http3", "vhost_traffic_status", "commercial"))
_LEAST_CONTEXT = 0x01000000
"""The lowest bit that says where a directive may stand (NGX_MAIN_CONF)."""


def commands(path: Path) -> Iterator[str]:
    """The directives in the tables of ``ngx_command_t`` of a program or module: a length, a name, where it may stand, and the
    function that reads it."""
    with path.open("rb") as file:
        elf = ELFFile(file)
        parts = [part for part in elf.iter_segments() if part["p_type"] == "PT_LOAD"]
        loaded = [(part["p_vaddr"], part.data()) for part in parts]
        code = [range(part["p_vaddr"], part["p_vaddr"] + part["p_memsz"]) for part in parts if part["p_flags"] & 1]
        moved = {
            entry["r_offset"]: entry["r_addend"]
            for section in elf.iter_sections()
            if isinstance(section, RelocationSection)
            for entry in section.iter_relocations()
        }
        for section in elf.iter_sections():
            if not section.name.startswith(".data"):
                continue
            start, data = section["sh_addr"], section.data()
            for at in range(0, len(data) - 32, 8):
                length, name, contexts, reader = struct.unpack_from("<4Q", data, at)
                if elf["e_type"] == "ET_DYN":
                    name, reader = moved.get(start + at + 8, 0), moved.get(start + at + 24, -1)
                is_of_loader = elf["e_type"] == "ET_DYN" and reader == 0  # of the program that loads the module
                is_function = is_of_loader or any(reader in part for part in code)
                if not (1 <= length <= 80 and name and _LEAST_CONTEXT <= contexts < 1 << 32 and is_function):
                    continue
                base, held = next(
                    ((base, held) for base, held in loaded if base <= name < base + len(held)), (name, b"")
                )
                text = held[name - base : name - base + length + 1]
                if re.fullmatch(rb"[A-Za-z_]\w*\0", text):
                    yield text[:-1].decode()


class InventoryTest(InventoryRows):
    def test_the_table_has_what_the_servers_and_modules_have(self) -> None:
        programs = {Path(_binary("nginx")): ("main", "http"), Path(newest_nginx()): ("main", "http", "stream")}
        modules = sorted(MODULES.glob("*.so"))
        self.assertGreaterEqual(len(modules), 28, "make servers as root installs those that Debian packages")
        for path in modules:
            where = next((block for start, block in _BLOCK_OF.items() if path.name.startswith(start)), "http")
            programs[path] = (where, "main")
        held: set[str] = set()
        for path, blocks in programs.items():
            found = set(commands(path))
            self.assertTrue(found, path.name)
            held |= found
            for name in sorted(found):
                with self.subTest(name, program=path.name):
                    self.assertTrue(any((block, name) in directives() for block in blocks), "the table lacks it")
        self.assertGreater(len(held), 1100)
        for (_, name), ours in directives().items():
            with self.subTest(name):
                self.assertTrue(name in held or _FROM_MANUALS.issuperset(ours.modules), "no program has it")

    def test_the_page_of_the_family_prints_it(self) -> None:
        tool = runpy.run_path(str(ROOT / "tools/families_doc.py"))
        for page, table in tool["PAGES"].items():
            self.assertEqual(
                page.read_text(), tool["render"](page.read_text(), table), "run: python tools/families_doc.py"
            )

    def test_every_row_says_what_it_is_about(self) -> None:
        self.assert_rows_say_what_they_are_about(directives())

    def test_a_word_that_no_module_has_may_change_anything(self) -> None:
        self.assertEqual(known("pier_lights").effects, EFFECTS)


class UnmodelledTest(TreeTest):
    """A site with a directive that is not modelled: exactly what that can change is unknown."""

    def site(self, text: str) -> None:
        self.write(
            {"srv/site/page.html": "pier\n", "srv/site/packed.css.gz": "pier\n", "srv/site/folder/a.txt": "pier\n"}
        )
        server = f"listen 443 ssl; server_name a.test; root /srv/site; {text}"
        self.write_nginx(f"ssl_certificate a.pem; ssl_certificate_key a.key; server {{ {server} }}")

    def answer(self, text: str, path: str = "/page.html", method: str = "GET") -> Answer:
        self.site(text)
        request = Request(method=method, scheme="https", name="a.test", port=443, path=path, source="192.0.2.1")
        answer = self.gather(nginx="1.22.1").configurations[0].answer(request)
        assert answer is not None
        return answer

    def verdict(self, text: str, control: str) -> str:
        self.site(text)
        return self.check(control, nginx="1.22.1").verdict

    def test_a_program_that_decides(self) -> None:
        for text in (
            "js_content pier.main;",
            "content_by_lua_block { ngx.exit(403) }",
            "access_by_lua_file a.lua;",
            "pier_lights on;",
        ):
            found = self.answer(f"location / {{ {text} }}")
            self.assertIn(text.split()[0], found.unknown or "", text)
            self.assertEqual(self.verdict(f"location / {{ {text} }}", "header.framing"), "unknown", text)

    def test_what_is_switched_off_changes_nothing(self) -> None:
        self.assertEqual(self.answer("random_index on; location /page { random_index off; }").status, 200)
        self.assertEqual(self.answer("js_import a.js; gzip on; limit_rate 4k;").status, 200)

    def test_a_return_comes_before_a_program_for_content_and_after_unknown_words(self) -> None:
        self.assertEqual(self.answer("location / { return 404; js_content pier.main; }").status, 404)
        self.assertIsNone(self.answer("location / { return 404; pier_lights on; }").status)
        self.assertIsNone(self.answer("server_rewrite_by_lua_file a.lua; location / { return 404; }").status)

    def test_who_is_let_in(self) -> None:
        text = 'auth_pam "Bridge"; stub_status;'
        self.assertIn("auth_pam", self.answer(f"location / {{ {text} }}").unknown or "")
        self.assertEqual(self.answer(f"location / {{ {text} deny all; }}").status, 403)
        self.assertEqual(self.verdict(f"location / {{ {text} }}", "exposure.status-page"), "unknown")
        self.assertEqual(self.verdict("location / { stub_status; }", "exposure.status-page"), "fail")

    def test_methods(self) -> None:
        text = "location / { dav_methods PUT DELETE; }"
        self.assertEqual(self.answer(text).status, 200)
        self.assertIn("dav_methods", self.answer(text, method="PUT").unknown or "")

    def test_headers(self) -> None:
        text = "add_header X-Frame-Options DENY; add_header X-Deck 2; location / { js_header_filter pier.headers; }"
        found = self.answer(text)
        self.assertEqual([name for name, _ in found.headers], ["X-Deck"])
        self.assertIn("X-Frame-Options", [header.name for header in found.uncertain])
        for control in ("header.framing", "header.sniffing"):
            self.assertEqual(self.verdict(text, control), "unknown")

    def test_variables(self) -> None:
        text = "set $deck 2; set_md5 $deck $uri; add_header X-Deck $deck;"
        self.assertEqual([header.name for header in self.answer(text).uncertain], ["X-Deck"])
        again = f"{text} set $deck 3;"
        self.assertIn(("X-Deck", "3"), self.answer(again).headers)
        asked = "set $deck 2; add_header X-Deck $deck; auth_request /who; satisfy any; allow all;"
        self.assertIn(("X-Deck", "2"), self.answer(asked).headers)
        said = self.answer(f"{asked} auth_request_set $deck $upstream_http_x_deck;")
        self.assertEqual([header.name for header in said.uncertain], ["X-Deck"])

    def test_files(self) -> None:
        self.assertIn("random_index", self.answer("random_index on;", "/folder/").unknown or "")
        self.assertIn("gzip_static", self.answer("gzip_static on;", "/packed.css").unknown or "")
        self.assertEqual(self.answer("gzip_static on;", "/none.css").status, 404)
        self.assertEqual(self.answer("", "/packed.css").status, 404)

    def test_tables_that_cannot_be_read(self) -> None:
        tables = (
            "split_clients $arg_x $v { abc% one; }",
            "split_clients $arg_x $v { inf one; }",
            "split_clients $arg_x $v { 1e999% a; * b; }",
            "geo $v { ranges; 192.0.2.9-192.0.2.1 x; 192.0.2.1-::1 y; }",
            "geo $v { pier x; }",
            "geo $v { proxy 192.0.2.0/24; default x; }",
        )
        for table in tables:
            site = "listen 443 ssl; server_name a.test; add_header X-V a$v; return 200;"
            self.write_nginx(f"{table} server {{ {site} }}")
            request = Request(scheme="https", name="a.test", port=443, path="/", source="192.0.2.5")
            answer = self.gather(nginx="1.22.1").configurations[0].answer(request)
            assert answer is not None
            with self.subTest(table):
                self.assertEqual([header.name for header in answer.uncertain], ["X-V"])

    def test_outside_of_http(self) -> None:
        stream = "stream { server { listen 81; js_preread a.b; proxy_pass b.test:1; } }"
        self.write(
            {"etc/nginx/nginx.conf": f"events {{}} rtmp {{ server {{ }} }}\npier_lights on;\n{stream}\nhttp {{ }}"}
        )
        problems = self.gather(nginx="1.22.1").host.problems
        found = {problem.line: (problem.message, problem.hides_endpoints) for problem in problems}
        self.assertIn("RTMP", found[1][0])
        self.assertEqual(found[2], ("pier_lights is no directive that Rupex knows", False))
        self.assertEqual(found[3], ("js_preread is not modelled, and may decide where connections go", True))

    def test_tls(self) -> None:
        secured = "ssl_certificate_by_lua_block { ngx.exit(1) }"
        for more, is_known in (("", True), (secured, False)):
            self.site(more)
            endpoint = next(e for e in self.gather(nginx="1.22.1").host.endpoints if e.tls is not None)
            assert endpoint.tls is not None
            self.assertEqual(endpoint.tls.protocols.is_known, is_known)
            self.assertEqual([use.certificate is not None for use in endpoint.tls.certificates], [is_known])


if __name__ == "__main__":
    unittest.main()
