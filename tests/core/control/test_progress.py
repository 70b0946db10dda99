"""Progress and pace."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.control.progress import FASTEST, SLOWEST, Progress
from chronarch.core.gcode.plan import Mark, TimePlan
from chronarch.core.machines.materials import grams


class ProgressAndPace(unittest.TestCase):
    plan = TimePlan((Mark(0, 0, 0), Mark(100, 1000.0, 500.0)), (10,))

    def test_the_rest_is_planned_time_at_the_pace_so_far(self) -> None:
        p = Progress(self.plan, acknowledged=10)
        p.begin_laying()
        p.acknowledged, p.laying_s = 60, 1000.0
        self.assertAlmostEqual(p.share, 0.6)
        # 500 planned seconds took 1000; with 180 s of prior: 1180 / 680
        self.assertAlmostEqual(p.pace, 1180 / 680)
        self.assertAlmostEqual(p.remaining_s, 400 * 1180 / 680)

    def test_before_the_first_layer_warming_is_still_to_come(self) -> None:
        # 100 of the 1000 planned seconds come before the first layer: they run down with the clock, and no further
        p = Progress(self.plan, learned=1.2)
        self.assertAlmostEqual(p.remaining_s, 1200)
        p.warming_s = 60.0
        self.assertAlmostEqual(p.remaining_s, 1140)
        p.warming_s = 500.0
        self.assertAlmostEqual(p.remaining_s, 900 * 1.2)

    @given(st.integers(0, 100), st.floats(0, 1e6))
    def test_pace_and_rest_stay_within_bounds(self, acknowledged: int, laying_s: float) -> None:
        p = Progress(self.plan, 0)
        p.begin_laying()
        p.acknowledged, p.laying_s = acknowledged, laying_s
        self.assertTrue(FASTEST <= p.pace <= SLOWEST)
        self.assertGreaterEqual(p.remaining_s, 0)

    def test_grams_follow_density_and_diameter(self) -> None:
        # 1 m of 1.75 mm PLA: pi/4 * 1.75² * 1000 mm³ = 2405.28 mm³ = 2.40528 cm³, times 1.24 g/cm³
        self.assertAlmostEqual(grams("PLA", 1000.0), 2.40528 * 1.24, places=3)


if __name__ == "__main__":
    unittest.main()
