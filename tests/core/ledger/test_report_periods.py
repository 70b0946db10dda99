"""Which time a report is about, over nights that are an hour shorter or longer."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.ledger.report_periods import ReportEvery, last_period
from chronarch.core.planning.shifts import ShiftPattern, weekdays

BERLIN = "Europe/Berlin"


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=ZoneInfo(BERLIN))


class Periods(unittest.TestCase):
    def test_a_week_is_due_at_its_hour_on_monday(self) -> None:
        pattern = weekdays(8, 17, zone=BERLIN)
        before = last_period(ReportEvery.WEEK, 7, pattern, at("2026-10-26T06:59"))
        found = last_period(ReportEvery.WEEK, 7, pattern, at("2026-10-26T07:00"))
        assert before and found
        self.assertEqual(before.end, at("2026-10-19T00:00"))
        self.assertEqual((found.begin, found.end), (at("2026-10-19T00:00"), at("2026-10-26T00:00")))
        self.assertEqual(found.before, (at("2026-10-12T00:00"), at("2026-10-19T00:00")))
        # the clocks were set back in that week
        self.assertEqual(found.end.astimezone(UTC) - found.begin.astimezone(UTC), timedelta(days=7, hours=1))

    def test_months_and_shifts(self) -> None:
        pattern = weekdays(8, 17, zone=BERLIN)
        month = last_period(ReportEvery.MONTH, 0, pattern, at("2026-03-01T00:00"))
        shift = last_period(ReportEvery.SHIFT, 7, pattern, at("2026-10-26T17:00"))
        assert month and shift
        self.assertEqual((month.begin, month.before[0]), (at("2026-02-01T00:00"), at("2026-01-01T00:00")))
        self.assertEqual((shift.begin, shift.end), (at("2026-10-26T08:00"), at("2026-10-26T17:00")))
        self.assertEqual(shift.before[1], at("2026-10-23T17:00"))
        self.assertIsNone(last_period(ReportEvery.SHIFT, 0, ShiftPattern(), at("2026-10-26T17:00")))

    @given(
        st.datetimes(datetime(2020, 1, 1), datetime(2035, 1, 1)),
        st.sampled_from([ReportEvery.WEEK, ReportEvery.MONTH]),
        st.integers(0, 23), st.sampled_from([BERLIN, "UTC", "America/St_Johns", "Australia/Lord_Howe"]),
    )  # fmt: skip
    def test_each_follows_the_one_before_without_a_gap(
        self, when: datetime, every: ReportEvery, hour: int, zone: str
    ) -> None:
        now, pattern = when.replace(tzinfo=UTC), ShiftPattern(zone=zone)
        found = last_period(every, hour, pattern, now)
        assert found is not None
        self.assertEqual(found.before[1], found.begin)
        self.assertLessEqual(found.end + timedelta(hours=hour), now)
        following = last_period(every, hour, pattern, now + timedelta(days=7 if every is ReportEvery.WEEK else 31))
        assert following is not None
        self.assertGreaterEqual(following.begin, found.end if every is ReportEvery.WEEK else found.begin)
        for edge in (found.begin, found.end):
            self.assertEqual(edge.astimezone(ZoneInfo(zone)).strftime("%H:%M"), "00:00")
