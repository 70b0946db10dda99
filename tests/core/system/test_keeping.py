"""Backups that are kept, and when they are due."""

from __future__ import annotations

import random
import unittest
from datetime import UTC, datetime, time, timedelta
from zoneinfo import ZoneInfo

from chronarch.core.system.backup_schedule import BackupTimes, last_due, last_trial_due, next_due
from chronarch.core.system.keeping import KeepRule, to_keep

BERLIN = ZoneInfo("Europe/Berlin")


class Keeping(unittest.TestCase):
    def test_seven_days_four_weeks_and_twelve_months_are_kept(self) -> None:
        now = datetime(2026, 11, 18, 2, 30, tzinfo=UTC)  # a Wednesday
        nights = [now - timedelta(days=n) for n in range(800)]
        kept = sorted(to_keep(nights, KeepRule(), UTC), reverse=True)
        days = [at.date().isoformat() for at in kept]
        self.assertEqual(days[:7], [f"2026-11-{day}" for day in range(18, 11, -1)])
        self.assertEqual(days[7:9], ["2026-11-08", "2026-11-01"])  # Sundays; that of the 15th is among the days
        self.assertEqual(days[9:], [
            "2026-10-31", "2026-09-30", "2026-08-31", "2026-07-31", "2026-06-30", "2026-05-31", "2026-04-30",
            "2026-03-31", "2026-02-28", "2026-01-31", "2025-12-31",
        ])  # fmt: skip

    def test_the_rule_holds_whenever_it_is_followed(self) -> None:
        """Dropping each night what the rule does not keep leaves what dropping once would have."""
        rand, rule = random.Random(4), KeepRule(3, 2, 5)
        here: set[datetime] = set()
        every: list[datetime] = []
        at = datetime(2026, 1, 1, tzinfo=UTC)
        for _ in range(400):
            at += timedelta(hours=rand.choice((5, 11, 24, 24, 24, 70)))
            every.append(at)
            here = to_keep([*here, at], rule, BERLIN)
            self.assertLessEqual(len(here), 3 + 2 + 5)
            self.assertIn(at, here)
            self.assertEqual(here, to_keep(every, rule, BERLIN))

    def test_days_are_those_of_the_shop(self) -> None:
        late, early = datetime(2026, 6, 1, 21, 30, tzinfo=UTC), datetime(2026, 6, 1, 22, 30, tzinfo=UTC)
        rule = KeepRule(2, 0, 0)
        self.assertEqual(to_keep([late, early], rule, UTC), {early})
        self.assertEqual(to_keep([late, early], rule, BERLIN), {late, early})

    def test_the_newest_is_kept_whatever_the_rule_says(self) -> None:
        at = datetime(2026, 6, 1, tzinfo=UTC)
        self.assertEqual(to_keep([at, at - timedelta(days=1)], KeepRule(0, 0, 0), UTC), {at})
        self.assertEqual(to_keep([], KeepRule(), UTC), set())
        with self.assertRaisesRegex(ValueError, "0 to 1000"):
            KeepRule(-1, 0, 0)


class Schedule(unittest.TestCase):
    def test_a_backup_is_due_each_day_at_its_time(self) -> None:
        times = BackupTimes(time(2, 30))
        for now, last, following in (
            ((2026, 6, 10, 2, 29), (2026, 6, 9), (2026, 6, 10)),
            ((2026, 6, 10, 2, 30), (2026, 6, 10), (2026, 6, 11)),
            ((2026, 6, 10, 23, 0), (2026, 6, 10), (2026, 6, 11)),
        ):
            with self.subTest(now):
                at = datetime(*now, tzinfo=BERLIN)
                self.assertEqual(last_due(times, at, BERLIN), datetime(*last, 2, 30, tzinfo=BERLIN))
                self.assertEqual(next_due(times, at, BERLIN), datetime(*following, 2, 30, tzinfo=BERLIN))

    def test_a_night_with_a_changed_clock_has_one_too(self) -> None:
        """02:30 does not exist on 29 March 2026 in Berlin, and comes twice on 25 October."""
        times = BackupTimes(time(2, 30))
        for day in (datetime(2026, 3, 28, 12, tzinfo=BERLIN), datetime(2026, 10, 24, 12, tzinfo=BERLIN)):
            at, seen = day, set()
            while at < day + timedelta(days=3):
                at += timedelta(minutes=10)
                seen.add(last_due(times, at, BERLIN).date())
                self.assertLess(at, next_due(times, at, BERLIN))
                self.assertLessEqual(last_due(times, at, BERLIN), at)
            self.assertEqual(len(seen), 4)

    def test_a_trial_is_due_once_a_week(self) -> None:
        times = BackupTimes(time(2, 30), try_on=6)
        sunday = datetime(2026, 6, 7, 2, 30, tzinfo=UTC)
        for hours in range(1, 7 * 24):
            self.assertEqual(last_trial_due(times, sunday + timedelta(hours=hours), UTC), sunday)
        self.assertEqual(last_trial_due(times, sunday - timedelta(hours=1), UTC), sunday - timedelta(days=7))
        with self.assertRaisesRegex(ValueError, "Monday"):
            BackupTimes(try_on=7)


if __name__ == "__main__":
    unittest.main()
