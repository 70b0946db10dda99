"""Upkeep: when it is due, where it is put, how long parts last, and what a calibration says."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta
from math import exp, inf

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.upkeep.calibration import CalibrationVerdict, judge, limits
from chronarch.core.upkeep.due import DueRules, Use, days_left, standing, weight_of
from chronarch.core.upkeep.placing import best_place
from chronarch.core.upkeep.wear import Life, fit

MONDAY = datetime(2026, 10, 19, tzinfo=UTC)
HOUR = timedelta(hours=1)


def at(hour: float) -> datetime:
    return MONDAY + hour * HOUR


class Due(unittest.TestCase):
    def test_whichever_comes_first_counts(self) -> None:
        rules = DueRules(hours=400, builds=100, days=90)
        self.assertEqual(standing(rules, Use(hours=290, builds=80, days=30)).text, "80 of 100 builds")
        self.assertFalse(standing(rules, Use(hours=399, builds=80)).due)
        self.assertTrue(standing(rules, Use(hours=400)).due)
        self.assertEqual(standing(DueRules(), Use(hours=1e6)).share, 0)

    def test_a_fault_makes_it_due_at_once(self) -> None:
        rules = DueRules(hours=400, faults=("jam",))
        self.assertEqual(standing(rules, Use(faults=1)).text, "after a fault")
        self.assertEqual(days_left(rules, Use(faults=1), Use()), 0)
        self.assertFalse(standing(DueRules(hours=400), Use(faults=1)).due)

    def test_it_says_when_it_will_be_due_as_things_go_on(self) -> None:
        rules = DueRules(hours=400, metres=1000, days=90)
        self.assertEqual(days_left(rules, Use(hours=300, metres=100, days=10), Use(hours=10)), 10)
        self.assertEqual(days_left(rules, Use(hours=300, metres=950), Use(hours=10, metres=10)), 5)
        self.assertEqual(days_left(rules, Use(hours=450), Use(hours=10)), -5)
        self.assertEqual(days_left(DueRules(hours=400), Use(), Use()), inf)

    def test_abrasive_filament_counts_more(self) -> None:
        self.assertEqual([weight_of(name) for name in ("PLA", "PETG", "PA-CF", "PLA wood")], [1, 1, 8, 8])


class Placing(unittest.TestCase):
    STAFFED = ((at(8), at(17)), (at(32), at(41)))

    def test_a_gap_in_the_plan_is_taken_before_anything_is_pushed_back(self) -> None:
        busy = [(at(8), at(10)), (at(10.25), at(13)), (at(14.5), at(20))]
        place = best_place(busy, self.STAFFED, at(8), at(60), HOUR)
        assert place is not None
        self.assertEqual((place.begin, place.end, place.costs), (at(13), at(14), timedelta(0)))

    def test_where_all_is_planned_the_least_is_pushed_back(self) -> None:
        busy = [(at(8), at(10)), (at(10.5), at(13)), (at(13), at(60))]
        place = best_place(busy, self.STAFFED, at(8), at(60), HOUR)
        assert place is not None
        self.assertEqual((place.begin, place.costs), (at(10), HOUR / 2))

    def test_it_is_done_before_it_is_due_and_while_somebody_is_there(self) -> None:
        self.assertIsNone(best_place([(at(0), at(15))], self.STAFFED, at(8), at(16), 2 * HOUR))
        self.assertIsNone(best_place([], (), at(8), at(60), HOUR))
        place = best_place([(at(0), at(16.5))], self.STAFFED, at(8), at(60), HOUR)
        assert place is not None
        self.assertEqual(place.begin, at(32))

    @given(st.lists(st.tuples(st.integers(0, 40), st.integers(1, 6)), max_size=8), st.integers(1, 5))
    def test_it_interrupts_nothing_and_is_always_staffed(self, given_busy: list[tuple[int, int]], hours: int) -> None:
        busy, end = [], at(0)
        for begin, long in sorted(given_busy):
            start = max(at(begin), end)
            end = start + long * HOUR
            busy.append((start, end))
        place = best_place(busy, self.STAFFED, at(8), at(60), hours * HOUR)
        if place is not None:
            self.assertTrue(any(a <= place.begin and place.end <= b for a, b in self.STAFFED))
            self.assertFalse(any(a < place.begin < b for a, b in busy))

    @given(st.lists(st.tuples(st.integers(0, 160), st.integers(1, 24)), max_size=8), st.integers(1, 20))
    def test_no_quarter_of_an_hour_costs_less(self, given_busy: list[tuple[int, int]], quarters: int) -> None:
        quarter = HOUR / 4
        busy = sorted((at(begin / 4), at((begin + long) / 4)) for begin, long in given_busy)
        takes = quarters * quarter
        costs = [
            max(timedelta(0), begin + takes - min((a for a, _ in busy if a >= begin), default=at(1000)))
            for begin in (at(n / 4) for n in range(32, 4 * 60))
            if not any(a < begin < b for a, b in busy)
            and any(a <= begin and begin + takes <= b for a, b in self.STAFFED)
        ]
        place = best_place(busy, self.STAFFED, at(8), at(60), takes)
        self.assertEqual(None if place is None else place.costs, min(costs, default=None))


class Wear(unittest.TestCase):
    def test_the_fit_finds_what_lives_were_drawn_from(self) -> None:
        rng = np.random.default_rng(1)
        held = 0
        for _ in range(40):
            hours = 400 * rng.weibull(3.0, 30)
            cut = rng.uniform(200, 600, 30)
            found = fit([Life(min(h, c), h <= c) for h, c in zip(hours.tolist(), cut.tolist(), strict=True)])
            assert found is not None
            true_median = 400 * np.log(2) ** (1 / 3)
            held += found.low <= true_median <= found.high
            self.assertLess(found.early, found.median)
            self.assertLess(found.median, found.late)
        self.assertGreaterEqual(held, 34)

    def test_parts_that_were_all_worn_alike_have_a_narrow_life(self) -> None:
        found = fit([Life(hours, True) for hours in (390.0, 400.0, 410.0, 405.0)])
        assert found is not None
        self.assertAlmostEqual(found.median, 403, delta=4)
        self.assertLess(found.late - found.early, 60)
        self.assertAlmostEqual(found.survives(found.scale), exp(-1))

    def test_parts_still_in_use_lengthen_the_life_and_too_few_say_nothing(self) -> None:
        worn = [Life(hours, True) for hours in (300.0, 350.0, 420.0)]
        plain, longer = fit(worn), fit([*worn, Life(500, False), Life(520, False)])
        assert plain and longer
        self.assertGreater(longer.median, plain.median)
        self.assertIsNone(fit(worn[:2]))


class Calibration(unittest.TestCase):
    STEADY = (20.01, 19.99, 20.02, 20.0, 19.98, 20.01)

    def test_out_of_tolerance_is_said_before_anything_else(self) -> None:
        found = judge([*self.STEADY, 20.31], 20.0, 0.2, "mm")
        self.assertEqual((found.verdict, found.text), (CalibrationVerdict.OUT, "20.31 mm, +0.31 of 0.2 allowed"))

    def test_what_leaves_its_usual_limits_or_goes_one_way_drifts(self) -> None:
        self.assertEqual(judge([*self.STEADY, 20.0], 20.0, 0.2, "mm").verdict, CalibrationVerdict.FINE)
        self.assertEqual(judge([*self.STEADY, 20.15], 20.0, 0.2, "mm").verdict, CalibrationVerdict.DRIFTS)
        rising = [20.0 + n / 100 for n in range(6)]
        self.assertIn("rises since 6 readings", judge(rising, 20.0, 0.2, "mm").text)

    def test_control_limits_are_those_of_single_values(self) -> None:
        found = limits([10.0, 12.0, 10.0, 12.0, 10.0])
        assert found is not None
        self.assertAlmostEqual(found.mean, 10.8)
        self.assertAlmostEqual(found.high - found.mean, 2.66 * 2)
        self.assertIsNone(limits([1.0] * 4))
