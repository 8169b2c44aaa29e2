"""What was seen, in the model's words: what nobody saw is unknown there, and never good."""

from __future__ import annotations

import unittest
from datetime import timedelta

from cryptography.hazmat.primitives.serialization import Encoding

from rupex.demo.mint import Authority, new_key
from rupex.model import Tls
from rupex.wire.codec.answers import SentCertificates
from rupex.wire.connection.web import NoPage, Page
from rupex.wire.observe.describe import endpoint_of
from rupex.wire.observe.visit import Pages, Visit, known_paths
from rupex.wire.sweep.handshake import Tls13Handshake
from rupex.wire.sweep.result import SweepResult
from tests.support import NOW

NEWEST = SweepResult(suites={"TLSv1.3": (0x1301,)}, groups=[29], order="server")


def page(status: int = 200, body: str = "", **headers: str) -> Page:
    named = tuple((name.replace("_", "-"), value) for name, value in headers.items())
    return Page("https://www.ternholm.test/", status, named, body, "HTTP/1.1")


def visited(
    sweep: SweepResult | None = NEWEST,
    pages: Pages | None = None,
    handshakes: list[Tls13Handshake] | None = None,
) -> Visit:
    return Visit("www.ternholm.test", "192.0.2.1", 443, pages=pages, sweep=sweep, handshakes=handshakes or [])


class UnseenTest(unittest.TestCase):
    def tls(self, visit: Visit) -> Tls:
        tls = endpoint_of(visit, ()).tls
        assert tls is not None
        return tls

    def test_what_only_a_whole_handshake_shows_is_unknown_without_one(self) -> None:
        tls = self.tls(visited())
        for name in ("tickets", "client_certificate", "alpn"):
            setting = getattr(tls, name)
            self.assertFalse(setting.is_known, name)
        self.assertIsNone(tls.early_data)
        seen = self.tls(visited(handshakes=[Tls13Handshake(is_finished=True)]))
        self.assertEqual((seen.tickets.value, seen.alpn.value), (False, ()))
        self.assertEqual(seen.client_certificate and seen.client_certificate.value, "none")

    def test_a_doubt_about_one_version_is_one_about_all_that_rests_on_it(self) -> None:
        for doubts, protocols, suites in (
            ({}, ("TLSv1.3",), ("TLS_AES_128_GCM_SHA256",)),
            ({"TLSv1": "no answer"}, None, None),
            ({"TLSv1.3": "no answer"}, ("TLSv1.3",), None),
        ):
            with self.subTest(doubts=doubts):
                tls = self.tls(visited(SweepResult(suites={"TLSv1.3": (0x1301,)}, doubts=doubts)))  # type: ignore[arg-type]
                self.assertEqual((tls.protocols.value, tls.suites.value), (protocols, suites))
        old = self.tls(visited(SweepResult(suites={"SSLv3": (0x0005,)}, doubts={"TLSv1": "no answer"})))
        self.assertEqual(
            (old.protocols.value, old.protocols.seen), (None, ("SSLv3",))
        )  # that it is offered is certain, whatever else is

    def test_files_are_unknown_when_a_path_was_not_answered(self) -> None:
        git, *others = [row for row in known_paths() if row.kind == "file"]
        silent = NoPage("timeout", "no whole answer")
        head = page(body="ref: refs/heads/main")
        cases: tuple[tuple[str, list[Page | NoPage], tuple[str, ...] | None], ...] = (
            ("all refused", [page(404)] * (1 + len(others)), ()),
            ("one is there, one silent", [head, silent], (git.target,)),
            ("one silent", [page(404), silent], None),
            ("everything is answered with the same page", [page(body="<title>Home</title>")] * 2, ()),
        )
        for case, answers, wanted in cases:
            with self.subTest(case):
                pages = Pages("https", page(), paths=list(zip([git, *others], answers, strict=False)))
                exposes = endpoint_of(visited(pages=pages), ()).scopes[0].exposes
                self.assertEqual(exposes and exposes.value, wanted)

    def test_a_staple_counts_when_it_says_good(self) -> None:
        authority = Authority("Ternholm Test CA", NOW)
        leaf = authority.issue(["www.ternholm.test"], new_key(), NOW, NOW + timedelta(days=90))
        chain = (leaf.public_bytes(Encoding.DER),)
        for staple, wanted in ((authority.staple(leaf, NOW), True), (b"junk", False), (None, False)):
            handshake = Tls13Handshake(certificates=SentCertificates(chain, staple), is_finished=True)
            self.assertEqual(self.tls(visited(handshakes=[handshake])).stapling.value, wanted)

    def test_the_worst_of_several_primes_counts(self) -> None:
        odd = (1 << 2047) + 1  # as long as a known one, and none
        known = int.from_bytes(bytes.fromhex("ff" * 8), "big") << 1984  # longer by one bit
        for primes, bits, safe in (([odd], 2048, False), ([known, odd], 2048, False), ([odd, 23], 5, True)):
            dh = self.tls(visited(SweepResult(suites={"TLSv1.2": (0x009E,)}, dh_primes=primes))).dh
            assert dh is not None
            assert dh.value is not None
            self.assertEqual((dh.value.bits, bool(dh.value.safe)), (bits, safe))

    def test_headers_for_origins_are_those_that_an_origin_gets_each_of_them(self) -> None:
        first, second = ("Access-Control-Allow-Origin", "https://a.test"), ("Access-Control-Allow-Origin", "*")
        twice = Page("https://www.ternholm.test/", 200, (first, second), "", "HTTP/1.1")
        (scope,) = endpoint_of(visited(pages=Pages("https", page(), cross=twice)), ()).scopes
        self.assertEqual(
            [header.value for header in scope.sent("Access-Control-Allow-Origin")], ["https://a.test", "*"]
        )

    def test_a_server_that_fails_has_no_answer_to_judge(self) -> None:
        scope = endpoint_of(visited(pages=Pages("https", page(502))), ()).scopes[0]
        self.assertIn("502", scope.undecided or "")
        gone = endpoint_of(visited(pages=Pages("https", NoPage("timeout", "too slow"))), ()).scopes[0]
        self.assertIn("too slow", gone.undecided or "")

    def test_headers_of_pages_errors_and_caches(self) -> None:
        pages = Pages(
            "https", page(server="pier/1.0", age="5120", x_frame_options="DENY"), page(404, "pier/1.0 at port 443")
        )
        endpoint = endpoint_of(visited(pages=pages), ())
        (scope,) = endpoint.scopes
        self.assertEqual([header.value for header in scope.sent("X-Frame-Options")], ["DENY"])
        self.assertEqual(scope.on_errors, ())
        assert endpoint.wire is not None
        self.assertEqual(endpoint.wire.cached, ("Age: 5120",))


if __name__ == "__main__":
    unittest.main()
