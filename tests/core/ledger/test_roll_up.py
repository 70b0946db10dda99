"""Old intervals become days: the time in each state stays, and the ledger still covers all time."""

from __future__ import annotations

import unittest
from collections import Counter
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.ledger.intervals import OPEN_END, Interval, append, by_day, faults
from chronarch.core.ledger.roll_up import rolled_up
from chronarch.core.machines.states import MachineState

BEGIN = datetime(2022, 3, 1, 7, 30, tzinfo=UTC)
BEFORE = datetime(2022, 3, 12, tzinfo=UTC)
S = MachineState


def sums(ledger: list[Interval]) -> Counter[tuple[object, MachineState]]:
    """Microseconds by day and state, of what lies before."""
    found: Counter[tuple[object, MachineState]] = Counter()
    for i in ledger:
        for day, microseconds in by_day(i.begin, min(i.end, BEFORE)):
            found[day, i.state] += microseconds
    return found


class RollingUp(unittest.TestCase):
    @given(st.lists(st.tuples(st.sampled_from(list(S)), st.integers(1, 4 * 86_400 * 10**6)), min_size=1, max_size=60))
    def test_days_tell_the_same_and_what_lasts_longer_is_as_it_was(self, lived: list[tuple[S, int]]) -> None:
        ledger: list[Interval] = []
        at = BEGIN
        for n, (state, length) in enumerate(lived):
            ledger = append(ledger, at, state, n, f"why {n}")
            at += timedelta(microseconds=length)
        new = rolled_up(ledger, BEFORE)
        self.assertEqual(faults(new), [])
        self.assertEqual((new[0].begin, new[-1].end), (BEGIN, OPEN_END))
        self.assertEqual(sums(new), sums(ledger))
        self.assertEqual([i for i in new if i.begin > BEFORE], [i for i in ledger if i.begin > BEFORE])
        self.assertTrue(all(i.build is None for i in new if i.begin < BEFORE))
        self.assertEqual(rolled_up(new, BEFORE), new, "doing it twice changes nothing")

    def test_a_day_takes_one_interval_a_state(self) -> None:
        ledger: list[Interval] = []
        for n in range(200):
            ledger = append(ledger, BEGIN + timedelta(minutes=n), S.BUILDING if n % 2 else S.PAUSED, 7)
        ledger = append(ledger, BEGIN + timedelta(minutes=200), S.IDLE)
        first, second, third, *rest = rolled_up(ledger, BEFORE)
        self.assertEqual([(i.state, i.end - i.begin) for i in (first, second)],
                         [(S.PAUSED, timedelta(minutes=100)), (S.BUILDING, timedelta(minutes=100))])  # fmt: skip
        self.assertEqual(third.state, S.IDLE)
        self.assertEqual(len(rest), 11, "ten days more, and what lasts")

    def test_a_young_ledger_is_as_it_was(self) -> None:
        ledger = append([], BEFORE, S.IDLE, None, "it is new")
        self.assertEqual(rolled_up(ledger, BEFORE), ledger)


if __name__ == "__main__":
    unittest.main()
