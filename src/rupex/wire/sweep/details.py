"""Details: schemes of signatures, and groups of TLS 1.2 and older. They are asked with what other questions leave of the
connections that a probe may make."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from functools import partial
from operator import attrgetter
from typing import Final

from rupex.tls.signatures import SCHEMES
from rupex.wire.codec import codepoints
from rupex.wire.codec.answers import KeyExchange
from rupex.wire.sweep.query import Answer, NoAnswer, Taken
from rupex.wire.sweep.questions import CLASSIC, CURVES, Questions, exchange_of
from rupex.wire.sweep.result import SUITES_BY_CODE

RESERVE: Final = 6
_RESERVES: Final = (10, RESERVE, 4)
"""Connections that details leave to questions that matter more: until all suites are known; until all else is asked; and
what controls do not want to know leaves these to what they do."""

_NO_ROOM: Final = "not all were asked for, so that connections stay few"
_OLD_DIGESTS: Final = ("SHA-1", "SHA-224")
_SIGNED_WITH: Final = {"RSA": ("RSA",), "ECDSA": ("ECDSA", "Ed25519", "Ed448"), "DSS": ("DSA",)}


class Details:
    """Schemes and groups that ``questions`` find, while a sweep tells which suites are taken."""

    def __init__(self, questions: Questions) -> None:
        self.ask, self.listener, self.found = questions.ask, questions.listener, questions.found
        self._signers: dict[str, list[int]] = {authentication: [] for authentication in _SIGNED_WITH}
        self._signer_known = {authentication: asyncio.Event() for authentication in _SIGNED_WITH}
        self._stages = [(asyncio.Event(), reserve) for reserve in _RESERVES]
        (self._versions_known, _), (self._rest_asked, _), (self._judged_known, _) = self._stages

    async def run(self) -> None:
        """All of them. Where there is little room for connections, this ends only after :meth:`rest_is_asked`. Never raises for
        what a peer does."""
        async with asyncio.TaskGroup() as beside:
            judged = [beside.create_task(self._old_groups())]
            for authentication in _SIGNED_WITH:
                judged.append(beside.create_task(self._old_schemes(authentication)))
                beside.create_task(self._good_schemes(authentication, judged[-1]))
            await asyncio.wait(judged)
            self._judged_known.set()

    def rest_is_asked(self) -> None:
        """Nothing but details is left to be asked: all room is theirs."""
        self._rest_asked.set()

    def suite_is_taken(self, code: int) -> None:
        """A suite is taken in TLS 1.2: with those that sign, schemes can be asked for."""
        suite = SUITES_BY_CODE[code]
        if suite.key_exchange in ("ECDHE", "DHE") and suite.authentication in self._signers:
            self._signers[suite.authentication].append(code)
            self._signer_known[suite.authentication].set()

    def suites_are_known(self) -> None:
        """No more suites will be found of TLS 1.2 and older."""
        for event in self._signer_known.values():
            event.set()

    def versions_are_known(self) -> None:
        """It is known of each version whether it is taken."""
        self._versions_known.set()

    async def _has_room(self, *, is_last: bool = False) -> bool:
        """Whether a detail may be asked for; ``is_last``: one that controls do not want to know."""
        for end, reserve in self._stages if is_last else self._stages[:-1]:
            if self.listener.room > reserve:
                return True
            await end.wait()
        return self.listener.room > 1  # the last one shows whether the server still answers

    async def _old_schemes(self, authentication: str) -> None:
        """Which schemes with old digests the server signs with, for one kind of key."""
        await self._signer_known[authentication].wait()
        old = [s.code for s in SCHEMES if s.key in _SIGNED_WITH[authentication] and s.digest in _OLD_DIGESTS]
        await self._scheme_chain(authentication, old + [codepoints.RSA_MD5] * (authentication == "RSA"))

    async def _good_schemes(self, authentication: str, after: asyncio.Task[None]) -> None:
        """The others, ``after`` the old ones, side by side by how they pad."""
        await asyncio.wait({after})
        good = [s for s in SCHEMES if s.key in _SIGNED_WITH[authentication] and s.digest not in _OLD_DIGESTS]
        padded = [s.code for s in good if s.name.startswith("rsa_pss")]
        others = [s.code for s in good if s.code not in padded]
        await asyncio.gather(*(self._scheme_chain(authentication, part, is_good=True) for part in (padded, others)))

    async def _scheme_chain(self, authentication: str, left: list[int], *, is_good: bool = False) -> None:
        suites = list(self._signers[authentication])
        if not suites:
            return
        left = [code for code in left if code not in self.found.schemes]
        ask = partial(self.ask, "TLSv1.2", suites)
        why = await self._exhaust(left, lambda: ask(schemes=tuple(left)), attrgetter("scheme"), is_last=is_good)
        if why != _NO_ROOM or not is_good:
            self.found.schemes_doubt = self.found.schemes_doubt or why
        elif (note := f"signature schemes: {why}") not in self.found.problems:
            self.found.problems.append(note)  # nothing is judged by the good ones

    async def _old_groups(self) -> None:
        """Curves of TLS 1.2 and older, less those that are known from TLS 1.3."""
        await self._versions_known.wait()
        version = next((v for v in ("TLSv1.2", "TLSv1.1", "TLSv1") if v in self.found.suites), None)
        if version is None:
            return
        suites = [c for c in self.found.suites[version] if (s := SUITES_BY_CODE.get(c)) and s.key_exchange == "ECDHE"]
        left = [group for group in CURVES if group not in self.found.groups]
        if "TLSv1.3" in self.found.suites:
            left = [group for group in left if group not in CLASSIC]
        if suites:
            ask = partial(self.ask, version, suites)
            why = await self._exhaust(left, lambda: ask(groups=tuple(left)), attrgetter("group"))
            self.found.groups_doubt = self.found.groups_doubt or why

    async def _exhaust(
        self,
        left: list[int],
        ask: Callable[[], Awaitable[Answer]],
        chosen_in: Callable[[KeyExchange], int | None],
        *,
        is_last: bool = False,
    ) -> str:
        """``ask`` with what is ``left`` until nothing of it is taken; what is taken, ``found`` has. Why not all could be told,
        an empty text for nothing."""
        while left:
            if not await self._has_room(is_last=is_last):
                return _NO_ROOM
            answer = await ask()
            if isinstance(answer, NoAnswer):
                return answer.why
            exchange = exchange_of(answer) if isinstance(answer, Taken) else None
            chosen = None if exchange is None else chosen_in(exchange)
            if chosen not in left:
                return ""  # refused, or chosen without heed of the list, which is noted
            left.remove(chosen)
        return ""
