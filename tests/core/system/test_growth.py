"""How what is kept grows, and when a disk is full."""

from __future__ import annotations

import unittest
from datetime import date, timedelta

from chronarch.core.system.growth import Growing, days_until_full, growth_a_day

FIRST = date(2026, 10, 1)


def sizes(*values: int) -> list[tuple[date, int]]:
    return [(FIRST + timedelta(days=n), value) for n, value in enumerate(values)]


class Growth(unittest.TestCase):
    def test_the_slope_of_the_days(self) -> None:
        self.assertIsNone(growth_a_day([]))
        self.assertIsNone(growth_a_day(sizes(5, 9)), "of two days nothing can be said")
        self.assertEqual(growth_a_day(sizes(10, 20, 30)), 10)
        self.assertEqual(growth_a_day(sizes(30, 20, 10)), -10)
        self.assertEqual(growth_a_day([(FIRST, 100), (FIRST + timedelta(days=10), 300)]), 20)
        self.assertAlmostEqual(growth_a_day(sizes(0, 12, 18, 30)) or 0, 9.6)

    def test_a_disk_is_full_once_what_grows_has_taken_it(self) -> None:
        self.assertIsNone(days_until_full(100, []))
        self.assertIsNone(days_until_full(100, [Growing(-3), Growing(0)]))
        self.assertEqual(days_until_full(100, [Growing(4), Growing(6), Growing(-2)]), 10)
        self.assertIsNone(days_until_full(100, [Growing(10, room=99)]), "a budget stops it before")
        self.assertEqual(days_until_full(100, [Growing(10, room=100)]), 10)
        # 20 a day for 4 days, then 10 a day
        self.assertEqual(days_until_full(100, [Growing(10), Growing(10, room=40)]), 6)
        self.assertEqual(days_until_full(100, [Growing(10, room=0), Growing(5)]), 20)
