"""``rupex credential``: files that real tools made, described; and nothing secret told."""

from __future__ import annotations

import base64
import json
import subprocess
from datetime import timedelta
from typing import Any

from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

from rupex.demo.mint import Authority, new_key, write_chain, write_key
from rupex.documents.inspection import KeyItem
from rupex.inspect.credentials import inspect_credentials
from tests.support import NOW, TreeTest, rupex, valid_document
from tests.test_credential_controls import weak_key


class CredentialTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        authority = Authority("Ternholm Test CA", NOW)
        self.key = new_key("RSA")
        leaf = authority.issue(["a.test", "*.a.test"], self.key, NOW - timedelta(days=10), NOW + timedelta(days=80))
        write_chain(self.root / "leaf.pem", leaf)
        write_chain(self.root / "chain.pem", leaf, authority.certificate)
        write_chain(self.root / "backwards.pem", authority.certificate, leaf)
        (self.root / "leaf.der").write_bytes(leaf.public_bytes(Encoding.DER))
        write_key(self.root / "a.key", self.key)
        write_key(self.root / "other.key", new_key(), 0o644)
        self.secret = (self.root / "a.key").read_text().split("\n")[1]

    def tool(self, *command: str) -> None:
        subprocess.run(command, cwd=self.root, check=True, capture_output=True)

    def told(self, *names: str, status: int = 0, options: tuple[str, ...] = ()) -> Any:
        done = rupex("credential", *names, *options, "--format", "json", "--now", "2026-11-24T09:30:00Z", cwd=self.root)
        self.assertEqual((done.returncode, done.stderr), (status, ""))
        self.assertNotIn(self.secret, done.stdout)
        return valid_document(done.stdout)

    def test_certificates_of_every_form_are_the_same_certificate(self) -> None:
        self.tool("openssl", "crl2pkcs7", "-nocrl", "-certfile", "leaf.pem", "-out", "leaf.p7b")
        self.tool("openssl", "crl2pkcs7", "-nocrl", "-certfile", "leaf.pem", "-outform", "DER", "-out", "leaf.p7c")
        items = [self.told(name)["items"][0] for name in ("leaf.pem", "leaf.der", "leaf.p7b", "leaf.p7c")]
        self.assertEqual(len({item["sha256"] for item in items}), 1)
        item = items[0]
        self.assertEqual((item["names"], item["days_left"], item["lifetime_days"]), (["a.test", "*.a.test"], 80, 91))
        self.assertEqual((item["usable"], item["is_ca"], item["key"]), (True, False, {"type": "RSA", "bits": 2048}))

    def test_keys_of_every_form_fit_their_certificate_and_no_other(self) -> None:
        self.tool("openssl", "rsa", "-in", "a.key", "-traditional", "-out", "one.key")
        self.tool("openssl", "rsa", "-in", "a.key", "-aes128", "-passout", "pass:pier", "-out", "closed.key")
        self.tool("openssl", "rsa", "-in", "a.key", "-outform", "DER", "-out", "a.der")
        (self.root / "word").write_text("pier\n")
        told = self.told(
            "leaf.pem", "a.key", "one.key", "closed.key", "a.der", "other.key", options=("--password-file", "word")
        )
        self.assertEqual({pair["key"]: pair["match"] for pair in told["pairs"]},
                         {"a.key": True, "one.key": True, "closed.key": True, "a.der": True, "other.key": False})  # fmt: skip
        closed = self.told("closed.key")["items"][0]
        self.assertEqual((closed["encrypted"], closed["public_sha256"], closed["sound"]), (True, None, None))
        self.assertEqual(told["items"][-1]["everyone"], True)

    def test_a_chain_is_in_order_or_not_and_ends_somewhere(self) -> None:
        for name, ordered, missing in (
            ("leaf.pem", True, "CN=Ternholm Test CA"),
            ("chain.pem", True, None),
            ("backwards.pem", False, None),
        ):
            with self.subTest(name):
                chain = self.told(name)["chains"][0]
                self.assertEqual((chain["ordered"], chain["missing"]), (ordered, missing))

    def test_stores_that_java_and_openssl_made(self) -> None:
        pack = ("openssl", "pkcs12", "-export", "-in", "chain.pem", "-inkey", "a.key", "-name", "pier")
        self.tool(*pack, "-out", "given.p12", "-passout", "pass:made-up")
        self.tool(*pack, "-out", "default.p12", "-passout", "pass:changeit")
        self.tool(*pack, "-out", "none.p12", "-passout", "pass:")
        for kind in ("JKS", "JCEKS"):
            self.tool("keytool", "-importkeystore", "-srckeystore", "given.p12", "-srcstorepass", "made-up", "-noprompt",
                      "-destkeystore", kind, "-deststoretype", kind, "-deststorepass", "changeit")  # fmt: skip
        (self.root / "word").write_text("made-up")
        for name, options, kind, password in (
            ("given.p12", (), "PKCS#12", "unknown"),
            ("given.p12", ("--password-file", "word"), "PKCS#12", "given"),
            ("default.p12", (), "PKCS#12", "default"),
            ("none.p12", (), "PKCS#12", "none"),
            ("JKS", (), "JKS", "default"),
            ("JCEKS", (), "JCEKS", "default"),
        ):
            with self.subTest(name, password=password):
                told = self.told(name, options=options)
                store = told["items"][0]
                self.assertEqual((store["format"], store["password"]), (kind, password))
                self.assertEqual([pair["match"] for pair in told["pairs"]], [] if password == "unknown" else [True])

    def test_an_automatic_clients_store(self) -> None:
        one = {"domain": {"main": "a.test"}, "certificate": base64.b64encode((self.root / "leaf.pem").read_bytes()).decode(),
               "key": base64.b64encode((self.root / "a.key").read_bytes()).decode()}  # fmt: skip
        (self.root / "acme.json").write_text(json.dumps({"pier": {"Account": {"Email": "x"}, "Certificates": [one]}}))
        account, leaf = self.told("acme.json")["items"]
        self.assertEqual((account["kind"], account["certificates"], leaf["names"][0]), ("account", 1, "a.test"))

    def test_an_unsound_key_is_said_to_be(self) -> None:
        (self.root / "weak.key").write_bytes(weak_key(65537, 1 << 20))
        numbers = self.key.private_bytes(Encoding.DER, PrivateFormat.TraditionalOpenSSL, NoEncryption())
        broken = bytearray(numbers)
        broken[-1] ^= 2  # the last number, the coefficient, no longer fits
        (self.root / "broken.key").write_bytes(bytes(broken))
        for name, words in (("weak.key", "so close"), ("broken.key", "do not fit")):
            with self.subTest(name):
                item = self.told(name)["items"][0]
                self.assertEqual(item["sound"], False)
                self.assertIn(words, item["flaw"])
        self.assertEqual(self.told("a.key")["items"][0]["sound"], True)

    def test_only_the_first_rsa_keys_are_tried_for_primes_and_the_rest_say_so(self) -> None:
        key = new_key("RSA")
        for number in range(22):
            write_key(self.root / f"{number:02}.key", key)
        document = inspect_credentials(sorted(self.root.glob("[0-9]*.key")), NOW)
        tried = [item.primes for item in document.items if isinstance(item, KeyItem)]
        self.assertEqual(tried, ["tried"] * 20 + ["not tried"] * 2)

    def test_what_cannot_be_read_is_a_problem_and_the_rest_is_told(self) -> None:
        (self.root / "junk").write_bytes(b"\xfe\xed\xfe\xed" + bytes(40))
        (self.root / "text").write_text("nothing")
        (self.root / "cut.p12").write_bytes(
            bytes.fromhex("30820a000201033082") + bytes.fromhex("06092a864886f70d010701")
        )
        told = self.told("junk", "text", "missing.pem", "cut.p12", "leaf.pem", status=3)
        self.assertEqual(len(told["problems"]), 3)
        self.assertEqual([item["kind"] for item in told["items"]], ["keystore", "certificate"])

    def test_odd_certificates_and_keys_are_told_without_a_word_of_the_library(self) -> None:
        make = ("openssl", "req", "-x509", "-days", "30", "-subj", "/CN=a.test", "-key")
        self.tool("openssl", "ecparam", "-name", "secp112r1", "-genkey", "-noout", "-out", "weak.key")
        self.tool(*make, "weak.key", "-out", "weak.pem")
        self.tool(*make, "a.key", "-out", "negative.pem", "-set_serial", "-5")
        names = "\n".join(f"DNS.{number}={'x' * 50}{number}.test" for number in range(18_000))
        (self.root / "names.cnf").write_text(
            f"[req]\ndistinguished_name=d\nx509_extensions=e\nprompt=no\n[d]\nCN=a.test\n[e]\nsubjectAltName=@n\n[n]\n{names}\n"
        )
        self.tool(*make[:5], "-key", "a.key", "-out", "names.pem", "-config", "names.cnf")
        (self.root / "many.pem").write_bytes((self.root / "negative.pem").read_bytes() * 10_000)
        told = self.told("weak.key", "weak.pem", "negative.pem", "names.pem", "many.pem", status=3)
        self.assertEqual([item["kind"] for item in told["items"]], ["key", "certificate", "certificate", "certificate"])
        self.assertEqual([problem["kind"] for problem in told["problems"]], ["bound"])
        self.write_nginx(
            "server { listen 443 ssl; server_name a.test; ssl_certificate /weak.pem; ssl_certificate_key /weak.key; }"
        )
        self.assertEqual(self.check("cert.key-strength").verdict, "fail")

    def test_the_text_says_it_in_words(self) -> None:
        done = rupex("credential", "chain.pem", "a.key", "--now", "2026-11-24T09:30:00Z", cwd=self.root)
        for words in ("80 days left of 91", "for servers", "  yes a.key\n      is the key of chain.pem", "in order"):
            self.assertIn(words, done.stdout)
        self.assertNotIn(self.secret, done.stdout)
