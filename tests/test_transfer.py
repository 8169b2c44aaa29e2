"""Findings that go to another process come back as they were."""

from __future__ import annotations

import unittest

import msgspec
from hypothesis import given
from hypothesis import strategies as st
from msgspec import UNSET

from rupex.audit.findings import Findings
from rupex.audit.transfer import PackedFindings, pack_findings, unpack_findings
from rupex.documents.encoding import encode_msgpack
from rupex.documents.run import PlaceDocument, by_finding
from rupex.model import Provenance

NAMES = st.sampled_from(["", "a.test", "etc/nginx/nginx.conf", "café"])
NUMBERS = st.none() | st.integers(0, 3)
PROVENANCES = st.builds(
    Provenance,
    how=st.sampled_from(["explicit", "inherited", "default"]),
    file=st.none() | NAMES,
    line=NUMBERS,
    column=NUMBERS,
    note=st.none() | NAMES,
)


@st.composite
def places(draw: st.DrawFn) -> PlaceDocument:
    """A place; of some, file, line and column are those of the provenance."""
    provenance = draw(st.none() | PROVENANCES)
    file, line, column = draw(st.none() | NAMES), draw(NUMBERS), draw(NUMBERS)
    if provenance is not None and draw(st.booleans()):
        file, line, column = provenance.file, provenance.line, provenance.column
    return PlaceDocument(
        verdict=draw(st.sampled_from(["fail", "unknown", "waived"])), severity=draw(st.sampled_from(["low", "high"])),
        endpoint=draw(st.none() | NAMES), scope=draw(st.none() | NAMES), name=draw(st.none() | NAMES),
        file=file, line=line, column=column, message=draw(NAMES), evidence=draw(st.none() | NAMES),
        provenance=provenance, ceiling=draw(st.none() | st.just(60.0)), case=draw(st.just(UNSET) | NAMES),
        folded=draw(st.just(UNSET) | NAMES), unseen=draw(st.just(UNSET) | NAMES),
        alike=draw(st.just(UNSET) | st.integers(1, 9)),
    )  # fmt: skip


class TransferTest(unittest.TestCase):
    @given(st.dictionaries(st.sampled_from(["tls.protocol", "header.hsts"]), st.lists(places(), max_size=12)))
    def test_what_arrives_is_what_was_sent_by_finding(self, found: dict[str, list[PlaceDocument]]) -> None:
        sent = {
            name: Findings({"fail": len(some)}, list(some), 60.0, None, "because", 1) for name, some in found.items()
        }
        content = encode_msgpack(pack_findings(sent))
        arrived = unpack_findings(msgspec.msgpack.decode(content, type=PackedFindings))
        self.assertEqual(list(arrived), list(sent))
        for name, some in found.items():
            self.assertEqual(tuple(arrived[name].places), by_finding(some))
            arrived[name].places = sent[name].places
            self.assertEqual(arrived[name], sent[name])

    def test_equal_texts_and_provenances_are_sent_and_kept_once(self) -> None:
        some = [
            PlaceDocument(
                verdict="fail", severity="low", endpoint="nginx:0.0.0.0:443/a.test", file="f", line=number % 2, column=1,
                provenance=Provenance("explicit", "f", number % 2, 1),
            )
            for number in range(20)
        ]  # fmt: skip
        packed = pack_findings({"tls.protocol": Findings({}, some)})
        self.assertEqual((len(packed.texts), len(packed.provenances)), (1, 2))
        content = msgspec.msgpack.encode(packed)
        places = unpack_findings(msgspec.msgpack.decode(content, type=PackedFindings))["tls.protocol"].places
        self.assertEqual(len({id(place.provenance) for place in places}), 2)
        self.assertEqual(len({id(place.endpoint) for place in places}), 1)


if __name__ == "__main__":
    unittest.main()
