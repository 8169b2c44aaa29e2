"""Finding a server's order from chains that are in order: against a server that is nothing but an order."""

from __future__ import annotations

import asyncio
import unittest
from collections.abc import Sequence

from hypothesis import given
from hypothesis import strategies as st

from rupex.wire.sweep.order import Ordered, find_order
from rupex.wire.sweep.result import is_good, suites_for

SUITES = [suite.code for suite in suites_for("TLSv1.2")][:60]


def ask(order: Sequence[int], chains: list[list[int]], *, client: bool = False, bounds: bool = True) -> Ordered:
    async def prefers(offered: Sequence[int]) -> int | None:
        return offered[0] if client else min(offered, key=order.index)

    return asyncio.run(find_order(prefers, chains, lambda _: bounds))


@st.composite
def orders(draw: st.DrawFn) -> tuple[list[int], list[list[int]]]:
    """A server's order, and chains of it: dealt out at random, each in that order."""
    order = draw(st.permutations(SUITES).flatmap(lambda p: st.integers(2, 30).map(lambda count: list(p)[:count])))
    piles = draw(st.lists(st.integers(0, 5), min_size=len(order), max_size=len(order)))
    chains = [[code for code, pile in zip(order, piles, strict=True) if pile == which] for which in range(6)]
    return order, [chain for chain in chains if chain]


class OrderTest(unittest.TestCase):
    @given(orders())
    def test_the_whole_order_is_found_however_the_chains_lie(self, case: tuple[list[int], list[list[int]]]) -> None:
        order, chains = case
        found = ask(order, chains)
        self.assertEqual((found.who, found.suites, found.doubt), ("server", tuple(order), ""))

    @given(orders())
    def test_a_client_that_decides_is_told_from_a_server(self, case: tuple[list[int], list[list[int]]]) -> None:
        self.assertEqual(ask(*case, client=True), Ordered("client"))

    @given(orders())
    def test_within_tight_bounds_a_better_suite_behind_another_is_still_seen(
        self, case: tuple[list[int], list[list[int]]]
    ) -> None:
        order, chains = case
        found = ask(order, chains, bounds=False).suites or ()
        self.assertCountEqual(found, order)

        def is_sorted(codes: Sequence[int]) -> bool:
            good = [is_good(code) for code in codes]
            return good == sorted(good, reverse=True)

        self.assertEqual(is_sorted(found), is_sorted(order))


if __name__ == "__main__":
    unittest.main()
