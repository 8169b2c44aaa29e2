"""The sweep: which versions, suites, groups and signatures a listener takes, in as few connections as can be.

How it goes, and what it costs, is told in docs/wire.md. The idea: a list is cut into parts of which each is offered
whole, what was chosen is taken out, and so on until the part is refused; the parts are asked side by side. They are
contiguous parts of the order that servers most often have, so that the order within a part is known for nothing, and
one comparison at each seam proves the whole.
"""

from __future__ import annotations

import asyncio
import os
from collections.abc import Sequence
from functools import partial
from typing import Final

from rupex.model.endpoint import ProtocolVersion
from rupex.tls.suites import PROTOCOL_VERSIONS
from rupex.wire.codec import codepoints
from rupex.wire.codec.answers import SentCertificates, decode_protocol
from rupex.wire.codec.hello import Ssl2ServerHello, decode_ssl2_server_hello, ssl2_hello
from rupex.wire.codec.octets import WireError
from rupex.wire.connection.connection import Listener, ListenerError
from rupex.wire.sweep.details import RESERVE, Details
from rupex.wire.sweep.order import find_order
from rupex.wire.sweep.query import NoAnswer, Refused, Taken
from rupex.wire.sweep.questions import Questions
from rupex.wire.sweep.result import SweepResult, parts_of, suites_for
from rupex.wire.sweep.tls13 import Tls13Sweep

_PARTS: Final = 6
_PARTS_OF_OLD: Final = 2
_OLD_VERSIONS: Final[tuple[ProtocolVersion, ...]] = ("TLSv1.1", "TLSv1", "SSLv3")


class Sweep:
    """One sweep of ``listener`` for the server name ``name`` (None: for no name).

    ``old_known``: set as soon as it is known whether a suite of TLS 1.2 or older is taken (``found_old``).
    """

    def __init__(self, listener: Listener, name: str | None) -> None:
        self.listener, self.name = listener, name
        self.questions = Questions(listener, name)
        self.ask, self.doubt, self.found = self.questions.ask, self.questions.doubt, self.questions.found
        self.details, self.newest = Details(self.questions), Tls13Sweep(self.questions)
        self.old_known = asyncio.Event()
        self.found_old = False
        self._parts: dict[ProtocolVersion, list[list[int]]] = {}

    async def run(self) -> SweepResult:
        """Everything but :attr:`details` and :meth:`doubt_closings`. Never raises for what a peer does."""
        newest = asyncio.create_task(self.newest.run())
        old = asyncio.gather(*(self._old_version(version) for version in _OLD_VERSIONS))
        try:
            await asyncio.gather(old, self._ssl2(), self._version("TLSv1.2", _PARTS))
        finally:  # whoever waits for a suite that is not there need not wait any more
            self.old_known.set()
            self.details.suites_are_known()
        await self.newest.is_known.wait()  # what follows asks whether TLS 1.3 is spoken
        self.details.versions_are_known()
        if self.found.foreign is None:
            await asyncio.gather(newest, self._fallback(), self._protocols(), self._order(newest))
        await newest
        return self.found

    async def ask_once_more(self) -> None:
        """One more handshake of TLS 1.2 or older, for what a server may say later only."""
        version = next((v for v in ("TLSv1.2", *_OLD_VERSIONS) if v in self.found.suites), None)
        if version is not None:
            await self.ask(version, self.found.suites[version])

    # Versions and suites

    async def _version(self, version: ProtocolVersion, parts: int, first: Sequence[int] = ()) -> None:
        """Find the suites of ``version``; ``first``: those that are known to be taken already."""
        suites = [suite for suite in suites_for(version) if suite.code not in first]
        chains = await asyncio.gather(*(self._chain(version, part) for part in parts_of(suites, parts)))
        self._parts[version] = [list(first), *chains] if first else chains
        accepted = [code for chain in self._parts[version] for code in chain]
        if accepted:
            self.found.suites[version] = tuple(accepted)

    async def _chain(self, version: ProtocolVersion, part: Sequence[int]) -> list[int]:
        """The suites of ``part`` that are taken, in the order in which they were chosen."""
        left, found = list(part), list[int]()
        while left:
            answer = await self.ask(version, left)
            match answer:
                case Taken() if answer.hello.version == codepoints.VERSION_NUMBERS[version]:
                    if answer.hello.suite not in left:
                        self.doubt(version, f"it chose suite 0x{answer.hello.suite:04X}, which was not offered")
                        return found
                    left.remove(answer.hello.suite)
                    found.append(answer.hello.suite)
                    self.found_old = True
                    self.old_known.set()
                    if version == "TLSv1.2":
                        self.details.suite_is_taken(answer.hello.suite)
                case NoAnswer():
                    self.doubt(version, answer.why)
                    return found
                case _:
                    return found
        return found

    async def _old_version(self, version: ProtocolVersion) -> None:
        """Each old version has a hello of its own: one that offers TLS 1.1 at most is refused by a server that knows TLS 1.0
        and 1.2 and not what lies between (GnuTLS does so)."""
        suites = [suite.code for suite in suites_for(version)]
        answer = await self.ask(version, suites, compressions=(codepoints.DEFLATE, 0))
        if isinstance(answer, NoAnswer):
            self.doubt(version, answer.why)
        if isinstance(answer, Taken) and answer.hello.version == codepoints.VERSION_NUMBERS[version]:
            if answer.hello.suite not in suites:
                self.doubt(version, f"it chose suite 0x{answer.hello.suite:04X}, which was not offered")
                return
            await self._version(version, _PARTS_OF_OLD, (answer.hello.suite,))

    async def _ssl2(self) -> None:
        kinds = tuple(suite.code for suite in suites_for("SSLv2"))
        try:
            hello = await self._ssl2_answer(kinds)
        except ListenerError as error:
            if error.kind != "closed":  # who closes on an SSL 2.0 hello does not speak it
                self.doubt("SSLv2", error.why)
            return
        except WireError:
            return  # an alert of a newer version, or no TLS at all
        if hello is not None and hello.version == codepoints.VERSION_NUMBERS["SSLv2"]:
            if not hello.suites:
                return  # an empty list, as OpenSSL 1.0.0 sends it: no handshake can follow
            self.found.suites["SSLv2"] = hello.suites
            self.listener.pairs.update((hello.version, kind) for kind in hello.suites)
            if hello.certificate:
                self.found.chains.setdefault("RSA", SentCertificates((hello.certificate,)))

    async def _ssl2_answer(self, kinds: tuple[int, ...]) -> Ssl2ServerHello | None:
        data = b""
        async with self.listener.open() as wire:
            await wire.send(ssl2_hello(kinds, os.urandom(16)))
            self.listener.round_trips += 1
            try:
                async with asyncio.timeout(self.listener.step_seconds()):
                    while len(data) < 1 << 16:
                        more = await wire.receive()
                        if not more:
                            break
                        data += more
                        found = decode_ssl2_server_hello(data)
                        if found is not None:
                            return found
            except TimeoutError:
                raise ListenerError("timeout", "no answer to an SSL 2.0 hello") from None
        return None

    # What else hellos tell

    async def _fallback(self) -> None:
        """RFC 7507, 3: a hello below the best version, with the signal, is refused by a server that knows it."""
        accepted = [version for version in PROTOCOL_VERSIONS if version in self.found.suites and version != "SSLv2"]
        if len(accepted) < 2 or PROTOCOL_VERSIONS.index(accepted[0]) >= PROTOCOL_VERSIONS.index("TLSv1.2"):
            return
        answer = await self.ask(accepted[0], self.found.suites[accepted[0]], fallback=True)
        if isinstance(answer, Taken):
            self.found.fallback_refused = False
        elif isinstance(answer, Refused) and answer.alert is not None:
            self.found.fallback_refused = (
                True  # without the signal it is taken, so whatever it says, it says no to the signal
            )

    async def _protocols(self) -> None:
        """ALPN below TLS 1.3, where the answer is in clear."""
        version = next((v for v in ("TLSv1.2", "TLSv1.1", "TLSv1") if v in self.found.suites), None)
        if version is None or "TLSv1.3" in self.found.suites:
            return
        answer = await self.ask(version, self.found.suites[version], alpn=(b"h2", b"http/1.1"))
        if isinstance(answer, Taken):
            self.found.protocol_seen = True
            chosen = answer.hello.extensions.get(codepoints.ALPN)
            try:
                self.found.protocol = None if chosen is None else decode_protocol(chosen)
            except WireError as error:
                self.found.problems.append(f"ALPN: {error}")

    # Order

    async def _prefers(self, version: ProtocolVersion, offered: Sequence[int]) -> int | None:
        """The suite that is chosen of ``offered``."""
        answer = await self.ask(version, offered)
        return answer.hello.suite if isinstance(answer, Taken) and answer.hello.suite in offered else None

    async def _order(self, all_of_newest: asyncio.Task[None]) -> None:
        """Who decides the order, and the server's own; asked in the newest version that has two suites below TLS 1.3,
        or in TLS 1.3, when ``all_of_newest`` is known of it."""
        found, question = self.found, None
        for version in ("TLSv1.2", *_OLD_VERSIONS):
            chains = [chain for chain in self._parts.get(version, []) if chain]
            if sum(map(len, chains)) < 2:
                continue
            if question is None:
                question = version
                ordered = await find_order(
                    partial(self._prefers, version), chains, lambda more: self.listener.room >= more + RESERVE
                )
                found.order, found.order_doubt, found.order_note = ordered.who, ordered.doubt, ordered.note
                suites = ordered.suites
            else:  # servers have one order for all versions
                rank = {code: index for index, code in enumerate(found.suites[question])}
                suites = tuple(sorted(found.suites[version], key=lambda code: rank.get(code, len(rank))))
            if suites is not None:
                found.suites[version] = suites
        if question is None:
            await all_of_newest
        newest = found.suites.get("TLSv1.3", ())
        if question is None and len(newest) > 1:
            chosen = await self._prefers("TLSv1.3", (newest[1], newest[0]))
            found.order = None if chosen is None else "server" if chosen == newest[0] else "client"
        elif question is None and found.suites and not found.doubts:
            # In SSL 2.0 the client chooses; one suite a version leaves no choice.
            found.order = "client" if set(found.suites) == {"SSLv2"} else "server"

    async def doubt_closings(self) -> None:
        """A closed connection is a no, unless the server has stopped answering at all: one hello that was taken before is
        sent once more, and if that is not taken now, nothing that ended in a closed connection counts."""
        questions = self.questions
        if not questions.closed_unsaid or questions.good is None or self.found.foreign is not None:
            return
        if not isinstance(await questions.put(questions.good), Taken):
            for version in PROTOCOL_VERSIONS:
                self.doubt(version, "the server stopped answering in the middle")
            self.found.groups_doubt = self.found.groups_doubt or "the server stopped answering in the middle"
            self.found.schemes_doubt = self.found.schemes_doubt or "the server stopped answering in the middle"
