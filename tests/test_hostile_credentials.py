"""Certificates, keys and key stores that somebody made to be expensive, broken or odd."""

from __future__ import annotations

import contextlib
import subprocess
import time
import unittest
import warnings
from base64 import encodebytes
from datetime import timedelta
from functools import cache
from unittest import mock

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, pkcs12
from hypothesis import given, settings
from hypothesis import strategies as st

from rupex.demo.mint import Authority, new_key
from rupex.model import bounds
from rupex.parallel import apart
from rupex.pki.certificates import CredentialError, der_forms, parse_certificates
from rupex.pki.clients import read_client_certificate, why_not_taken
from rupex.pki.der import INTEGER, OBJECT, SEQUENCE, element, elements
from rupex.pki.derivation import rounds_in
from rupex.pki.keys import parse_private_key
from rupex.pki.keystores import open_keystore
from tests.clients import client_credentials
from tests.support import NOW, TreeTest, rupex

PASSWORD = "changeit"
KEY = new_key("RSA")
WAYS = {
    "PBES2": (pkcs12.PBES.PBESv2SHA256AndAES256CBC, hashes.SHA256()),
    "PBES1": (pkcs12.PBES.PBESv1SHA1And3KeyTripleDESCBC, hashes.SHA1()),
}


class AlteredClientCertificateTest(unittest.TestCase):
    @settings(max_examples=300, deadline=None)
    @given(st.lists(st.tuples(st.integers(0, 2000), st.integers(0, 255)), min_size=1, max_size=6), st.booleans())
    def test_it_is_read_or_refused(self, changes: list[tuple[int, int]], is_cut: bool) -> None:
        """Whatever is in it: an error of ours, or a certificate and why it is not taken."""
        trusted, content = der_forms((client_credentials() / "clients.pem").read_bytes()), bytearray(certificate())
        for place, octet in changes:
            content[place % len(content)] = octet
        if is_cut:
            del content[changes[0][0] % len(content) :]
        with warnings.catch_warnings(action="error"):
            with contextlib.suppress(CredentialError):
                read_client_certificate(bytes(content))
            self.assertIsNotNone(why_not_taken([bytes(content)], trusted, 1))
            why_not_taken([certificate()], [bytes(content)], 1)


@cache
def certificate() -> bytes:
    issued = Authority("Ternholm Test CA", NOW).issue(["a.test"], KEY, NOW, NOW + timedelta(days=90))
    return issued.public_bytes(Encoding.DER)


def store(rounds: int, way: str = "PBES2") -> bytes:
    """A PKCS #12 store whose key and certificate are each encrypted with so many rounds; its code has a number of its own."""
    from cryptography import x509

    scheme, digest = WAYS[way]
    closed = PrivateFormat.PKCS12.encryption_builder().kdf_rounds(rounds).key_cert_algorithm(scheme).hmac_hash(digest)
    leaf = x509.load_der_x509_certificate(certificate())
    return pkcs12.serialize_key_and_certificates(b"site", KEY, leaf, None, closed.build(PASSWORD.encode()))


def der(tag: int, content: bytes) -> bytes:
    length = len(content)
    size = (length.bit_length() + 7) // 8
    return bytes((tag, length) if length < 0x80 else (tag, 0x80 | size)) + (
        b"" if length < 0x80 else length.to_bytes(size, "big")
    ) + content  # fmt: skip


def integer(number: int) -> bytes:
    return der(INTEGER, number.to_bytes(number.bit_length() // 8 + 1, "big"))


def pem(content: bytes, label: str) -> bytes:
    return f"-----BEGIN {label}-----\n".encode() + encodebytes(content) + f"-----END {label}-----\n".encode()


def with_rounds(content: bytes, rounds: int, other: int) -> bytes:
    """``content`` with another number of rounds of the same length."""
    assert rounds.bit_length() // 8 == other.bit_length() // 8
    return content.replace(integer(rounds), integer(other))


def without_code(content: bytes) -> bytes:
    """A PKCS #12 store without the code over it, which would tell a wrong password at once."""
    _, start, end = element(content, 0, len(content))
    parts = elements(content, start, end)
    return der(SEQUENCE, content[start : parts[1][2]])


def certificate_with(part: int, value: bytes) -> bytes:
    """The certificate with another value at one place of what is signed (RFC 5280, 4.1)."""
    whole = certificate()
    _, start, end = element(whole, 0, len(whole))
    signed = elements(whole, start, end)[0]
    pieces, at = [], signed[1]
    for _, _, stop in elements(whole, signed[1], signed[2]):
        pieces.append(whole[at:stop])
        at = stop
    pieces[part] = value
    return der(SEQUENCE, der(SEQUENCE, b"".join(pieces)) + whole[signed[2] :])


def rsa_key(n: int, e: int, p: int, q: int) -> bytes:
    return der(SEQUENCE, b"".join(map(integer, (0, n, e, 3, p, q, 1, 1, 1))))


def name(value: bytes, tag: int = 0x0C) -> bytes:
    common_name = der(OBJECT, b"\x55\x04\x03")
    return der(SEQUENCE, der(0x31, der(SEQUENCE, common_name + der(tag, value))))


class DerivationTest(TreeTest):
    @given(st.integers(1, 3000), st.sampled_from(sorted(WAYS)))
    @settings(max_examples=30, deadline=None)
    def test_the_rounds_of_every_part_are_counted(self, rounds: int, way: str) -> None:
        content = store(rounds, way)
        self.assertEqual(rounds_in(without_code(content)), 2 * rounds)  # of its key and of its certificate
        self.assertEqual(rounds_in(content), 2 * rounds + 2048)  # which the library takes for the code over it
        self.assertIsNotNone(open_keystore(content, PASSWORD).entries)

    @given(st.binary(max_size=300))
    def test_any_bytes_have_a_number_of_rounds(self, junk: bytes) -> None:
        for content in (junk, store(2, "PBES1")[: len(junk)] + junk, pem(junk, "ENCRYPTED PRIVATE KEY")):
            self.assertGreaterEqual(rounds_in(content), 0)

    def test_what_asks_for_too_many_rounds_is_not_opened(self) -> None:
        key = self.root / "key.pem"
        key.write_bytes(KEY.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
        files = {"nocode.p12": without_code(with_rounds(store(50_000), 50_000, 8_388_607)),
                 "code.p12": with_rounds(store(50_000), 50_000, 8_388_607)}  # fmt: skip
        for form, options in (("DER", ["-iter", "65535"]), ("PEM", ["-iter", "65535"]), ("scrypt", ["-scrypt"])):
            made = self.root / f"made.{form}"
            command = ["openssl", "pkcs8", "-topk8", "-in", str(key), "-passout", f"pass:{PASSWORD}", "-out", str(made)]
            subprocess.run([*command, *options, "-outform", "PEM" if form == "PEM" else "DER"], check=True)
            files[f"{form}.key"] = made.read_bytes()
        files["DER.key"] = with_rounds(files["DER.key"], 65_535, 8_388_607)
        files["PEM.key"] = pem(files["DER.key"], "ENCRYPTED PRIVATE KEY")
        files["scrypt.key"] = with_rounds(files["scrypt.key"], 1 << 14, 1 << 14 | 1 << 13).replace(
            integer(8), integer(99)
        )
        salt = der(0x04, b"s" * 20_000)  # longer than the short form of a length
        parameters = der(SEQUENCE, salt + integer(0x7FFFFFFF))
        long = der(SEQUENCE, bytes.fromhex("06092a864886f70d01050c") + parameters)
        self.assertEqual(rounds_in(long + b"\0"), 0x7FFFFFFF)
        files["both.p12"] = files["nocode.p12"] + b"-----BEGIN"  # PEM at first sight
        word = self.root / "word"
        word.write_text(PASSWORD + "\n")
        for called, content in files.items():
            with self.subTest(called):
                (self.root / called).write_bytes(content)
                self.assertGreater(rounds_in(content), bounds.DERIVATION_ROUNDS)
                done = rupex("credential", self.root / called, "--password-file", word)
                self.assertEqual((done.returncode, done.stderr), (3, ""), done.stdout)
                self.assertIn("more than 2,000,000 rounds", done.stdout)

    def test_what_a_library_does_not_end_is_ended(self) -> None:
        begun = time.process_time()
        self.assertIsNone(apart(_endless, 1))
        self.assertLess(time.process_time() - begun, 1)
        with (
            mock.patch("rupex.pki.keystores._open_pkcs12", _endless),
            mock.patch.object(bounds, "DERIVATION_SECONDS", 1),
        ):
            self.assertRaisesRegex(CredentialError, "not opened: it takes longer", open_keystore, store(1), None)
        self.assertEqual(apart(lambda: b"done", 5), b"done")


def _endless(*_: object) -> bytes:
    while True:
        pass


class NumbersTest(unittest.TestCase):
    def test_numbers_of_any_size_are_told_without_working_on_them(self) -> None:
        huge = (1 << 6_000_000) + 1
        for words, content in (
            ("more than 16,384 bits", rsa_key(huge * 3, 65537, huge, 3)),
            ("not the product", rsa_key(15, 65537, huge, huge)),
            ("more than 256 bits", rsa_key(15, 1 << 20_000, 3, 5)),
            ("public exponent is 3", rsa_key(15, 3, 3, 5)),
        ):
            for form in (content, pem(content, "RSA PRIVATE KEY")):
                with self.subTest(words):
                    self.assertIn(words, parse_private_key(form).flaw or "")

    def test_names_and_numbers_that_never_end_are_shortened(self) -> None:
        long = certificate_with(5, name(b"x" * 200_000))
        self.assertRegex(parse_certificates(long)[0].subject, r"^CN=x{997}… \(200003 characters\)$")
        serial = certificate_with(1, integer(1 << 40_000))
        self.assertRegex(parse_certificates(serial)[0].serial, r"^1?0{63,64}… \(10001 characters\)$")

    def test_a_certificate_that_cannot_be_read_is_named_for_what_it_is(self) -> None:
        def dates(begin: bytes, end: bytes) -> bytes:
            tags = [0x17 if len(time) == 13 else 0x18 for time in (begin, end)]
            return der(SEQUENCE, der(tags[0], begin) + der(tags[1], end))

        for part, value in (
            (4, dates(b"991332000000Z", b"260101000000Z")),
            (4, dates(b"00000000000000Z", b"99991231235959Z")),
            (4, dates(b"260101000060Z", b"270101000000+01")),
            (5, name(b"\xff\xfe\x00")),
            (5, name(b"\xd8\x00", 0x1E)),
        ):
            content = pem(certificate_with(part, value), "CERTIFICATE")
            self.assertRaisesRegex(CredentialError, "a certificate in it cannot be read", parse_certificates, content)


class ToldTest(TreeTest):
    def test_the_command_says_what_cannot_be_read(self) -> None:
        file = self.root / "odd.pem"
        file.write_bytes(pem(certificate()[:200], "CERTIFICATE"))
        done = rupex("credential", file)
        self.assertEqual((done.returncode, done.stderr), (3, ""))
        self.assertIn("a certificate in it cannot be read", done.stdout)
        self.assertNotIn("private key", done.stdout)
