"""Questions to a listener: hellos that are sent, what any answer tells by itself, and why there was none."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Final

from rupex.model.endpoint import ProtocolVersion
from rupex.tls.groups import all_groups
from rupex.tls.signatures import SCHEMES
from rupex.tls.suites import CipherSuite
from rupex.wire.codec import codepoints
from rupex.wire.codec.answers import KeyExchange, ServerHello
from rupex.wire.codec.hello import Offer
from rupex.wire.codec.octets import WireError
from rupex.wire.connection.connection import Listener
from rupex.wire.sweep.query import Answer, NoAnswer, Refused, Taken, ask
from rupex.wire.sweep.result import SUITES_BY_CODE, SweepResult

_SECOND_TRIES: Final = 3
"""Hellos that are sent again when no answer came in time, although others were answered."""

_ALL_SCHEMES: Final = tuple(s.code for s in SCHEMES)

# Groups in parts, those together that servers take together, so that a part is most often taken whole or not at all.
CLASSIC: Final = tuple(g.code for name in ("x25519", "secp256r1", "x448", "secp521r1", "secp384r1")
                       for g in all_groups() if g.name == name)  # fmt: skip
FINITE: Final = tuple(group.code for group in all_groups() if group.kind == "ff")
RARE: Final = tuple(g.code for g in all_groups() if g.code not in CLASSIC and g.kind != "ff")
CURVES: Final = tuple(group.code for group in all_groups() if group.kind == "ec" and not group.name.endswith("tls13"))


def exchange_of(answer: Taken) -> KeyExchange | None:
    """The parameters that an answer has, None where they are missing or broken."""
    suite = SUITES_BY_CODE.get(answer.hello.suite)
    try:
        return None if suite is None else answer.key_exchange(suite)
    except WireError:
        return None


class Questions:
    """Questions to ``listener`` for the server name ``name`` (None: for no name), and what is ``found``.

    ``good``: the first offer that was taken; ``closed_unsaid``: whether a connection was closed without an answer.
    """

    def __init__(self, listener: Listener, name: str | None) -> None:
        self.listener, self.name = listener, name
        self.found = SweepResult()
        self.good: Offer | None = None
        self.closed_unsaid = False
        self._second_tries = _SECOND_TRIES

    async def ask(self, version: ProtocolVersion, suites: Iterable[int], **more: Any) -> Answer:
        """The answer to an offer of ``suites`` in ``version``; ``more``: fields of :class:`Offer` that are not as usual."""
        if version == "TLSv1.3":
            more.setdefault("groups", CLASSIC)
        elif version != "SSLv3":
            more.setdefault("groups", CURVES)
        if version in ("TLSv1.2", "TLSv1.3"):
            more.setdefault("schemes", _ALL_SCHEMES)
        name = None if version == "SSLv3" else self.name
        return await self.put(Offer(version=version, suites=tuple(suites), name=name, bare=version == "SSLv3", **more))

    async def put(self, offer: Offer) -> Answer:
        """The answer to ``offer``, and into ``found`` what it tells by itself."""
        answer = await ask(self.listener, offer)
        if isinstance(answer, NoAnswer) and answer.kind == "timeout" and self.good is not None and self._second_tries:
            self._second_tries -= 1  # a server that has one connection at a time may have been busy with another
            answer = await ask(self.listener, offer)
        if isinstance(answer, Taken):
            self.good = self.good or offer
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

    def doubt(self, version: ProtocolVersion, why: str) -> None:
        """Whether ``version`` is taken, or all of its suites, could not be told."""
        self.found.doubts.setdefault(version, why)

    def note(self, words: str) -> None:
        """What a person may want to know of the peer, told once."""
        if words not in self.found.problems:
            self.found.problems.append(words)

    def _look(self, answer: Taken) -> None:
        """Single facts that any answer may tell."""
        found, hello = self.found, answer.hello
        version = codepoints.VERSION_NAMES.get(hello.version)
        suite = SUITES_BY_CODE.get(hello.suite)
        if version is None or version == "TLSv1.3":
            return
        self._look_at_extensions(hello, version)
        if answer.asks_for_certificate or answer.is_whole:
            found.asks_for_certificate = bool(found.asks_for_certificate) or answer.asks_for_certificate
        self._look_at_certificates(answer, suite)
        if suite is not None:
            self._look_at_key_exchange(answer, suite)

    def _look_at_extensions(self, hello: ServerHello, version: ProtocolVersion) -> None:
        found = self.found
        found.compression = bool(found.compression) or hello.compression != 0
        found.tickets = bool(found.tickets) or codepoints.SESSION_TICKET in hello.extensions
        found.secure_renegotiation = (
            found.secure_renegotiation is not False and codepoints.RENEGOTIATION_INFO in hello.extensions
        )
        if version == "TLSv1.2":
            found.master_secret = (
                found.master_secret is not False and codepoints.EXTENDED_MASTER_SECRET in hello.extensions
            )

    def _look_at_key_exchange(self, answer: Taken, suite: CipherSuite) -> None:
        found = self.found
        try:
            exchange = answer.key_exchange(suite)
        except WireError as error:
            why = f"unreadable key exchange message: {error}"
            self.note(why)
            found.schemes_doubt, found.groups_doubt = found.schemes_doubt or why, found.groups_doubt or why
            return
        if exchange is None:
            return
        for value, seen in (
            (exchange.prime, found.dh_primes), (exchange.scheme, found.schemes), (exchange.group, found.groups)
        ):  # fmt: skip
            if value is not None and value not in seen:
                seen.append(value)

    def _look_at_certificates(self, answer: Taken, suite: CipherSuite | None) -> None:
        found = self.found
        try:
            sent = answer.certificates()
        except WireError as error:
            self.note(f"unreadable certificate message: {error}")
            return
        if sent is not None and sent.chain:
            kind = "RSA" if suite is None or suite.authentication is None else suite.authentication
            known = found.chains.get(kind)
            if known is None or (known.staple is None and sent.staple is not None):
                found.chains[kind] = sent
            found.stapled = bool(found.stapled) or sent.staple is not None
