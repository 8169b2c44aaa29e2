"""The sweep: which versions, suites, groups and signatures a listener takes, in as few connections as can be.

How it goes, and what it costs, is told in docs/wire.md. The idea: a list is cut into parts of which each is offered
whole, what was chosen is taken out, and so on until the part is refused; the parts are asked side by side. They are
contiguous parts of the order that servers most often have, so that the order within a part is known for nothing, and
one comparison at each seam proves the whole.
"""

from __future__ import annotations

import asyncio
import os
from collections.abc import Iterable, Sequence
from functools import partial
from typing import Any, Final

from rupex.model.endpoint import ProtocolVersion
from rupex.tls.groups import all_groups
from rupex.tls.signatures import SCHEMES
from rupex.tls.suites import PROTOCOL_VERSIONS
from rupex.wire import numbers as n
from rupex.wire.answers import KeyExchange, SentCertificates, decode_protocol
from rupex.wire.ask import Answer, NoAnswer, Refused, Taken, ask
from rupex.wire.hello import Offer, Ssl2ServerHello, decode_ssl2_server_hello, ssl2_hello
from rupex.wire.line import LineError, Listener
from rupex.wire.octets import WireError
from rupex.wire.order import find_order
from rupex.wire.swept import SUITES_BY_CODE, Swept, parts_of, suites_for

_PARTS: Final = 6
_PARTS_OF_OLD: Final = 2
_OLD_VERSIONS: Final[tuple[ProtocolVersion, ...]] = ("TLSv1.1", "TLSv1", "SSLv3")
_ALL_SCHEMES: Final = tuple(s.code for s in SCHEMES)
_RESERVE: Final = 6
_RESERVES: Final = (10, _RESERVE, 4)
"""Connections that the details leave to questions that matter more: until all suites are known; until all else is asked; and
what controls do not want to know leaves these to what they do."""

_SECOND_TRIES: Final = 3
"""Hellos that are sent again when no answer came in time, although others were answered."""

_OLD_DIGESTS: Final = ("SHA-1", "SHA-224")
_BAD_SCHEMES: Final = (n.RSA_MD5, *(s.code for s in SCHEMES if s.digest == "SHA-1"))
_SIGNED_WITH: Final = {"RSA": ("RSA",), "ECDSA": ("ECDSA", "Ed25519", "Ed448"), "DSS": ("DSA",)}

# Groups in parts, those together that servers take together, so that a part is most often taken whole or not at all.
_CLASSIC: Final = tuple(g.code for name in ("x25519", "secp256r1", "x448", "secp521r1", "secp384r1")
                        for g in all_groups() if g.name == name)  # fmt: skip
_FINITE: Final = tuple(group.code for group in all_groups() if group.kind == "ff")
_RARE: Final = tuple(g.code for g in all_groups() if g.code not in _CLASSIC and g.kind != "ff")
_CURVES: Final = tuple(group.code for group in all_groups() if group.kind == "ec" and not group.name.endswith("tls13"))


def _exchange_of(answer: Taken) -> KeyExchange | None:
    """The parameters that an answer has, None where they are missing or broken."""
    suite = SUITES_BY_CODE.get(answer.hello.suite)
    try:
        return None if suite is None else answer.key_exchange(suite)
    except WireError:
        return None


class Sweep:
    """One sweep of ``listener`` for the server name ``name`` (None: for no name)."""

    def __init__(self, listener: Listener, name: str | None) -> None:
        self.listener, self.name = listener, name
        self.found = Swept()
        self.closed_unsaid = False
        self.old_known = asyncio.Event()
        self._has_old = False
        self._second_tries = _SECOND_TRIES
        self._signers: dict[str, list[int]] = {authentication: [] for authentication in _SIGNED_WITH}
        self._signer_known = {authentication: asyncio.Event() for authentication in _SIGNED_WITH}
        self._newest_known = asyncio.Event()
        self._stages = [(asyncio.Event(), reserve) for reserve in _RESERVES]
        (self._versions_known, _), (self._rest_asked, _), (self._judged_known, _) = self._stages
        self._parts: dict[ProtocolVersion, list[list[int]]] = {}
        self._good: Offer | None = None

    async def run(self) -> Swept:
        """Everything but :meth:`details`. Never raises for what a peer does."""
        newest = asyncio.create_task(self._newest())
        old = asyncio.gather(*(self._old_version(version) for version in _OLD_VERSIONS))
        try:
            await asyncio.gather(old, self._ssl2(), self._version("TLSv1.2", _PARTS))
        finally:
            self._knows_all()
        await self._newest_known.wait()  # what follows asks whether TLS 1.3 is spoken
        self._versions_known.set()
        if self.found.foreign is None:
            tasks = [self._fallback(), self._protocols(), self._order(newest)]
            await asyncio.gather(newest, *tasks)
            await self._doubt_closings()
        await newest
        return self.found

    async def ask_once_more(self) -> None:
        """One more handshake of TLS 1.2 or older, for what a server may say later only."""
        version = next((v for v in ("TLSv1.2", *_OLD_VERSIONS) if v in self.found.suites), None)
        if version is not None:
            await self._ask(self._offer(version, self.found.suites[version]))

    def _knows_all(self) -> None:
        """Whoever waits for a suite that is not there need not wait any more."""
        for event in (*self._signer_known.values(), self.old_known):
            event.set()

    async def details(self) -> None:
        """Schemes of signatures, and groups of TLS 1.2 and older. Where there is little room for connections, this ends only
        after :meth:`rest_is_asked`."""
        async with asyncio.TaskGroup() as beside:
            judged = [beside.create_task(self._old_groups())]
            for authentication in _SIGNED_WITH:
                judged.append(beside.create_task(self._old_schemes(authentication)))
                beside.create_task(self._good_schemes(authentication, judged[-1]))
            await asyncio.wait(judged)
            self._judged_known.set()

    def rest_is_asked(self) -> None:
        """Nothing but :meth:`details` is left to be asked: all room is theirs."""
        self._rest_asked.set()

    async def _has_room(self, *, is_last: bool = False) -> bool:
        """Whether one of the :meth:`details` may be asked; ``is_last``: one that controls do not want to know."""
        for end, reserve in self._stages if is_last else self._stages[:-1]:
            if self.listener.room > reserve:
                return True
            await end.wait()
        return self.listener.room > 0

    # Versions and suites

    async def _ask(self, offer: Offer) -> Answer:
        answer = await ask(self.listener, offer)
        if isinstance(answer, NoAnswer) and answer.kind == "timeout" and self._good is not None and self._second_tries:
            self._second_tries -= 1  # a server that has one connection at a time may have been busy with another
            answer = await ask(self.listener, offer)
        if isinstance(answer, Taken):
            self._good = self._good or offer
            if answer.hello.suite in offer.suites:
                self.listener.pairs.add((answer.hello.version, answer.hello.suite))
            self._look(answer)
        elif isinstance(answer, Refused):
            if answer.alert is None:
                self.closed_unsaid = True
            elif answer.alert.name not in self.found.alerts:
                self.found.alerts.append(answer.alert.name)
        else:
            self.found.failure = self.found.failure or answer
            if answer.kind == "foreign":
                self.found.foreign = self.found.foreign or answer.text
        return answer

    def _offer(self, version: ProtocolVersion, suites: Iterable[int], **more: Any) -> Offer:
        if version == "TLSv1.3":
            more.setdefault("groups", _CLASSIC)
        elif version != "SSLv3":
            more.setdefault("groups", _CURVES)
        if version in ("TLSv1.2", "TLSv1.3"):
            more.setdefault("schemes", _ALL_SCHEMES)
        name = None if version == "SSLv3" else self.name
        return Offer(version=version, suites=tuple(suites), name=name, bare=version == "SSLv3", **more)

    async def _version(self, version: ProtocolVersion, parts: int, first: Sequence[int] = ()) -> None:
        """Find the suites of ``version``; ``first``: those that are known to be taken already."""
        suites = [suite for suite in suites_for(version) if suite.code not in first]
        chains = await asyncio.gather(*(self._chain(version, part) for part in parts_of(suites, parts)))
        self._parts[version] = [list(first), *chains] if first else chains
        taken = [code for chain in self._parts[version] for code in chain]
        if taken:
            self.found.suites[version] = tuple(taken)

    async def _chain(self, version: ProtocolVersion, part: Sequence[int]) -> list[int]:
        """The suites of ``part`` that are taken, in the order in which they were chosen."""
        left, found = list(part), list[int]()
        while left:
            answer = await self._ask(self._offer(version, left))
            match answer:
                case Taken() if answer.hello.version == n.VERSION_NUMBERS[version]:
                    if answer.hello.suite not in left:
                        self._doubt(version, f"it chose suite 0x{answer.hello.suite:04X}, which was not offered")
                        return found
                    left.remove(answer.hello.suite)
                    found.append(answer.hello.suite)
                    self._tell(version, answer.hello.suite)
                case NoAnswer():
                    self._doubt(version, answer.why)
                    return found
                case _:
                    return found
        return found

    def _tell(self, version: ProtocolVersion, code: int) -> None:
        """Let those go on who wait for a suite of that kind."""
        self._has_old = True
        self.old_known.set()
        suite = SUITES_BY_CODE[code]
        if version == "TLSv1.2" and suite.key_exchange in ("ECDHE", "DHE") and suite.authentication in self._signers:
            self._signers[suite.authentication].append(code)
            self._signer_known[suite.authentication].set()

    @property
    def found_old(self) -> bool:
        """Whether a suite of TLS 1.2 or older is known to be taken."""
        return self._has_old

    def _doubt(self, version: ProtocolVersion, why: str) -> None:
        self.found.doubts.setdefault(version, why)

    async def _old_version(self, version: ProtocolVersion) -> None:
        """Each old version has a hello of its own: one that offers TLS 1.1 at most is refused by a server that knows TLS 1.0
        and 1.2 and not what lies between (GnuTLS does so)."""
        suites = [suite.code for suite in suites_for(version)]
        answer = await self._ask(self._offer(version, suites, compressions=(n.DEFLATE, 0)))
        if isinstance(answer, NoAnswer):
            self._doubt(version, answer.why)
        if isinstance(answer, Taken) and answer.hello.version == n.VERSION_NUMBERS[version]:
            if answer.hello.suite not in suites:
                self._doubt(version, f"it chose suite 0x{answer.hello.suite:04X}, which was not offered")
                return
            await self._version(version, _PARTS_OF_OLD, (answer.hello.suite,))

    async def _ssl2(self) -> None:
        kinds = tuple(suite.code for suite in suites_for("SSLv2"))
        try:
            hello = await self._ssl2_answer(kinds)
        except LineError as error:
            if error.kind != "closed":  # who closes on an SSL 2.0 hello does not speak it
                self._doubt("SSLv2", error.why)
            return
        except WireError:
            return  # an alert of a newer version, or no TLS at all
        if hello is not None and hello.version == n.VERSION_NUMBERS["SSLv2"]:
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
                raise LineError("timeout", "no answer to an SSL 2.0 hello") from None
        return None

    async def _newest(self) -> None:
        """TLS 1.3: its suites and groups at the same time, since each answer tells one of both."""
        suites = [suite.code for suite in suites_for("TLSv1.3")]
        first = await self._newest_first(suites)
        if first is None:
            return
        taken, groups = [first.hello.suite], list[int]()
        if first.hello.group is None:
            self.found.groups_doubt = "it did not name a group"
        else:
            groups.append(first.hello.group)
            self.found.groups = groups
        rest = [code for code in suites if code not in taken]
        chains = await asyncio.gather(
            self._newest_chain([g for g in _CLASSIC if g not in groups], suites, taken, rest),
            self._newest_chain([g for g in _FINITE if g not in groups], suites, taken, None),
            self._newest_chain([g for g in _RARE if g not in groups], suites, taken, None),
        )
        self.found.groups = groups + [group for chain in chains for group in chain]
        self.found.suites["TLSv1.3"] = tuple(taken)

    async def _newest_first(self, suites: list[int]) -> Taken | None:
        """The first answer in TLS 1.3, if it is spoken; whoever waits to know that goes on."""
        try:
            first = await self._ask(self._offer("TLSv1.3", suites, groups=(*_CLASSIC, *_FINITE, *_RARE)))
            if isinstance(first, NoAnswer):
                self._doubt("TLSv1.3", first.why)
            if not isinstance(first, Taken) or first.hello.version != n.VERSION_NUMBERS["TLSv1.3"]:
                return None
            if first.hello.suite not in suites:
                self._doubt("TLSv1.3", f"it chose suite 0x{first.hello.suite:04X}, which was not offered")
                return None
            self.found.suites["TLSv1.3"] = (first.hello.suite,)
            return first
        finally:
            self._newest_known.set()

    async def _newest_chain(
        self, left: list[int], suites: list[int], taken: list[int], rest: list[int] | None
    ) -> list[int]:
        """The groups of ``left`` that are taken. ``rest``: suites still to be asked for on the way, moved to ``taken`` as
        they are; None: another chain does it."""
        found: list[int] = []
        spare = [suites[0]] if not taken else taken[:1]
        while left or rest:
            offered = rest or suites
            answer = await self._ask(self._offer("TLSv1.3", offered, groups=left or found or _CLASSIC))
            match answer:
                case Taken() if answer.hello.suite in offered:
                    if rest:
                        rest.remove(answer.hello.suite)
                        taken.append(answer.hello.suite)
                    if answer.hello.group in left:
                        left.remove(answer.hello.group)
                        found.append(answer.hello.group)
                    elif left and answer.hello.group is not None:
                        self.found.groups_doubt = f"it chose group {answer.hello.group}, which was not offered"
                        return found
                case Taken():
                    self._doubt("TLSv1.3", f"it chose suite 0x{answer.hello.suite:04X}, which was not offered")
                    return found
                case NoAnswer():
                    self.found.groups_doubt = answer.why
                    if rest:
                        self._doubt("TLSv1.3", answer.why)
                    return found
                case Refused() if rest and left:
                    # Either ran out: each is asked for once more, with what is known of the other.
                    good = found or self.found.groups
                    _, more = await asyncio.gather(
                        self._newest_suites(rest, good, taken), self._newest_chain(left, spare, taken, None)
                    )
                    return found + more
                case _:
                    return found
        return found

    async def _newest_suites(self, rest: list[int], groups: Sequence[int], taken: list[int]) -> None:
        """Those of ``rest`` that are taken with groups that are."""
        while rest:
            answer = await self._ask(self._offer("TLSv1.3", rest, groups=groups or _CLASSIC))
            if not isinstance(answer, Taken) or answer.hello.suite not in rest:
                if isinstance(answer, NoAnswer):
                    self._doubt("TLSv1.3", answer.why)
                return
            rest.remove(answer.hello.suite)
            taken.append(answer.hello.suite)

    # What else an answer tells

    def _look(self, answer: Taken) -> None:
        """Single facts that any answer may tell."""
        found, hello = self.found, answer.hello
        version = n.VERSION_NAMES.get(hello.version)
        suite = SUITES_BY_CODE.get(hello.suite)
        if version is None or version == "TLSv1.3":
            return
        found.compression = bool(found.compression) or hello.compression != 0
        secure = n.RENEGOTIATION_INFO in hello.extensions
        found.secure_renegotiation = (
            secure if found.secure_renegotiation is None else found.secure_renegotiation and secure
        )
        if version == "TLSv1.2":
            extended = n.EXTENDED_MASTER_SECRET in hello.extensions
            found.master_secret = extended if found.master_secret is None else found.master_secret and extended
        found.tickets = bool(found.tickets) or n.SESSION_TICKET in hello.extensions
        found.asks_for_certificate = bool(found.asks_for_certificate) or answer.asks_for_certificate
        try:
            sent, exchange = answer.certificates(), None if suite is None else answer.key_exchange(suite)
        except WireError as error:
            found.problems.append(f"a message that cannot be read: {error}")
            return
        if sent is not None and sent.chain:
            kind = "RSA" if suite is None or suite.authentication is None else suite.authentication
            known = found.chains.get(kind)
            if known is None or (known.staple is None and sent.staple is not None):
                found.chains[kind] = sent
            found.stapled = bool(found.stapled) or sent.staple is not None
        if exchange is None:
            return
        if exchange.prime is not None and exchange.prime not in found.dh_primes:
            found.dh_primes.append(exchange.prime)
        if exchange.scheme is not None and exchange.scheme not in found.schemes:
            found.schemes.append(exchange.scheme)
        if exchange.group is not None and exchange.group not in found.groups:
            found.groups.append(exchange.group)

    async def _old_schemes(self, authentication: str) -> None:
        """Which schemes with old digests the server signs with, for one kind of key."""
        await self._signer_known[authentication].wait()
        old = [s.code for s in SCHEMES if s.key in _SIGNED_WITH[authentication] and s.digest in _OLD_DIGESTS]
        await self._scheme_chain(authentication, old + [n.RSA_MD5] * (authentication == "RSA"))

    async def _good_schemes(self, authentication: str, after: asyncio.Task[None]) -> None:
        """The others, ``after`` the old ones, side by side by how they pad."""
        await asyncio.wait({after})
        good = [s for s in SCHEMES if s.key in _SIGNED_WITH[authentication] and s.digest not in _OLD_DIGESTS]
        padded = [s.code for s in good if s.name.startswith("rsa_pss")]
        others = [s.code for s in good if s.code not in padded]
        await asyncio.gather(*(self._scheme_chain(authentication, part, is_good=True) for part in (padded, others)))

    async def _scheme_chain(self, authentication: str, left: list[int], *, is_good: bool = False) -> None:
        suites = list(self._signers[authentication])
        left = [code for code in left if code not in self.found.schemes]
        while suites and left:
            if not await self._has_room(is_last=is_good):
                self._leave_schemes(is_good)
                return
            answer = await self._ask(self._offer("TLSv1.2", suites, schemes=tuple(left)))
            match answer:
                case Taken():
                    exchange = _exchange_of(answer)
                    if exchange is None or exchange.scheme not in left:
                        return  # it signs with what was not offered, which is noted, or does not say
                    left.remove(exchange.scheme)
                case NoAnswer():
                    self.found.schemes_doubt = answer.why
                    return
                case _:
                    return

    def _leave_schemes(self, is_good: bool) -> None:
        """No room is left to ask for all: nothing is judged by a good one, and one bad one is enough."""
        note = "not every signature scheme was asked for, so that connections stay few"
        if is_good:
            if note not in self.found.problems:
                self.found.problems.append(note)
        elif not any(code in _BAD_SCHEMES for code in self.found.schemes):
            self.found.schemes_doubt = self.found.schemes_doubt or note

    async def _old_groups(self) -> None:
        """Curves of TLS 1.2 and older, less those that are known from TLS 1.3."""
        await self._versions_known.wait()
        version = next((v for v in ("TLSv1.2", "TLSv1.1", "TLSv1") if v in self.found.suites), None)
        if version is None:
            return
        suites = [c for c in self.found.suites[version] if (s := SUITES_BY_CODE.get(c)) and s.key_exchange == "ECDHE"]
        left = [group for group in _CURVES if group not in self.found.groups]
        if "TLSv1.3" in self.found.suites:
            left = [group for group in left if group not in _CLASSIC]
        while suites and left:
            if not await self._has_room():
                self.found.groups_doubt = "not every group was asked for, so that connections stay few"
                return
            answer = await self._ask(self._offer(version, suites, groups=tuple(left)))
            match answer:
                case Taken():
                    exchange = _exchange_of(answer)
                    if exchange is None or exchange.group not in left:
                        return  # a server that does not heed the list: what it chose is noted
                    left.remove(exchange.group)
                case NoAnswer():
                    self.found.groups_doubt = answer.why
                    return
                case _:
                    return

    async def _fallback(self) -> None:
        """RFC 7507, 3: a hello below the best version, with the signal, is refused by a server that knows it."""
        taken = [version for version in PROTOCOL_VERSIONS if version in self.found.suites and version != "SSLv2"]
        if len(taken) < 2 or PROTOCOL_VERSIONS.index(taken[0]) >= PROTOCOL_VERSIONS.index("TLSv1.2"):
            return
        answer = await self._ask(self._offer(taken[0], self.found.suites[taken[0]], fallback=True))
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
        answer = await self._ask(self._offer(version, self.found.suites[version], alpn=(b"h2", b"http/1.1")))
        if isinstance(answer, Taken):
            self.found.protocol_seen = True
            chosen = answer.hello.extensions.get(n.ALPN)
            try:
                self.found.protocol = None if chosen is None else decode_protocol(chosen)
            except WireError as error:
                self.found.problems.append(f"ALPN: {error}")

    # Order

    async def _prefers(self, version: ProtocolVersion, offered: Sequence[int]) -> int | None:
        """The suite that is chosen of ``offered``."""
        answer = await self._ask(self._offer(version, offered))
        return answer.hello.suite if isinstance(answer, Taken) and answer.hello.suite in offered else None

    async def _order(self, all_of_newest: asyncio.Task[None]) -> None:
        """Who decides the order, and the server's own; asked in the newest version that has two suites below TLS 1.3,
        or in TLS 1.3, when ``all_of_newest`` is known of it."""
        found, asked = self.found, None
        for version in ("TLSv1.2", *_OLD_VERSIONS):
            chains = [chain for chain in self._parts.get(version, []) if chain]
            if sum(map(len, chains)) < 2:
                continue
            if asked is None:
                asked = version
                ordered = await find_order(
                    partial(self._prefers, version), chains, lambda more: self.listener.room >= more + _RESERVE
                )
                found.order, found.order_doubt, found.order_note = ordered.who, ordered.doubt, ordered.note
                suites = ordered.suites
            else:  # servers have one order for all versions
                rank = {code: at for at, code in enumerate(found.suites[asked])}
                suites = tuple(sorted(found.suites[version], key=lambda code: rank.get(code, len(rank))))
            if suites is not None:
                found.suites[version] = suites
        if asked is None:
            await all_of_newest
        newest = found.suites.get("TLSv1.3", ())
        if asked is None and len(newest) > 1:
            chosen = await self._prefers("TLSv1.3", (newest[1], newest[0]))
            found.order = None if chosen is None else "server" if chosen == newest[0] else "client"
        elif asked is None and found.suites and not found.doubts:
            # In SSL 2.0 the client chooses; one suite a version leaves no choice.
            found.order = "client" if set(found.suites) == {"SSLv2"} else "server"

    async def _doubt_closings(self) -> None:
        """A closed connection is a no, unless the server has stopped answering at all: one hello that was taken before is
        sent once more, and if that is not taken now, nothing that ended in a closed connection counts."""
        if not self.closed_unsaid or self._good is None:
            return
        if not isinstance(await self._ask(self._good), Taken):
            for version in PROTOCOL_VERSIONS:
                self._doubt(version, "the server stopped answering in the middle")
            self.found.groups_doubt = self.found.groups_doubt or "the server stopped answering in the middle"
            self.found.schemes_doubt = self.found.schemes_doubt or "the server stopped answering in the middle"
