"""Who decides the order of suites, and the server's own order, from parts of it that are in order already."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from itertools import pairwise

from msgspec import Struct

from rupex.wire.sweep.result import SUITES_BY_CODE, Order, is_good

Prefers = Callable[[Sequence[int]], Awaitable[int | None]]
"""Asks the server which of some suites it takes; None when it did not say."""

WithinBounds = Callable[[int], bool]
"""Whether so many connections more may be made."""

_NOT_ASKED = "the order of suites could not be asked"


class Ordered(Struct, frozen=True):
    """``who`` decides, None with a ``doubt``; ``suites`` in the server's order, None where the client decides or nobody can
    tell; ``note``: what is not known of it."""

    who: Order | None = None
    suites: tuple[int, ...] | None = None
    doubt: str = ""
    note: str = ""


async def find_order(prefers: Prefers, chains: list[list[int]], within_bounds: WithinBounds) -> Ordered:
    """The order of ``chains``, none empty and two suites in all, each in the order in which the server chose."""
    # Go and OpenSSL may move ChaCha20 to the front for a client that has it there: a comparison goes without it.
    plain = [[code for code in chain if "CHACHA20" not in SUITES_BY_CODE[code].name] for chain in chains]
    longest = max(plain if any(len(chain) > 1 for chain in plain) else chains, key=len)
    pair = (longest[-1], longest[0]) if len(longest) > 1 else (chains[1][0], chains[0][0])
    chosen = await prefers(pair)
    if chosen is None:
        return Ordered(doubt=_NOT_ASKED)
    if len(longest) > 1:
        is_client = chosen == pair[0]
    else:  # all parts have one suite: the other way round tells who decides
        other = await prefers(pair[::-1])
        if other is None:
            return Ordered(doubt=_NOT_ASKED)
        is_client = other != chosen
    if is_client:
        return Ordered("client")
    seams = list(pairwise(chains))
    answers = await asyncio.gather(*(prefers((after[0], before[-1])) for before, after in seams))
    if all(chosen == before[-1] for chosen, (before, _) in zip(answers, seams, strict=True)):
        return Ordered("server", tuple(code for chain in chains for code in chain))
    if within_bounds(sum(map(len, chains))):
        return await _merged(prefers, chains)
    return await _halves(prefers, chains)


async def _merged(prefers: Prefers, chains: list[list[int]]) -> Ordered:
    """Chains in order as one: the server is shown what is left at the head of each, and takes the next."""
    left, merged = [list(chain) for chain in chains], list[int]()
    while len(left) > 1:
        chosen = await prefers([chain[0] for chain in reversed(left)])
        if chosen is None:
            return Ordered("server", doubt=_NOT_ASKED)
        merged.append(chosen)
        for chain in left:
            if chain[0] == chosen:
                chain.pop(0)
        left = [chain for chain in left if chain]
    return Ordered("server", (*merged, *left[0]))


async def _halves(prefers: Prefers, chains: list[list[int]]) -> Ordered:
    """Where the whole order would take too many connections: whether every suite with forward secrecy and AEAD stands
    before every other. The order within these halves is then only known in part."""
    note = "the order within the better and the other suites is known in part"
    good = [code for chain in chains for code in chain if is_good(code)]
    rest = [code for chain in chains for code in chain if not is_good(code)]
    lasts = [mine[-1] for chain in chains if (mine := [code for code in chain if is_good(code)])]
    if not good or not rest:
        return Ordered("server", (*good, *rest), note=note)
    chosen = await asyncio.gather(*(prefers((*rest, last)) for last in lasts))
    if None in chosen:
        return Ordered("server", doubt=_NOT_ASKED)
    before = dict.fromkeys(code for code in chosen if code is not None and code not in lasts)
    return Ordered("server", (*before, *good, *(code for code in rest if code not in before)), note=note)
