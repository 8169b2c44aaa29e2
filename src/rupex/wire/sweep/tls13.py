"""TLS 1.3: its suites and groups, both at the same time, since each answer names one of each."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence

from rupex.wire.codec import codepoints
from rupex.wire.sweep.query import NoAnswer, Refused, Taken
from rupex.wire.sweep.questions import CLASSIC, FINITE, RARE, Questions
from rupex.wire.sweep.result import suites_for


class Tls13Sweep:
    """What ``questions`` find of TLS 1.3. ``is_known``: whether it is spoken."""

    def __init__(self, questions: Questions) -> None:
        self.ask, self.doubt, self.found = questions.ask, questions.doubt, questions.found
        self.is_known = asyncio.Event()

    async def run(self) -> None:
        """All of it. Never raises for what a peer does."""
        suites = [suite.code for suite in suites_for("TLSv1.3")]
        first = await self._first(suites)
        if first is None:
            return
        accepted, groups = [first.hello.suite], list[int]()
        if first.hello.group is None:
            self.found.groups_doubt = "it did not name a group"
        else:
            groups.append(first.hello.group)
            self.found.groups = groups
        rest = [code for code in suites if code not in accepted]
        chains = await asyncio.gather(
            self._chain([g for g in CLASSIC if g not in groups], suites, accepted, rest),
            self._chain([g for g in FINITE if g not in groups], suites, accepted, None),
            self._chain([g for g in RARE if g not in groups], suites, accepted, None),
        )
        self.found.groups = groups + [group for chain in chains for group in chain]
        self.found.suites["TLSv1.3"] = tuple(accepted)

    async def _first(self, suites: list[int]) -> Taken | None:
        """The first answer in TLS 1.3, if it is spoken; whoever waits to know that goes on."""
        try:
            first = await self.ask("TLSv1.3", suites, groups=(*CLASSIC, *FINITE, *RARE))
            if isinstance(first, NoAnswer):
                self.doubt("TLSv1.3", first.why)
            if not isinstance(first, Taken) or first.hello.version != codepoints.VERSION_NUMBERS["TLSv1.3"]:
                return None
            if first.hello.suite not in suites:
                self.doubt("TLSv1.3", f"it chose suite 0x{first.hello.suite:04X}, which was not offered")
                return None
            self.found.suites["TLSv1.3"] = (first.hello.suite,)
            return first
        finally:
            self.is_known.set()

    async def _chain(
        self, left: list[int], suites: list[int], accepted: list[int], rest: list[int] | None
    ) -> list[int]:
        """The groups of ``left`` that are taken. ``rest``: suites still to be asked for on the way, moved to ``accepted`` as
        they are; None: another chain does it."""
        found: list[int] = []
        spare = [suites[0]] if not accepted else accepted[:1]
        while left or rest:
            offered = rest or suites
            answer = await self.ask("TLSv1.3", offered, groups=left or found or CLASSIC)
            match answer:
                case Taken():
                    if not self._take(answer, offered, left, found, rest, accepted):
                        return found
                case NoAnswer():
                    self.found.groups_doubt = answer.why
                    if rest:
                        self.doubt("TLSv1.3", answer.why)
                    return found
                case Refused() if rest and left:
                    # Either ran out: each is asked for once more, with what is known of the other.
                    good = found or self.found.groups
                    _, more = await asyncio.gather(
                        self._suites(rest, good, accepted), self._chain(left, spare, accepted, None)
                    )
                    return found + more
                case _:
                    return found
        return found

    def _take(
        self,
        answer: Taken,
        offered: Sequence[int],
        left: list[int],
        found: list[int],
        rest: list[int] | None,
        accepted: list[int],
    ) -> bool:
        """Move the suite and the group of an answer to those that are taken; False where the peer chose what was not offered."""
        suite, group = answer.hello.suite, answer.hello.group
        if suite not in offered:
            self.doubt("TLSv1.3", f"it chose suite 0x{suite:04X}, which was not offered")
            return False
        if rest:
            rest.remove(suite)
            accepted.append(suite)
        if group in left:
            left.remove(group)
            found.append(group)
        elif left and group is not None:
            self.found.groups_doubt = f"it chose group {group}, which was not offered"
            return False
        return True

    async def _suites(self, rest: list[int], groups: Sequence[int], accepted: list[int]) -> None:
        """Those of ``rest`` that are taken with groups that are."""
        while rest:
            answer = await self.ask("TLSv1.3", rest, groups=groups or CLASSIC)
            if not isinstance(answer, Taken) or answer.hello.suite not in rest:
                if isinstance(answer, NoAnswer):
                    self.doubt("TLSv1.3", answer.why)
                return
            rest.remove(answer.hello.suite)
            accepted.append(answer.hello.suite)
