"""Beds that want a person at the same time."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

from chronarch.core.planning.forecast import Forecast
from chronarch.core.planning.snapshot import MachineSlot, Snapshot
from chronarch.core.planning.together import conflicts
from chronarch.core.time_range import TimeRange

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)


def found(minutes: dict[str, int], people: int = 1) -> list[tuple[int, tuple[str, ...]]]:
    shop = Snapshot(NINE, tuple(MachineSlot(name, "any") for name in minutes), (), {"": ((), people)})
    at = {name: NINE + timedelta(minutes=m) for name, m in minutes.items()}
    forecast = Forecast(NINE, {name: TimeRange(t, t, t) for name, t in at.items()}, {}, (), {}, {})
    told = conflicts(shop, forecast, lambda t: f"{t:%H:%M}")
    return [(round((c.at - NINE).total_seconds() / 60), c.machines) for c in told]


class Together(unittest.TestCase):
    def test_beds_within_minutes_that_are_two_more_than_the_people_are_told_once(self) -> None:
        self.assertEqual(found({"a": 10, "b": 12, "c": 16, "d": 60}), [(10, ("a", "b", "c"))])
        self.assertEqual(found({"a": 10, "b": 12, "c": 16, "d": 60}, people=2), [])
        self.assertEqual(found({"a": 10, "b": 30, "c": 50}), [], "one after another is no conflict")
        self.assertEqual(found({"a": 1450, "b": 1451, "c": 1452}), [], "tomorrow is far away")


if __name__ == "__main__":
    unittest.main()
