"""A period cut by the calendar of a place: days of 23 and 25 hours, and time that is neither lost nor counted twice."""

from __future__ import annotations

import itertools
import unittest
from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.ledger.calendar import StateChanges, TimePart, cut, time_spent, times_begun
from chronarch.core.ledger.measures import STATES
from chronarch.core.ledger.shares import wilson
from chronarch.core.ledger.turnaround import EPOCH, microseconds
from chronarch.core.planning.shifts import ShiftPattern, weekdays

ZONES = ("UTC", "Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu", "America/Santiago",
         "Asia/Beirut", "Pacific/Apia")  # fmt: skip
HOUR = 3_600_000_000
moments = st.datetimes(datetime(2005, 1, 1), datetime(2026, 12, 31)).map(lambda at: at.replace(tzinfo=UTC))
periods = st.tuples(moments, st.timedeltas(timedelta(seconds=1), timedelta(days=40))).map(lambda p: (p[0], p[0] + p[1]))


def hours_of(day: date, zone: str, part: TimePart) -> dict[str, float]:
    """The hours of one day by a part of the calendar."""
    begin, end = (datetime.combine(d, time(), ZoneInfo(zone)).astimezone(UTC) for d in (day, day + timedelta(days=1)))
    spans = cut(begin, end, [part], ShiftPattern(zone=zone))
    found: dict[str, float] = {}
    for (label,), length in zip(spans.labels, np.diff(spans.edges).tolist(), strict=True):
        found[label] = found.get(label, 0) + length / HOUR
    return found


class Cutting(unittest.TestCase):
    def test_days_on_which_clocks_change_have_23_and_25_hours(self) -> None:
        self.assertEqual(hours_of(date(2026, 3, 29), "Europe/Berlin", TimePart.DAY), {"2026-03-29": 23})
        self.assertEqual(hours_of(date(2026, 10, 25), "Europe/Berlin", TimePart.DAY), {"2026-10-25": 25})
        by_hour = hours_of(date(2026, 3, 29), "Europe/Berlin", TimePart.HOUR)
        self.assertNotIn("02", by_hour)
        self.assertEqual(hours_of(date(2026, 10, 25), "Europe/Berlin", TimePart.HOUR)["02"], 2)
        self.assertEqual(hours_of(date(2026, 4, 5), "Australia/Lord_Howe", TimePart.HOUR)["01"], 1.5)

    def test_weeks_are_those_of_iso_8601_and_shifts_those_of_the_place(self) -> None:
        zone = ZoneInfo("Europe/Berlin")
        begin, end = datetime(2027, 1, 3, 12, tzinfo=zone), datetime(2027, 1, 5, 12, tzinfo=zone)
        spans = cut(begin, end, [TimePart.WEEK, TimePart.SHIFT], weekdays(8, 17, zone="Europe/Berlin"))
        self.assertEqual(
            spans.labels,
            [("2026-W53", "away"), ("2027-W01", "away"), ("2027-W01", "staffed"), ("2027-W01", "away"),
             ("2027-W01", "staffed")],
        )  # fmt: skip
        ends = [EPOCH + timedelta(microseconds=at) for at in spans.edges.tolist()]
        self.assertEqual(ends[2:4], [datetime(2027, 1, 4, h, tzinfo=zone) for h in (8, 17)])

    @given(periods, st.sampled_from(ZONES), st.lists(st.sampled_from(TimePart), min_size=1, max_size=2, unique=True))
    @settings(max_examples=150, deadline=None)
    def test_spans_cover_the_period_and_each_says_what_a_clock_there_shows(
        self, period: tuple[datetime, datetime], zone: str, parts: list[TimePart]
    ) -> None:
        begin, end = period
        pattern = weekdays(8, 17.5, zone=zone)
        spans = cut(begin, end, parts, pattern)
        self.assertEqual((spans.edges[0], spans.edges[-1]), (microseconds(begin), microseconds(end)))
        self.assertTrue((np.diff(spans.edges) > 0).all())
        written = {
            TimePart.MONTH: "%Y-%m", TimePart.WEEK: "%G-W%V", TimePart.DAY: "%Y-%m-%d", TimePart.WEEKDAY: "%u",
            TimePart.HOUR: "%H",
        }  # fmt: skip
        for labels, first, last in zip(spans.labels, spans.edges.tolist(), spans.edges.tolist()[1:], strict=False):
            for at in (first, (first + last) // 2, last - 1):
                there = (EPOCH + timedelta(microseconds=at)).astimezone(ZoneInfo(zone))
                for part, label in zip(parts, labels, strict=True):
                    if part in written:
                        self.assertEqual(label, f"{there:{written[part]}}", (part, there))
                    else:
                        here = any(a <= there < b for a, b in pattern.spans(there, there + timedelta(seconds=1)))
                        self.assertEqual(label, "staffed" if here else "away", there)


class Spending(unittest.TestCase):
    @given(
        st.lists(st.tuples(st.integers(1, 10 * HOUR), st.integers(0, len(STATES) - 1)), min_size=1, max_size=40),
        st.lists(st.integers(-HOUR, 60 * HOUR), min_size=2, max_size=20, unique=True).map(sorted),
    )
    @settings(max_examples=200, deadline=None)
    def test_time_is_neither_lost_nor_counted_twice(self, intervals: list[tuple[int, int]], edges: list[int]) -> None:
        begins = np.cumsum([0, *(length for length, _ in intervals)])
        until = int(begins[-1])
        states = np.array([state for _, state in intervals], np.int8)
        changes = StateChanges(begins[:-1], states, until)
        spent = time_spent(changes, np.array(edges, np.int64), len(STATES))
        came = times_begun(changes, np.array(edges, np.int64), 3)
        began = list(zip(begins.tolist(), begins.tolist()[1:], states.tolist(), strict=False))
        for n, (a, b) in enumerate(itertools.pairwise(edges)):
            of = [0] * len(STATES)
            for begin, end, state in began:
                of[state] += max(0, min(b, end) - max(a, begin))
            self.assertEqual(spent[n].tolist(), of)
            self.assertEqual(came[n], sum(a <= at < b and state == 3 for at, _, state in began))


class Shares(unittest.TestCase):
    def test_the_interval_of_a_share_is_wilsons(self) -> None:
        low, high = wilson(8, 10)  # as worked out by hand from the formula
        self.assertAlmostEqual(low, 0.4902, 4)
        self.assertAlmostEqual(high, 0.9433, 4)
        self.assertEqual(wilson(0, 0), (0, 1))
        self.assertEqual(wilson(0, 20)[0], 0)
        self.assertAlmostEqual(wilson(0, 20)[1], 0.1611, 4)


if __name__ == "__main__":
    unittest.main()
