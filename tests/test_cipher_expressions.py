"""The cipher list language of OpenSSL, held against the library itself."""

from __future__ import annotations

import random
import subprocess
import unittest
from itertools import pairwise
from pathlib import Path

from rupex.tls.openssl import _ALIASES, Library, expand
from rupex.tls.suites import all_suites
from tests.oracle import openssl_version

GENERATED = 400
FIXTURE = Path(__file__).parent / "openssl_1_0_2.tsv"
USUAL = (
    "DEFAULT",
    "HIGH:!aNULL:!MD5",
    "ALL:eNULL",
    "ALL:@STRENGTH",
    "EECDH+AESGCM:EECDH+CHACHA20",
    "EECDH+AESGCM:EDH+AESGCM:AES256+EECDH",
    "HIGH:-RSA:+AES128",
    "ALL:!aNULL:!ADH:!eNULL:!LOW:!EXP:RC4+RSA:+HIGH:+MEDIUM",
    "ECDHE-RSA-AES128-GCM-SHA256:DHE+AESGCM:RSA+AES:!aNULL:!MD5:!DSS",
)


def library_says(expression: str) -> list[str]:
    # A word that names nothing stands first, so that none that starts with a minus is taken for an option.
    done = subprocess.run(["openssl", "ciphers", f"NOTHING:{expression}"], capture_output=True, text=True)
    return [name for name in done.stdout.strip().split(":") if name and not name.startswith("TLS_")]


def generated(seed: int) -> list[str]:
    chance = random.Random(seed)
    words = [*_ALIASES, *(s.openssl for s in all_suites() if s.openssl and s.version not in ("TLSv1.3", "SSLv2"))]
    found = []
    for _ in range(GENERATED):
        parts = [
            chance.choice(["", "", "", "+", "-", "!"]) + "+".join(chance.choices(words, k=chance.choice([1, 1, 2])))
            for _ in range(chance.randint(1, 6))
        ]
        if chance.random() < 0.2:
            parts.append("@STRENGTH")
        if chance.random() < 0.3:
            parts.insert(0, chance.choice(["ALL", "DEFAULT", "HIGH", "ALL:eNULL"]))
        found.append(_joined(parts, chance))
    return found


def _joined(parts: list[str], chance: random.Random) -> str:
    """Items with colons between them, which some leave out before an exclamation mark or an at sign. (Not behind ``A+B``:
    where A and B exclude each other, the library passes over what follows, and Rupex does not.)"""
    text = parts[0]
    for before, part in pairwise(parts):
        text += part if part[0] in "!@" and "+" not in before[1:] and chance.random() < 0.3 else f":{part}"
    return text


class AgainstTheLibraryTest(unittest.TestCase):
    def test_sets_and_order_are_the_librarys(self) -> None:
        library = Library(tuple(map(int, openssl_version().split("."))))
        known = set(library_says("ALL:COMPLEMENTOFALL"))
        self.assertGreater(len(known), 100)
        for expression in (*USUAL, *(f"{name}" for name in _ALIASES), *generated(20261124)):
            with self.subTest(expression):
                ours = [suite.openssl for suite in expand(f"NOTHING:{expression}", library).suites]
                self.assertEqual([name for name in ours if name in known], library_says(expression))


class AgainstAnOldLibraryTest(unittest.TestCase):
    def test_sets_and_order_are_those_of_1_0_2(self) -> None:
        rows = [row.split("\t") for row in FIXTURE.read_text().splitlines() if not row.startswith("#")]
        self.assertGreater(len(rows), 150)
        known = {int(code, 16) for _, codes in rows for code in codes.split()}
        self.assertGreater(len(known), 90)
        for expression, codes in rows:
            with self.subTest(expression):
                ours = [s.code for s in expand(expression, Library((1, 0, 2))).suites]
                self.assertEqual([c for c in ours if c in known], [int(code, 16) for code in codes.split()])


class WordsTest(unittest.TestCase):
    def test_levels_and_unknown_words_are_told(self) -> None:
        selection = expand("HIGH:NOSUCH:@SECLEVEL=0", Library((3, 0, 0)))
        self.assertEqual(selection.security_level, 0)
        self.assertEqual(selection.unknown_words, ("NOSUCH",))

    def test_suites_that_new_libraries_lost_are_still_known_for_old_ones(self) -> None:
        old = {suite.openssl for suite in expand("ALL", Library((1, 0, 2))).suites}
        self.assertLessEqual({"RC4-SHA", "EXP-RC4-MD5", "DES-CBC3-SHA"}, old)


class RegistryTest(unittest.TestCase):
    def test_what_a_suite_is_made_of_is_read_from_its_name(self) -> None:
        by_code = {suite.code: suite for suite in all_suites()}
        for code, facts in (  # IANA "TLS Cipher Suites"; RFC 5246 A.5 and C, RFC 5289, RFC 6655, RFC 8446 B.4
            (0x0005, ("RSA", "RSA", "RC4_128", 128, None, "SHA", False)),
            (0x0008, ("RSA", "RSA", "DES40_CBC", 40, 64, "SHA", False)),
            (0x000A, ("RSA", "RSA", "3DES_EDE_CBC", 168, 64, "SHA", False)),
            (0x0034, ("DHE", "anon", "AES_128_CBC", 128, 128, "SHA", True)),
            (0xC02F, ("ECDHE", "RSA", "AES_128_GCM", 128, 128, "AEAD", True)),
            (0xC0A0, ("RSA", "RSA", "AES_128_CCM_8", 128, 128, "AEAD", False)),
            (0xCCA8, ("ECDHE", "RSA", "CHACHA20_POLY1305", 256, None, "AEAD", True)),
            (0x1301, (None, None, "AES_128_GCM", 128, 128, "AEAD", True)),
            (0x003B, ("RSA", "RSA", "NULL", 0, None, "SHA256", False)),
        ):
            s = by_code[code]
            with self.subTest(s.name):
                made_of = (
                    s.key_exchange,
                    s.authentication,
                    s.encryption,
                    s.bits,
                    s.block_bits,
                    s.mac,
                    s.forward_secrecy,
                )
                self.assertEqual(made_of, facts)

    def test_codes_and_names_are_unique(self) -> None:
        self.assertEqual(len({s.code for s in all_suites()}), len(all_suites()))
        self.assertEqual(len({s.name for s in all_suites()}), len(all_suites()))
        self.assertGreater(len(all_suites()), 400)


if __name__ == "__main__":
    unittest.main()
