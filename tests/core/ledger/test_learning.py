"""What the shop's own past teaches."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.ledger.learning import (
    ENOUGH_FOR_PACE,
    ENOUGH_FOR_SCRAP,
    LEAST_DELAY_S,
    NEWEST,
    EndedBuild,
    history_of,
    learned_paces,
    shop_history,
)
from chronarch.core.planning.shifts import Staffing
from chronarch.core.planning.shop_history import USUAL_SCRAP

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
GOOD = EndedBuild("Lantern 220", "Anchor", "", 1000.0, 1100.0, True, "good", NINE, NINE + timedelta(minutes=4), False)
STAFFED = {"": Staffing(((NINE, NINE + timedelta(hours=8)),))}


class Learning(unittest.TestCase):
    def test_a_pace_is_believed_once_enough_builds_have_shown_it(self) -> None:
        few = [GOOD] * (ENOUGH_FOR_PACE - 1)
        self.assertEqual(learned_paces(few), {})
        odd = replace(GOOD, busy_s=9000.0)
        found = learned_paces([odd, *few, GOOD])["Lantern 220"]
        self.assertAlmostEqual(found.pace, 1.1, msg="one odd build does not move the median")
        self.assertEqual(found.builds, ENOUGH_FOR_PACE + 1)

    def test_what_was_not_completed_or_has_no_plan_says_nothing_of_the_pace(self) -> None:
        useless = (replace(GOOD, completed=False), replace(GOOD, planned_s=0.0), replace(GOOD, busy_s=0.0))
        self.assertEqual(learned_paces(useless * 5), {})

    def test_only_the_newest_builds_count(self) -> None:
        builds = [GOOD] * NEWEST + [replace(GOOD, busy_s=5000.0)] * (3 * NEWEST)
        self.assertAlmostEqual(learned_paces(builds)["Lantern 220"].pace, 1.1)

    @given(st.lists(st.floats(0.5, 3.0), min_size=ENOUGH_FOR_PACE, max_size=40), st.floats(10.0, 1e5))
    def test_the_draws_are_relative_to_the_pace_whatever_builds_are_planned_to_take(
        self, ratios: list[float], planned: float
    ) -> None:
        builds = [replace(GOOD, planned_s=planned, busy_s=planned * r) for r in ratios]
        draws = shop_history(builds, STAFFED).paces["Lantern 220"]
        self.assertEqual(len(draws), len(ratios))
        self.assertLessEqual(min(draws), 1.0 + 1e-9)
        self.assertGreaterEqual(max(draws), 1.0 - 1e-9)
        self.assertAlmostEqual(max(draws) / min(draws), max(ratios) / min(ratios), places=6)

    def test_a_bed_waits_while_somebody_is_there_and_one_let_go_does_not_wait(self) -> None:
        night = replace(GOOD, ready_at=NINE - timedelta(hours=6), cleared_at=NINE + timedelta(minutes=10))
        at_once = replace(GOOD, cleared_at=NINE + timedelta(seconds=1))
        builds = [GOOD, night, at_once, replace(GOOD, let_go=True), replace(GOOD, ready_at=None)]
        self.assertEqual(shop_history(builds, STAFFED).delays_s, [240.0, 600.0, LEAST_DELAY_S])

    def test_the_share_of_scrap_is_the_usual_one_until_enough_were_judged(self) -> None:
        scrap = replace(GOOD, verdict="scrap")
        few = [scrap, *[GOOD] * (ENOUGH_FOR_SCRAP - 2)]
        self.assertEqual(shop_history(few, STAFFED).scrap, USUAL_SCRAP)
        self.assertEqual(shop_history([*few, replace(GOOD, verdict="")], STAFFED).scrap, USUAL_SCRAP)
        self.assertEqual(shop_history([*few, GOOD], STAFFED).scrap, 1 / ENOUGH_FOR_SCRAP)

    def test_a_history_adds_up_by_model_and_machine(self) -> None:
        other = replace(GOOD, model="Lantern 300", machine="Verge", verdict="scrap", completed=False)
        found = history_of([GOOD, replace(GOOD, machine="Bezel", verdict=""), other])
        self.assertEqual((found.builds, found.good, found.scrap, found.unjudged), (3, 1, 1, 1))
        self.assertEqual(found.machines, {"Anchor": 1, "Bezel": 1, "Verge": 1})
        first, second = found.models
        self.assertEqual((first.completed, first.planned_s, first.real_s), (2, 2000.0, 2200.0))
        self.assertEqual((second.model, second.completed, second.real_s), ("Lantern 300", 0, 0.0))
        self.assertEqual(history_of([]).models, [])


if __name__ == "__main__":
    unittest.main()
