"""The forecast, what-if, hours and turnaround."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np

from chronarch.core.ledger.turnaround import gaps, joined, microseconds, summed
from chronarch.core.planning import scenarios as what_if
from chronarch.core.planning.forecast import Completion, RunningBuild, forecast, promise
from chronarch.core.planning.planner import make_plan
from chronarch.core.planning.shifts import ALWAYS, ShiftPattern, Staffing, weekdays
from chronarch.core.planning.shop_history import ShopHistory
from chronarch.core.planning.snapshot import MachineSlot, NeedRow, SlotPhase, Snapshot, Strategy, WaitingWork

MONDAY = datetime(2026, 10, 19, 9, tzinfo=UTC)
H = 3600.0
SPANS = tuple(weekdays(8, 17).spans(MONDAY, MONDAY + timedelta(days=30)))


def shop(builds: int = 2, hours: float = 1.0) -> Snapshot:
    return Snapshot(
        MONDAY, (MachineSlot("a", "any", cool_s=300.0), MachineSlot("b", "any", cool_s=300.0)),
        (WaitingWork(1, builds, NeedRow({"any": hours * H})),), {"": (SPANS, 1)},
    )  # fmt: skip


MODELS = {"a": "x", "b": "x"}
STEADY = ShopHistory({"x": (1.0,) * 9}, (300.0,) * 9, 0.0)


class Forecasting(unittest.TestCase):
    def test_with_a_past_that_never_varied_the_range_is_a_point(self) -> None:
        s = shop()
        f = forecast(s, make_plan(s), [], STEADY, MODELS)
        end = f.builds[0].end
        self.assertEqual(end.early, end.late)
        self.assertEqual(end.likely, MONDAY + timedelta(hours=1))
        when = f.jobs[1].when
        assert when is not None
        self.assertEqual(when.likely, MONDAY + timedelta(hours=1, minutes=10), "cooled, then five minutes for hands")

    def test_the_range_is_as_wide_as_the_past_was_varied(self) -> None:
        s = shop()
        past = ShopHistory({"x": tuple(0.9 + 0.02 * n for n in range(11))}, (300.0,) * 9, 0.0)
        end = forecast(s, make_plan(s), [], past, MODELS).builds[0].end
        self.assertAlmostEqual((end.early - MONDAY) / timedelta(hours=1), 0.92, delta=0.03)
        self.assertAlmostEqual((end.late - MONDAY) / timedelta(hours=1), 1.08, delta=0.03)

    def test_a_bed_that_is_ready_at_night_waits_for_the_morning(self) -> None:
        s = shop(1, 10.0)
        cleared = forecast(s, make_plan(s), [], STEADY, MODELS).builds[0].cleared
        self.assertEqual(cleared.likely, MONDAY.replace(day=20, hour=8, minute=5))

    def test_what_comes_off_by_itself_at_night_frees_the_machine_and_counts_once_it_is_judged(self) -> None:
        s = replace(shop(1, 10.0), machines=(MachineSlot("a", "any", releases=3, releases_left=3, release_s=60.0),))
        f = forecast(s, make_plan(s), [], STEADY, MODELS)
        self.assertEqual(f.builds[0].cleared.likely, MONDAY + timedelta(hours=10, minutes=1))
        assert f.jobs[1].when is not None
        self.assertEqual(f.jobs[1].when.likely, MONDAY.replace(day=20, hour=8, minute=5))

    def test_a_running_build_counts_and_scrap_makes_a_job_later(self) -> None:
        s = replace(
            shop(1), machines=(MachineSlot("a", "any", SlotPhase.OCCUPIED, H), MachineSlot("b", "any", takes=False))
        )
        f = forecast(s, make_plan(s), [RunningBuild("a", 7, H)], STEADY, MODELS)
        self.assertEqual(f.ends["a"].likely, MONDAY + timedelta(hours=1))
        self.assertIn(7, f.jobs)
        often = forecast(s, make_plan(s), [RunningBuild("a", 7, H)], replace(STEADY, scrap=0.5), MODELS)
        assert f.jobs[1].when and often.jobs[1].when
        self.assertGreater(often.jobs[1].when.late, f.jobs[1].when.late)

    def test_a_shop_without_work_has_nothing_to_foresee(self) -> None:
        s = replace(shop(), work=())
        f = forecast(s, make_plan(s), [], ShopHistory(), MODELS)
        self.assertEqual((len(f.builds), f.jobs, f.ends, f.builds.last_cleared()), (0, {}, {}, None))
        self.assertEqual(f.together([3], MONDAY).chance, 0.0)

    def test_the_same_question_has_the_same_answer(self) -> None:
        s = shop(6)
        first, second = (forecast(s, make_plan(s), [], ShopHistory(), MODELS) for _ in range(2))
        self.assertEqual(list(first.builds), list(second.builds))

    def test_an_order_is_done_when_its_last_job_is_and_never_when_one_cannot_be(self) -> None:
        s = replace(
            shop(),
            work=(
                WaitingWork(1, 1, NeedRow({"any": H})),
                WaitingWork(2, 1, NeedRow({"any": 3 * H})),
                WaitingWork(3, 1, NeedRow({})),
            ),
        )
        f = forecast(s, make_plan(s), [], STEADY, MODELS)
        both = f.together([1, 2], MONDAY + timedelta(hours=6))
        self.assertEqual((both.when, both.chance), (f.jobs[2].when, 1.0))
        self.assertIsNone(f.together([1, 3], None).when)

    def test_what_is_built_and_only_to_be_judged_keeps_nothing_from_being_done(self) -> None:
        s = shop()
        found = forecast(s, make_plan(s), [], STEADY, MODELS)
        alone, both = found.together([1], None), found.together([1, 2], None, built={2})
        self.assertIsNotNone(alone.when)
        self.assertEqual(both, alone)
        self.assertIsNone(found.together([1, 2], None).when, "it waits, and the plan has no place for it")
        judged = found.together([2], MONDAY + timedelta(hours=1), built={2})
        assert judged.when is not None
        self.assertEqual((judged.when.late, judged.chance), (MONDAY, 1.0))

    def test_promises_follow_the_chance(self) -> None:
        due = MONDAY
        for chance, word in ((0.95, "in time"), (0.9, "in time"), (0.7, "at risk"), (0.2, "late")):
            when = forecast(shop(), make_plan(shop()), [], STEADY, MODELS).jobs[1].when
            self.assertEqual(promise(Completion(when, chance), due), word)
        self.assertEqual(promise(Completion(None), None), "unknown")
        self.assertEqual(promise(Completion(None), due, due + timedelta(minutes=1)), "late")


class WhatIf(unittest.TestCase):
    def test_each_change_changes_a_copy_and_nothing_else(self) -> None:
        s = shop(4)
        before = repr(s)
        cases: list[tuple[what_if.ScenarioChange, set[str]]] = [
            (what_if.MachineOut("a"), {"b"}),
            (what_if.MoreMachines("a", 2), {"a", "a + 1", "a + 2", "b"}),
        ]
        for change, machines in cases:
            plan = make_plan(what_if.changed(s, change))
            self.assertEqual({a.machine for a in plan.assignments}, machines)
        due = what_if.changed(s, what_if.JobsDueBy(frozenset({1}), MONDAY + timedelta(hours=2)))
        self.assertEqual(due.work[0].due_s, 2 * H)
        saturday = MONDAY.replace(day=24)
        more = what_if.changed(s, what_if.ExtraShift(saturday, saturday + timedelta(hours=4)))
        self.assertIn((saturday, saturday + timedelta(hours=4)), more.hands[""][0])
        self.assertEqual(what_if.changed(s, what_if.OtherStrategy(Strategy.DUE_FIRST)).strategy, Strategy.DUE_FIRST)
        self.assertTrue(what_if.changed(s, what_if.JobsFirst(frozenset({1}))).work[0].top)
        self.assertEqual(repr(s), before)

    def test_a_machine_that_is_away_comes_back(self) -> None:
        s = replace(shop(), machines=(MachineSlot("a", "any", SlotPhase.AWAY),))
        self.assertEqual(make_plan(s).assignments, ())
        self.assertEqual(len(make_plan(what_if.changed(s, what_if.MachineBack("a"))).assignments), 2)

    def test_what_cannot_be_is_said(self) -> None:
        for change in (
            what_if.MachineOut("nobody"),
            what_if.MoreMachines("nobody", 1),
            what_if.ExtraShift(MONDAY, MONDAY),
        ):
            with self.assertRaises(ValueError):
                what_if.changed(shop(), change)


class StaffedHours(unittest.TestCase):
    def test_a_week_and_a_day_that_differs(self) -> None:
        hours = weekdays(8, 17).with_day(date(2026, 10, 21), (600, 720))
        spans = hours.spans(MONDAY.replace(hour=0), MONDAY + timedelta(days=6))
        self.assertEqual(len(spans), 5)
        self.assertEqual(spans[2], (datetime(2026, 10, 21, 10, tzinfo=UTC), datetime(2026, 10, 21, 12, tzinfo=UTC)))

    def test_a_shop_opens_by_its_own_clock_when_the_clocks_change(self) -> None:
        zone = ZoneInfo("Europe/Lisbon")
        hours = ShiftPattern(((((480, 1020)),),) * 7, zone="Europe/Lisbon")
        begin = datetime(2026, 10, 24, tzinfo=UTC)
        for a, b in hours.spans(begin, begin + timedelta(days=4)):
            self.assertEqual((a.astimezone(zone).hour, b.astimezone(zone).hour), (8, 17))

    def test_always_is_one_span_without_a_seam(self) -> None:
        self.assertEqual(len(ALWAYS.spans(MONDAY, MONDAY + timedelta(days=9))), 1)

    def test_the_next_moment_with_hands(self) -> None:
        staffing = Staffing(weekdays(8, 17).spans(MONDAY, MONDAY + timedelta(days=3)))
        self.assertEqual(staffing.next(MONDAY), MONDAY)
        self.assertEqual(staffing.next(MONDAY.replace(hour=18)), MONDAY.replace(day=20, hour=8))
        self.assertIsNone(staffing.next(MONDAY + timedelta(days=30)))
        self.assertEqual(staffing.between(MONDAY.replace(hour=16), MONDAY.replace(day=20, hour=9)), timedelta(hours=2))


class Turnaround(unittest.TestCase):
    def test_gaps_lie_between_builds_and_know_whether_somebody_was_there(self) -> None:
        def ran(a: float, b: float, machine: int = 1) -> tuple[int, int, int]:
            start, end = (microseconds(MONDAY + timedelta(hours=hours)) for hours in (a, b))
            return machine, start, end

        found = gaps(np.array([ran(0, 1), ran(23, 24), ran(1.5, 12), ran(0, 3, 2)]), SPANS)
        self.assertEqual(list(zip(found.minutes, found.staffed, strict=True)), [(30.0, True), (660.0, False)])
        row, staffed, away = summed("Fleet", found)
        self.assertEqual((row.gaps, row.middle_min, row.lost_h), (2, 345.0, 11.5))
        self.assertEqual((staffed.middle_min, away.middle_min), (30.0, 660.0))
        nothing = gaps(np.zeros((0, 3), np.int64), SPANS)
        self.assertEqual(summed("Fleet", nothing)[0].gaps, 0)
        self.assertEqual(joined([nothing, found]).machine.tolist(), [1, 1])


if __name__ == "__main__":
    unittest.main()
