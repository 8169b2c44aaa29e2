"""Who can read a file: what is predicted from modes, groups, folders and access lists, held against the kernel's own answer."""

from __future__ import annotations

import os
import random
import struct
import tarfile
import unittest
from pathlib import Path

from rupex.host import open_tree
from rupex.host.rights.access import decode_access_list, parse_access_list
from tests.support import TreeTest

ACCOUNTS = {"anna": (61001, 61001), "bo": (61002, 61002), "web": (61003, 61003), "guest": (61004, 61004)}
GROUPS = {"anna": 61001, "bo": 61002, "web": 61003, "guest": 61004, "keys": 61010}
MEMBERS = {"anna": (), "bo": (61010,), "web": (61010,), "guest": ()}
TAGS = {"user::": 0x01, "user": 0x02, "group::": 0x04, "group": 0x08, "mask": 0x10, "other": 0x20}
NOBODY = 0xFFFFFFFF


def packed(entries: list[tuple[str, int, int]]) -> bytes:
    return struct.pack("<I", 2) + b"".join(
        struct.pack("<HHI", TAGS[tag], bits, number) for tag, bits, number in entries
    )


def can_read(path: Path, name: str) -> bool:
    """Whether the kernel lets the account ``name`` open the file."""
    child = os.fork()
    if child == 0:
        uid, gid = ACCOUNTS[name]
        os.setgroups(MEMBERS[name])
        os.setgid(gid)
        os.setuid(uid)
        try:
            os.close(os.open(path, os.O_RDONLY))
        except PermissionError:
            os._exit(1)
        os._exit(0)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0


@unittest.skipUnless(os.geteuid() == 0, "only root can become other accounts")
class AccessAgainstKernelTest(TreeTest):
    def test_whoever_is_named_can_open_it_and_nobody_else(self) -> None:
        self.root.parent.chmod(0o755)
        self.root.chmod(0o755)
        passwd = "root:x:0:0::/:\n" + "".join(f"{n}:x:{u}:{g}::/:\n" for n, (u, g) in ACCOUNTS.items())
        group = "root:x:0:\nkeys:x:61010:bo,web\n" + "".join(f"{n}:x:{g}:\n" for n, g in GROUPS.items() if n != "keys")
        self.write({"etc/passwd": passwd, "etc/group": group, "srv/keys/site.key": "x"})
        folder, file = self.root / "srv/keys", self.root / "srv/keys/site.key"
        (self.root / "srv").chmod(0o755)
        chance = random.Random(20261126)
        for _ in range(150):
            listed = []
            for path in (folder, file):
                owner, owning = chance.choice((0, 61001)), chance.choice((0, 61010, 61002))
                os.chown(path, owner, owning)
                if "system.posix_acl_access" in os.listxattr(path):
                    os.removexattr(path, "system.posix_acl_access")
                path.chmod(chance.choice((0o700, 0o750, 0o755, 0o711, 0o640, 0o600, 0o644, 0o070, 0o040, 0o004, 0o704)))
                if chance.random() < 0.5:
                    bits = [chance.randrange(8) for _ in range(6)]
                    entries = [("user::", bits[0], NOBODY), ("user", bits[1], chance.choice((61002, 61003)))]
                    entries += [("group::", bits[2], NOBODY), ("group", bits[3], 61010)]
                    entries += [("mask", bits[4], NOBODY), ("other", bits[5] & 4, NOBODY)]
                    os.setxattr(path, "system.posix_acl_access", packed(entries))
                    listed.append((path.name, entries))
            readers = open_tree(self.root).tree.file_facts("srv/keys/site.key", "key").readers.value
            assert readers is not None
            with self.subTest(modes=[oct(path.stat().st_mode) for path in (folder, file)], lists=listed):
                able = {name for name in ACCOUNTS if can_read(file, name)}
                if readers.everyone:  # an owner or a group may still be shut out of what strangers read
                    self.assertIn("guest", able)
                else:
                    self.assertEqual(set(readers.accounts), able)


class AccessListFormsTest(TreeTest):
    def test_the_forms_of_one_list_say_the_same(self) -> None:
        names = {61003: "web", 61010: "keys"}
        entries = [
            ("user::", 6, NOBODY),
            ("user", 4, 61003),
            ("group::", 0, NOBODY),
            ("group", 5, 61010),
            ("mask", 4, NOBODY),
        ]
        binary = decode_access_list(packed(entries), names.__getitem__, names.__getitem__)
        text = parse_access_list("user::rw-,user:web:r--:61003,group::---,group:keys:r-x,mask::r--,other::---")
        self.assertIsNotNone(text)
        self.assertEqual(binary, text)
        for bad in (b"", b"\x02\x00\x00\x00", b"\x01" * 12, packed(entries)[:-1]):
            self.assertIsNone(decode_access_list(bad, str, str))

    def test_an_archive_keeps_its_lists(self) -> None:
        self.write({"etc/passwd": "root:x:0:0::/:\nweb:x:33:33::/:\n", "etc/group": "root:x:0:\n", "etc/site.key": "x"})
        with tarfile.open(self.root / "host.tar", "w", format=tarfile.PAX_FORMAT) as archive:
            for name in ("etc/passwd", "etc/group", "etc/site.key"):
                member = archive.gettarinfo(self.root / name, name)
                member.uid = member.gid = 0
                member.uname = member.gname = "root"
                member.mode = 0o640
                if name.endswith("key"):
                    listed = "user::rw-,user:web:r--,group::---,mask::r--,other::---"
                    member.pax_headers = {"SCHILY.acl.access": listed}
                with open(self.root / name, "rb") as file:
                    archive.addfile(member, file)
        readers = open_tree(self.root / "host.tar").tree.file_facts("etc/site.key", "key").readers.value
        assert readers is not None
        self.assertEqual((readers.everyone, readers.accounts), (False, ("web",)))
        self.assertIn("access list", readers.because)
