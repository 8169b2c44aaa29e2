"""The codec: what is encoded decodes to the same, any bytes at all raise nothing but the documented error, and it makes no
difference in which pieces they arrive."""

from __future__ import annotations

import unittest
from collections.abc import Callable

from hypothesis import given
from hypothesis import strategies as st

from rupex.wire.codec import codepoints
from rupex.wire.codec.answers import (
    decode_certificate_status,
    decode_certificates,
    decode_extensions,
    decode_key_exchange,
    decode_newest_certificates,
    decode_protocol,
    decode_server_hello,
    decode_ticket,
)
from rupex.wire.codec.hello import (
    ClientHello,
    Offer,
    client_hello,
    decode_client_hello,
    decode_ssl2_server_hello,
    encode_client_hello,
    hello_records,
    ssl2_hello,
)
from rupex.wire.codec.octets import WireError
from rupex.wire.codec.record_protection import READABLE_SUITES, Direction
from rupex.wire.codec.records import Flight, Message, decode_records, encode_records

U16 = st.integers(0, 0xFFFF)
HELLOS = st.builds(
    ClientHello,
    version=U16,
    random=st.binary(min_size=32, max_size=32),
    session_id=st.binary(max_size=32),
    suites=st.lists(U16, max_size=60).map(tuple),
    compressions=st.lists(st.integers(0, 255), max_size=4).map(tuple),
    extensions=st.lists(st.tuples(U16, st.binary(max_size=40)), max_size=8).map(tuple),
)
DECODERS: tuple[Callable[[bytes], object], ...] = (
    decode_client_hello,
    decode_server_hello,
    decode_certificates,
    decode_newest_certificates,
    decode_certificate_status,
    decode_extensions,
    decode_protocol,
    decode_ticket,
    decode_ssl2_server_hello,
    *(
        lambda body, kind=kind, scheme=scheme: decode_key_exchange(
            body, kind, signed=True, has_scheme=scheme, hint=scheme
        )
        for kind in ("ECDHE", "DHE", "RSA")
        for scheme in (True, False)
    ),
)


class RoundTripTest(unittest.TestCase):
    @given(HELLOS)
    def test_a_client_hello_decodes_to_itself(self, hello: ClientHello) -> None:
        self.assertEqual(decode_client_hello(encode_client_hello(hello)), hello)

    @given(
        st.sampled_from(READABLE_SUITES),
        st.binary(min_size=48, max_size=48),
        st.lists(st.binary(min_size=1, max_size=99)),
    )
    def test_what_is_protected_opens_again_in_order(self, suite: int, secret: bytes, contents: list[bytes]) -> None:
        sender, receiver = Direction(secret, suite), Direction(secret, suite)
        for content in contents:
            records, left = decode_records(sender.seal(codepoints.HANDSHAKE, content))
            self.assertEqual((len(records), left), (1, b""))
            self.assertEqual(receiver.open(records[0]), (codepoints.HANDSHAKE, content))

    @given(
        st.binary(min_size=48, max_size=48), st.binary(min_size=1, max_size=60), st.integers(0, 75), st.integers(1, 255)
    )
    def test_a_changed_record_does_not_open(self, secret: bytes, content: bytes, at: int, flip: int) -> None:
        sealed = bytearray(Direction(secret, 0x1301).seal(codepoints.HANDSHAKE, content))
        sealed[5 + at % (len(sealed) - 5)] ^= flip
        with self.assertRaises(WireError):
            Direction(secret, 0x1301).open(decode_records(bytes(sealed))[0][0])

    def test_a_hello_says_what_is_offered(self) -> None:
        offer = Offer(version="TLSv1.2", suites=(0xC02F, 0x009C), name="www.ternholm.test", groups=(29,), alpn=(b"h2",))
        hello = decode_client_hello(client_hello(offer, bytes(32)).body)
        extensions = dict(hello.extensions)
        self.assertEqual((hello.version, hello.suites), (0x0303, (0xC02F, 0x009C)))
        self.assertIn(b"www.ternholm.test", extensions[codepoints.SERVER_NAME])
        self.assertEqual(extensions[codepoints.SUPPORTED_GROUPS], b"\x00\x02\x00\x1d")
        self.assertNotIn(codepoints.SUPPORTED_VERSIONS, extensions)
        newest = decode_client_hello(
            client_hello(Offer(version="TLSv1.3", suites=(0x1301,), name=None), bytes(32)).body
        )
        self.assertEqual(dict(newest.extensions)[codepoints.SUPPORTED_VERSIONS], b"\x02\x03\x04")
        self.assertEqual(newest.version, 0x0303)


class AnyBytesTest(unittest.TestCase):
    @given(st.binary(max_size=300))
    def test_decoders_raise_only_what_they_say(self, data: bytes) -> None:
        for decode in DECODERS:
            try:
                decode(data)
            except WireError:
                continue

    @given(st.binary(max_size=400), st.lists(st.integers(1, 50), max_size=20))
    def test_a_flight_takes_any_bytes_in_any_pieces(self, data: bytes, cuts: list[int]) -> None:
        self.assertEqual(self._fed(data, [len(data)]), self._fed(data, cuts))

    @given(
        st.lists(st.builds(Message, type=st.integers(0, 255), body=st.binary(max_size=200)), max_size=6),
        st.lists(st.integers(1, 40), max_size=60),
        st.binary(max_size=3),
    )
    def test_messages_arrive_whole_however_they_are_cut(
        self, sent: list[Message], cuts: list[int], rest: bytes
    ) -> None:
        stream = b"".join(message.whole for message in sent)
        records = encode_records(codepoints.HANDSHAKE, 0x0303, stream) if stream else b""
        self.assertEqual(self._fed(records + (b"\x16" + rest if records else b""), cuts)[0], sent)

    @staticmethod
    def _fed(data: bytes, cuts: list[int]) -> tuple[list[Message], object, bytes, bool]:
        flight, at, broken = Flight(), 0, False
        try:
            for cut in [*cuts, len(data)]:
                if at < len(data):
                    flight.feed(data[at : at + cut])
                at += cut
        except WireError:
            broken = True
        return flight.messages, flight.alert, flight.text[:1], broken

    def test_a_record_that_lies_about_its_length_is_refused(self) -> None:
        for case, data in (
            ("longer than any version allows", b"\x16\x03\x03\xff\xff"),
            ("of no version", b"\x16\x05\x00\x00\x01\x00"),
            ("a message of sixteen megabytes", encode_records(codepoints.HANDSHAKE, 0x0303, b"\x0b\xff\xff\xff")),
        ):
            with self.subTest(case), self.assertRaises(WireError):
                Flight().feed(data)

    def test_records_go_out_under_the_version_that_old_servers_take(self) -> None:
        hello = client_hello(Offer(version="SSLv3", suites=(5,), name=None, bare=True), bytes(32))
        self.assertEqual(hello_records(hello, "SSLv3")[:3], b"\x16\x03\x00")
        self.assertEqual(hello_records(hello, "TLSv1.3")[:3], b"\x16\x03\x01")
        self.assertEqual(ssl2_hello((0x010080,), bytes(16))[:5], b"\x80\x1c\x01\x00\x02")


if __name__ == "__main__":
    unittest.main()
