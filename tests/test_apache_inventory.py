"""The table of httpd's directives, held against the server's own list of them."""

from __future__ import annotations

import re
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

from rupex.servers.apache.inventory import directives, known, known_modules, missing_module
from rupex.servers.apache.modules import STATIC, named_in_condition
from tests.oracle import _binary
from tests.support import InventoryRows

MODULES = Path("/usr/lib/apache2/modules")
FIRST = ("proxy", "ldap", "session", "dav", "cache", "slotmem_shm", "heartmonitor")  # others need them
APART = ("mpm_event", "mpm_worker", "mpm_prefork", "cgi", "cgid")  # not together
_ENTRY = re.compile(r"(<?)([A-Za-z]\w*)>? \((\w+\.c)\)")


class InventoryTest(InventoryRows):
    def listed(self) -> Iterator[tuple[str, str, bool, frozenset[str]]]:
        """Of each directive that the server lists: its name, its module's source file, whether it is a section, and what
        AllowOverride must include."""
        names = [path.stem.removeprefix("mod_") for path in sorted(MODULES.glob("mod_*.so"))]
        rest = [name for name in names if name not in (*FIRST, *APART, *STATIC)]
        for modules in (("mpm_event", *FIRST, *rest, "cgi"), *((mpm,) for mpm in APART[1:3]), ("mpm_event", "cgid")):
            with tempfile.TemporaryDirectory() as scratch:
                lines = [f"LoadModule {name}_module {MODULES}/mod_{name}.so\n" for name in dict.fromkeys(modules)]
                Path(scratch, "all.conf").write_text(f"ErrorLog {scratch}/log\n" + "".join(lines))
                command = [_binary("apache2"), "-d", scratch, "-f", f"{scratch}/all.conf", "-L"]
                done = subprocess.run(command, capture_output=True, text=True, check=False)
                self.assertEqual(done.returncode, 0, done.stderr)
            # A help text may go on in lines that are not indented.
            for entry in re.split(r"\n(?=<?[A-Za-z]\w*>? \(\w+\.c\))", done.stdout):
                found = _ENTRY.match(entry)
                if found is not None:
                    said = re.search(r"^\twhen AllowOverride includes (.*)", entry, re.MULTILINE)
                    is_override = re.search(r"^\tAllowed in .*\.htaccess", entry, re.MULTILINE)
                    groups = said[1].lower().split(" or ") if said else ["any"] if is_override else []
                    yield found[2].lower(), found[3], found[1] == "<", frozenset(groups)

    def test_the_table_has_what_the_server_lists(self) -> None:
        listed = list(self.listed())
        self.assertGreater(len(listed), 700)
        of_sections = {name for name, _, is_section, _ in listed if is_section}  # a few are both
        for name, file, _, override in listed:
            with self.subTest(name, file=file):
                ours = known(name)
                assert ours is not None, "the table lacks it"
                self.assertIn(named_in_condition(file), ours.modules)
                self.assertEqual((ours.is_section, ours.override), (name in of_sections, override))

    def test_every_row_says_what_it_is_about(self) -> None:
        self.assert_rows_say_what_they_are_about(directives())

    def test_a_directive_needs_one_of_its_modules(self) -> None:
        self.assertEqual(missing_module("header", STATIC), "headers")
        self.assertIsNone(missing_module("header", {*STATIC, "headers"}))
        self.assertIsNone(missing_module("scriptlog", {*STATIC, "cgid"}))
        self.assertIsNone(missing_module("maxrequestworkers", STATIC), "what runs the processes may be built in")
        self.assertIsNone(missing_module("unknownword", STATIC))
        self.assertIn("authz_host", known_modules())
