"""The proof of a ledger: a whole one has no fault, and each thing that may be wrong is found and named."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

from chronarch.core.ledger import proof
from chronarch.core.ledger.intervals import OPEN_END, Interval
from chronarch.core.machines.states import MachineState as S

BEGIN = datetime(2026, 10, 19, 8, tzinfo=UTC)


def at(hours: float) -> datetime:
    return BEGIN + timedelta(hours=hours)


WHOLE = [
    Interval(at(0), at(1), S.IDLE),
    Interval(at(1), at(1.5), S.WARMING, 7),
    Interval(at(1.5), at(4), S.BUILDING, 7),
    Interval(at(4), at(5), S.UNCLEARED, 7),
    Interval(at(5), OPEN_END, S.IDLE),
]
BUILD = proof.RecordedBuild(7, at(1), at(4), 30.0)


class Proving(unittest.TestCase):
    def cover(self, ledger: list[Interval]) -> str:
        return "; ".join(fault.text for fault in proof.cover_faults(ledger))

    def builds(self, ledger: list[Interval], *builds: proof.RecordedBuild) -> str:
        return "; ".join(fault.text for fault in proof.build_faults(ledger, builds))

    def test_a_whole_ledger_has_no_fault(self) -> None:
        self.assertEqual(self.cover(WHOLE), "")
        self.assertEqual(self.builds(WHOLE, BUILD, proof.RecordedBuild(8, None, None)), "")
        self.assertEqual(self.cover([]), "")

    def test_time_that_is_left_out_or_counted_twice_is_found(self) -> None:
        gap = [WHOLE[0], replace(WHOLE[1], begin=at(1.2)), *WHOLE[2:]]
        self.assertRegex(self.cover(gap), r"no interval covers the time from .* 09:00:00\S* to .* 09:12:00")
        twice = [replace(WHOLE[0], end=at(1.2)), *WHOLE[1:]]
        self.assertRegex(self.cover(twice), r"two intervals cover the time from .* 09:00:00\S* to .* 09:12:00")
        self.assertIn("no interval lasts", self.cover(WHOLE[:-1]))
        self.assertIn("is followed by another", self.cover([replace(WHOLE[0], end=OPEN_END), *WHOLE[1:]]))
        self.assertIn("has no length", self.cover([Interval(at(0), at(0), S.DOWN), *WHOLE]))

    def test_builds_that_lie_beside_their_intervals_are_found(self) -> None:
        for build, words in (
            (replace(BUILD, began=at(0.9)), "began at .* its first interval at"),
            (replace(BUILD, ended=at(3)), "ended at .* at work on it until"),
            (replace(BUILD, began=None), "never began"),
            (replace(BUILD, number=9), "no interval names build 9; .*build 7, which is not of this machine"),
        ):
            with self.subTest(words=words):
                self.assertRegex(self.builds(WHOLE, build), words)
        self.assertEqual(self.builds(WHOLE, replace(BUILD, began=at(1) - proof.SHIFTED)), "", "told late")
        torn = [*WHOLE[:2], replace(WHOLE[2], build=None), *WHOLE[3:]]
        self.assertIn("do not follow one another", self.builds(torn, replace(BUILD, ended=at(1.5))))

    def test_days_that_do_not_add_up_are_found(self) -> None:
        hour = 3_600_000_000
        day = BEGIN.date()
        days = {(day, "idle"): hour, (day, "warming"): hour // 2, (day, "building"): 5 * hour // 2,
                (day, "uncleared"): hour}  # fmt: skip
        self.assertEqual(proof.day_faults(WHOLE, days), [])
        (less,) = proof.day_faults(WHOLE, {**days, (day, "building"): hour})
        self.assertIn("3600.000 s building are added up, the intervals have 9000.000 s", less.text)
        (more,) = proof.day_faults(WHOLE, {**days, (date(2026, 10, 20), "down"): 5})
        self.assertIn("2026-10-20", more.text)
        months = {(day.replace(day=1), state): long for (day, state), long in days.items()}
        self.assertEqual(proof.month_faults(days, months), [])
        (wrong,) = proof.month_faults(days, {**months, (day.replace(day=1), "idle"): 1})
        self.assertIn(f"{day:%Y-%m}: 0.000 s idle are added up, its days have 3600.000 s", wrong.text)

    def test_grams_and_wh_that_are_counted_wrongly_are_found(self) -> None:
        self.assertEqual(proof.gram_faults([BUILD], {7: 30.0}), [])
        self.assertEqual(proof.gram_faults([BUILD], {7: 12.0}), [], "a spool was taken to hold less")
        (twice,) = proof.gram_faults([BUILD], {7: 60.0})
        self.assertIn("laid 30.000 g, but 60.000 g were taken", twice.text)
        day = BEGIN.date()
        self.assertEqual(proof.energy_faults([BUILD], [(7, day, 200.0), (0, day, 3.0)]), [])
        for row, words in (
            ((9, day, 1.0), "not of this machine"),
            ((7, day - timedelta(days=3), 1.0), "which began later"),
            ((0, day, -1.0), "-1.0 Wh"),
        ):
            (fault,) = proof.energy_faults([BUILD], [row])
            self.assertIn(words, fault.text)


if __name__ == "__main__":
    unittest.main()
