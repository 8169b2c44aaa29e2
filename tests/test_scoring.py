"""The score: an example by hand, and the laws it must keep."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st
from msgspec import structs

from rupex.audit.score import Score, Tally, band_of, lost_points, meets, repaired, score, value_of
from rupex.audit.steps import first_steps

TOLERANCE = 1e-9  # sums of floats in different orders


class ByHandTest(unittest.TestCase):
    def test_an_example_worked_out_on_paper(self) -> None:
        tallies = [
            Tally("a", 6, passed=3, failed=1, ceiling=59),
            Tally("b", 3, passed=1, unknown=1),
            Tally("c", 1, unknown=2, unknown_ceiling=39, because="not read"),
            Tally("d", 10),
        ]
        result = score(tallies)
        # known weight 6 + 3/2 = 7.5 of 10; passed 6·3/4 + 3/2 = 6
        self.assertAlmostEqual(result.uncapped or 0, 80.0)
        self.assertAlmostEqual(result.coverage, 0.75)
        self.assertAlmostEqual(result.low, 39.0)  # 60 without the ceiling in doubt
        self.assertAlmostEqual(result.high, 59.0)  # 85 without the ceiling
        self.assertEqual((result.value, result.band), (59.0, "weak"))
        assert result.ceiling is not None
        assert result.low_ceiling is not None
        self.assertEqual((result.ceiling.control, result.low_ceiling.because), ("a", "not read"))
        self.assertAlmostEqual(result.ceiling.lost, 21.0)
        self.assertAlmostEqual(lost_points(tallies[0], tallies), 20.0)

    def test_without_evidence_there_is_no_score_and_no_gate_is_met(self) -> None:
        for tallies in ([], [Tally("a", 6, unknown=2)]):
            result = score(tallies)
            self.assertIsNone(result.value)
            self.assertIsNone(result.band)
            self.assertEqual((result.low, result.high, result.coverage), (0.0, 100.0, 0.0))
            self.assertFalse(meets(result, 0, 0))

    def test_bands_and_gates_use_one_decimal(self) -> None:
        for value, band in ((39.94, "open"), (39.95, "weak"), (59.96, "fair"), (75, "firm"), (89.96, "hardened")):
            with self.subTest(value):
                self.assertEqual(band_of(value), band)
        result = score([Tally("a", 1, passed=8999, failed=1001)])
        self.assertTrue(meets(result, 90.0, 0.5))
        self.assertFalse(meets(result, 90.1, 0.5))
        self.assertFalse(meets(score([Tally("a", 1, passed=1), Tally("b", 9, unknown=1)]), 50, 0.6))


CEILINGS = st.sampled_from([None, 19.0, 39.0, 59.0, 89.0])


@st.composite
def tallies(draw: st.DrawFn) -> list[Tally]:
    """Controls with places, and ceilings where something fails or is unknown; a control's own ceiling for both."""
    found = []
    for index in range(draw(st.integers(1, 6))):
        counts = [draw(st.integers(0, 4)) for _ in range(4)]
        ceiling = draw(CEILINGS)
        found.append(
            Tally(
                f"c{index}", draw(st.sampled_from([0.5, 1.0, 3.0, 6.0, 10.0])),
                passed=counts[0], failed=counts[1], unknown=counts[2], waived=counts[3],
                ceiling=ceiling if counts[1] else None, unknown_ceiling=ceiling if counts[2] else None,
                waived_ceiling=ceiling if counts[3] else None,
            )
        )  # fmt: skip
    return found


class LawsTest(unittest.TestCase):
    @given(tallies())
    def test_low_value_and_high_are_in_order(self, given_tallies: list[Tally]) -> None:
        result = score(given_tallies)
        if result.value is not None:
            self.assertLessEqual(result.low, result.value + TOLERANCE)
            self.assertLessEqual(result.value, result.high + TOLERANCE)
        self.assertTrue(0 <= result.low <= result.high + TOLERANCE <= 100 + 2 * TOLERANCE)

    @given(tallies(), st.data())
    def test_a_repair_never_lowers_anything(self, given_tallies: list[Tally], data: st.DataObject) -> None:
        before, after = self._with_change(given_tallies, data, "failed", "passed")
        if before.value is not None and after.value is not None:
            self.assertLessEqual(before.value, after.value + TOLERANCE)
        self.assertLessEqual(before.low, after.low + TOLERANCE)
        self.assertLessEqual(before.high, after.high + TOLERANCE)

    @given(tallies(), st.data(), st.sampled_from(["passed", "failed"]))
    def test_learning_an_unknown_never_widens_the_bounds(
        self, given_tallies: list[Tally], data: st.DataObject, outcome: str
    ) -> None:
        before, after = self._with_change(given_tallies, data, "unknown", outcome)
        self.assertLessEqual(before.low, after.low + TOLERANCE)
        self.assertGreaterEqual(before.high + TOLERANCE, after.high)

    @given(tallies(), st.data())
    def test_hiding_a_failure_never_raises_the_low_bound(self, given_tallies: list[Tally], data: st.DataObject) -> None:
        before, after = self._with_change(given_tallies, data, "failed", "unknown")
        self.assertGreaterEqual(before.low + TOLERANCE, after.low)

    @given(tallies())
    def test_the_ledger_adds_up_to_what_is_missing(self, given_tallies: list[Tally]) -> None:
        result = score(given_tallies)
        if result.value is not None:
            lost = sum(lost_points(t, given_tallies) for t in given_tallies)
            lost += result.ceiling.lost if result.ceiling else 0
            self.assertAlmostEqual(100 - result.value, lost, places=6)

    @given(tallies())
    def test_each_step_gains_and_leads_to_the_value_it_tells(self, given_tallies: list[Tally]) -> None:
        value = value_of(given_tallies)
        done: set[str] = set()
        for step in first_steps(given_tallies):
            done.update(step.controls)
            self.assertGreater(step.gain, 0)
            self.assertAlmostEqual(step.value, value + step.gain)
            value = value_of(repaired(given_tallies, done))
            self.assertAlmostEqual(step.value, value)

    def _with_change(self, before: list[Tally], data: st.DataObject, source: str, target: str) -> tuple[Score, Score]:
        """Scores before and after one place of one control moves from ``source`` to ``target``."""
        movable = [index for index, tally in enumerate(before) if getattr(tally, source)]
        if not movable:
            return score(before), score(before)
        index = data.draw(st.sampled_from(movable))
        tally = before[index]
        own = {c for c in (tally.ceiling, tally.unknown_ceiling, tally.waived_ceiling) if c is not None}
        moved = structs.replace(tally, **{source: getattr(tally, source) - 1, target: getattr(tally, target) + 1})
        ceiling = next(iter(own), None)
        moved = structs.replace(
            moved, ceiling=ceiling if moved.failed else None, unknown_ceiling=ceiling if moved.unknown else None
        )
        return score(before), score([*before[:index], moved, *before[index + 1 :]])


if __name__ == "__main__":
    unittest.main()
