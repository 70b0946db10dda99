"""Beds that want a person at the same time."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

import numpy as np

from chronarch.core.planning.forecast import Forecast, ForecastBuilds
from chronarch.core.planning.snapshot import Assignment, ChoiceReason, MachineSlot, Snapshot
from chronarch.core.planning.together import conflicts
from chronarch.core.time_range import TimeRange

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)


def found(minutes: dict[str, int], people: int = 1) -> list[tuple[int, tuple[str, ...]]]:
    shop = Snapshot(NINE, tuple(MachineSlot(name, "any") for name in minutes), (), {"": ((), people)})
    at = {name: NINE + timedelta(minutes=m) for name, m in minutes.items()}
    running = {name: TimeRange(t, t, t) for name, t in at.items() if name < "c"}
    planned = {name: 60.0 * m for name, m in minutes.items() if name >= "c"}
    work = [
        Assignment(name, 1, None, 0.0, s, s, None, None, ChoiceReason.IN_LINE, 0.0, 1) for name, s in planned.items()
    ]
    seconds = np.array(list(planned.values()))[:, None, None] + np.zeros((3, 3))
    forecast = Forecast(NINE, running, {}, ForecastBuilds(NINE, work, seconds), {}, {})
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
