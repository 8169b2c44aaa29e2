"""Whether clients take a certificate: anchors, chains, use and lifetime, each control on both sides."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta
from typing import Any

from cryptography.hazmat.primitives.serialization import Encoding
from msgspec import structs

from rupex.controls.trust import chain, lifetime, transparency, trust, usage, wildcard
from rupex.demo.mint import Authority, new_key
from rupex.model import (
    Certificate,
    CertificateFile,
    CertificateUse,
    Endpoint,
    KnownCertificates,
    Provenance,
    Setting,
    Tls,
    TrustPath,
)
from rupex.pki.certificates import parse_der
from rupex.pki.chains import public_anchors, trust_path
from tests.support import NOW

LIMITS = {"2020-09-01": 398, "2026-03-15": 200, "2027-03-15": 100, "2029-03-15": 47}
LEAF = Certificate(
    subject="CN=a.test", issuer="CN=Ternholm CA 1", names=("a.test", "*.a.test"), not_before=NOW, key_type="RSA",
    not_after=NOW + timedelta(days=90), key_bits=2048, digest="sha256", self_signed=False, serial="1", sha256="aa",
    public_sha256="bb",
)  # fmt: skip
ISSUER = structs.replace(LEAF, subject="CN=Ternholm CA 1", issuer="CN=Ternholm Root", is_ca=True, sha256="cc")
PUBLIC = TrustPath("CN=Ternholm Root", True, None, 0, True, ("aa", "cc"))
OWN = TrustPath(None, False, None, 0, True, ("aa", "cc"))
CUT = TrustPath(None, False, "CN=Ternholm CA 1", 0, True, ("aa",))


def file(path: TrustPath | None, source: str = "wire", **changes: Any) -> CertificateFile:
    leaf = structs.replace(LEAF, **changes)
    return CertificateFile(path="x", named_by=(), endpoints=(), leaf=leaf, source=source, trust=path)  # type: ignore[arg-type]


def verdict(judgement: object) -> str:
    return type(judgement).__name__.lower()


class TrustTest(unittest.TestCase):
    def test_where_a_chain_ends(self) -> None:
        for case, certificate, anchors, wanted in (
            ("at a public anchor", file(PUBLIC), (), "pass"),
            ("at an anchor of its own", file(OWN), (), "fail"),
            ("at one that the baseline knows", file(OWN), ("cc",), "pass"),
            ("nowhere, though a public authority issued it", file(CUT, public_policy=True), (), "unknown"),
            ("nowhere", file(CUT), (), "fail"),
            ("with itself", file(OWN, self_signed=True), (), "fail"),
            ("unread", CertificateFile(path="x", named_by=(), endpoints=(), unknown="cut short"), (), "unknown"),
        ):
            with self.subTest(case):
                self.assertEqual(verdict(trust(certificate, anchors=anchors)), wanted)

    def test_lifetimes_follow_the_day_of_issue(self) -> None:
        for issued, days, wanted in (
            ("2020-08-31", 800, "pass"),
            ("2020-09-01", 399, "fail"),
            ("2026-03-14", 398, "pass"),
            ("2026-03-15", 201, "fail"),
            ("2026-03-15", 200, "pass"),
            ("2029-04-01", 48, "fail"),
        ):
            with self.subTest(issued=issued, days=days):
                start = datetime.fromisoformat(issued).replace(tzinfo=UTC)
                end = start + timedelta(days=days) - timedelta(seconds=1)  # both ends are in it
                found = lifetime(file(PUBLIC, not_before=start, not_after=end), limits=LIMITS)
                self.assertEqual(verdict(found), wanted)
        self.assertEqual(verdict(lifetime(file(OWN), limits=LIMITS)), "exempt")

    def test_use_wildcards_and_timestamps(self) -> None:
        for found, wanted in (
            (usage(file(PUBLIC)), "pass"),
            (usage(file(PUBLIC, is_ca=True)), "fail"),
            (usage(file(PUBLIC, server_auth=False)), "fail"),
            (wildcard(file(PUBLIC), forbidden=False), "exempt"),
            (wildcard(file(PUBLIC), forbidden=True), "fail"),
            (wildcard(file(PUBLIC, names=("a.test",)), forbidden=True), "pass"),
            (transparency(file(PUBLIC, timestamps=True)), "pass"),
            (transparency(file(PUBLIC)), "unknown"),
            (transparency(file(OWN)), "exempt"),
        ):
            self.assertEqual(verdict(found), wanted)

    def test_a_chain_that_lacks_its_issuer(self) -> None:
        public = structs.replace(LEAF, public_policy=True)
        for case, sent, path, wanted in (
            ("a file with both", (LEAF, ISSUER), None, "pass"),
            ("a file with the leaf alone, of a public authority", (public,), None, "fail"),
            ("of one that nobody knows", (LEAF,), None, "unknown"),
            ("a file that begins with the CA", (ISSUER, LEAF), None, "fail"),
            ("sent whole", (LEAF, ISSUER), PUBLIC, "pass"),
            ("sent without the issuer, of a public authority", (public,), CUT, "fail"),
        ):
            with self.subTest(case):
                known = KnownCertificates({"x": sent}, {} if path is None else {"x": path})
                self.assertEqual(verdict(chain(endpoint(), known)), wanted)


def endpoint() -> Endpoint:
    here = Provenance("wire")
    empty: Setting[Any] = Setting((), here)
    tls = Tls(protocols=empty, suites=empty, groups=empty, preference=empty, tickets=empty, stapling=empty,
              compression=empty, alpn=empty, certificates=(CertificateUse("x", None, here),))  # fmt: skip
    return Endpoint(id="e", family=None, address="192.0.2.1", port=443, names=("a.test",), default=False, transport="tls",
                    provenance=here, sources=("wire",), tls=tls)  # fmt: skip


class PathTest(unittest.TestCase):
    """Paths are built over what was sent, whatever its order, by names and signatures."""

    def test_a_path_over_what_was_sent(self) -> None:
        authority, other = Authority("Ternholm Test CA", NOW), Authority("Ternholm Test CA", NOW)
        leaf = authority.issue(["a.test"], new_key(), NOW, NOW + timedelta(days=90)).public_bytes(Encoding.DER)
        root, stranger = (a.certificate.public_bytes(Encoding.DER) for a in (authority, other))
        for case, sent, missing, surplus, in_order in (
            ("whole", (leaf, root), None, 0, True),
            ("the leaf alone", (leaf,), "CN=Ternholm Test CA", 0, True),
            ("one of the same name and another key", (leaf, stranger), "CN=Ternholm Test CA", 1, True),
            ("with one too many", (leaf, stranger, root), None, 1, True),
        ):
            with self.subTest(case):
                path = trust_path(sent)
                assert path is not None
                self.assertEqual((path.missing, path.surplus, path.in_order), (missing, surplus, in_order))
                self.assertEqual((path.anchor, path.is_public), (None, False))
        self.assertIsNone(trust_path((b"junk",)))

    def test_a_public_anchor_is_known_by_the_public_list(self) -> None:
        anchor = next(iter(public_anchors().values()))[0]
        path = trust_path((anchor.public_bytes(Encoding.DER),))
        assert path is not None
        self.assertTrue(path.is_public)
        self.assertTrue(parse_der(anchor.public_bytes(Encoding.DER)).is_ca)


if __name__ == "__main__":
    unittest.main()
