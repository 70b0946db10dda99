"""The ledger covers all time with no gap and no overlap; reports add it up."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.ledger.intervals import OPEN_END, Interval, append, by_day, faults, total, usage, whole_days
from chronarch.core.machines.states import MachineState
from tests.support.intervals import clip, spent

BEGIN = datetime(2026, 10, 5, tzinfo=UTC)
changes = st.lists(
    st.tuples(st.integers(-500, 90_000), st.sampled_from(MachineState), st.one_of(st.none(), st.integers(1, 5))),
    max_size=60,
)


def ledger_of(steps: list[tuple[int, MachineState, int | None]]) -> list[Interval]:
    ledger = append([], BEGIN, MachineState.IDLE)
    at = BEGIN
    for seconds, state, build in steps:
        at = at + timedelta(seconds=seconds)
        ledger = append(ledger, at, state, build)
    return ledger


class Cover(unittest.TestCase):
    @given(changes)
    def test_whatever_happens_and_whenever_it_is_told_time_is_covered_once(
        self, steps: list[tuple[int, MachineState, int | None]]
    ) -> None:
        ledger = ledger_of(steps)
        self.assertEqual(faults(ledger), [])
        self.assertEqual(ledger[0].begin, BEGIN)
        self.assertEqual(ledger[-1].end, OPEN_END)

    @given(changes, st.integers(0, 10**6), st.integers(1, 10**6))
    def test_a_clipped_ledger_adds_up_to_its_span(
        self, steps: list[tuple[int, MachineState, int | None]], after_s: int, length_s: int
    ) -> None:
        begin = BEGIN + timedelta(seconds=after_s)
        end = begin + timedelta(seconds=length_s)
        cut = clip(ledger_of(steps), begin, end)
        self.assertEqual(faults(cut), [])
        self.assertAlmostEqual(usage("x", spent(cut), {}).total_s, length_s)

    def test_gaps_and_overlaps_are_found(self) -> None:
        hour = timedelta(hours=1)
        a = Interval(BEGIN, BEGIN + hour, MachineState.IDLE)
        self.assertIn("gap", faults([a, Interval(BEGIN + 2 * hour, OPEN_END, MachineState.IDLE)])[0])
        self.assertIn("overlap", faults([a, Interval(BEGIN + hour / 2, OPEN_END, MachineState.IDLE)])[0])
        self.assertIn("empty", faults([Interval(BEGIN, BEGIN, MachineState.IDLE)])[0])

    def test_the_same_state_again_changes_nothing(self) -> None:
        ledger = ledger_of([(10, MachineState.BUILDING, 1)])
        self.assertEqual(append(ledger, BEGIN + timedelta(hours=1), MachineState.BUILDING, 1), ledger)


class Days(unittest.TestCase):
    @given(st.datetimes(datetime(2026, 1, 1), datetime(2026, 12, 31)), st.timedeltas(timedelta(), timedelta(days=9)))
    def test_the_days_of_a_span_add_up_to_it(self, begin: datetime, length: timedelta) -> None:
        begin = begin.replace(tzinfo=UTC)
        end = begin + length
        days = by_day(begin, end)
        self.assertEqual(sum(us for _, us in days), length // timedelta(microseconds=1))
        self.assertEqual([day for day, _ in days], sorted({day for day, _ in days}))
        self.assertTrue(all(0 < us <= 86_400_000_000 for _, us in days))
        first, last = whole_days(begin, end)
        self.assertTrue(begin <= first <= last <= end)
        whole = [day for day, us in days if us == 86_400_000_000]
        self.assertEqual(len(whole), (last - first).days)
        if first < last:
            self.assertEqual((first.date(), last.date() - timedelta(days=1)), (whole[0], whole[-1]))


class Sums(unittest.TestCase):
    def test_a_report_row_counts_hours_builds_and_grams(self) -> None:
        hour = 3600
        ledger = ledger_of(
            [
                (hour, MachineState.WARMING, 1),
                (hour // 2, MachineState.BUILDING, 1),
                (2 * hour, MachineState.IDLE, None),
            ]
        )
        cut = clip(ledger, BEGIN, BEGIN + timedelta(hours=5))
        row = usage("Anchor", spent(cut), {"good": (1, 12.5), "scrap": (1, 2.0), "": (1, 1.0)})
        self.assertEqual((row.good, row.scrap, row.unjudged, row.grams), (1, 1, 1, 15.5))
        self.assertAlmostEqual(row.printing_s, 2.5 * hour)
        self.assertAlmostEqual(row.utilisation, 2.5 / 5)
        both = total("Fleet", [row, row])
        self.assertAlmostEqual(both.utilisation, row.utilisation)
        self.assertEqual(both.good, 2)

    def test_nothing_recorded_is_no_use_and_no_error(self) -> None:
        self.assertEqual(usage("Anchor", {}, {}).utilisation, 0.0)
