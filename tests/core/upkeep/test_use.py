"""What machines have done, whether faults follow what is late, and how long a hot end takes."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.machines.materials import USUAL_MATERIALS
from chronarch.core.upkeep.faults_after import DoneOnce, lateness
from chronarch.core.upkeep.odometer import Odometer
from chronarch.core.upkeep.settling import Heat, settling_s

START = datetime(2026, 10, 5, tzinfo=UTC)
DAY = timedelta(days=1)


class Odometers(unittest.TestCase):
    def test_a_metre_of_an_abrasive_material_counts_for_eight(self) -> None:
        plain, hard = Odometer(grams={"PETG": 100}), Odometer(grams={"PETG": 100, "PETG-CF": 100})
        self.assertAlmostEqual(plain.metres(USUAL_MATERIALS), 32.7, delta=0.3)
        self.assertGreater(
            hard.metres(USUAL_MATERIALS) - plain.metres(USUAL_MATERIALS), 7.5 * plain.metres(USUAL_MATERIALS)
        )

    def test_what_came_since_is_never_less_than_nothing(self) -> None:
        before, now = Odometer(100, 50, {"PLA": 900, "TPU": 20}), Odometer(130, 49, {"PLA": 1000})
        found = now.since(before)
        self.assertEqual((found.hours, found.builds, found.grams), (30, 0, {"PLA": 100}))

    @given(st.floats(0, 1e5), st.floats(0, 1e4), st.integers(0, 1000), st.floats(0, 1e5))
    def test_steps_come_to_the_whole(self, hours: float, more: float, builds: int, grams: float) -> None:
        first = Odometer(hours, builds, {"PLA": grams})
        second = Odometer(hours + more, builds + 3, {"PLA": grams + 10, "PETG": 5})
        found = second.since(first)
        self.assertAlmostEqual(found.hours, more, delta=1e-6 * (1 + hours))
        self.assertEqual(found.builds, 3)
        self.assertEqual(set(found.grams), {"PLA", "PETG"})


class Late(unittest.TestCase):
    def test_faults_are_counted_by_whether_the_task_was_overdue(self) -> None:
        in_time = DoneOnce(START, START + 10 * DAY, 0.9, [START + 2 * DAY])
        late = DoneOnce(START, START + 20 * DAY, 2.0, [START + 9 * DAY, START + 11 * DAY, START + 19 * DAY])
        self.assertEqual(late.due_at, START + 10 * DAY)
        found = lateness([in_time, late])
        self.assertEqual((found.times, found.late, found.days), (2, 1, 10.0))
        self.assertAlmostEqual(found.faults_overdue or 0, 20)
        self.assertAlmostEqual(found.faults_else or 0, 10)
        self.assertIsNone(lateness([in_time]).faults_overdue)
        self.assertEqual(lateness([]).times, 0)


class Settling(unittest.TestCase):
    def heat(self, *measured: float, asked: float = 210.0, every_s: float = 5.0) -> list[Heat]:
        return [Heat(START + timedelta(seconds=every_s * n), c, asked) for n, c in enumerate(measured)]

    def test_it_counts_until_the_heat_stays(self) -> None:
        overshoots = self.heat(25, 80, 150, 200, 216, 214, 211, 210, 210, 210, 210)
        self.assertEqual(settling_s(overshoots), 30.0)

    def test_a_warm_start_one_that_is_given_up_and_one_that_never_stays_say_nothing(self) -> None:
        self.assertIsNone(settling_s(self.heat(150, 190, 209, 210, 210, 210)))
        self.assertIsNone(settling_s([*self.heat(25, 80, 150), *self.heat(160, 165, 170, asked=0.0)]))
        self.assertIsNone(settling_s(self.heat(25, 200, 220, 200, 220, 200, 220, 200)))
        self.assertIsNone(settling_s([]))
