"""The planner: which machine makes what next, by each strategy, with spools, nozzles, hands and upkeep."""

from __future__ import annotations

import itertools
import unittest
from collections import Counter
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from math import inf

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.planning.choices import put_on, why_words
from chronarch.core.planning.planner import make_plan
from chronarch.core.planning.shifts import weekdays
from chronarch.core.planning.snapshot import (
    ChoiceReason,
    Costs,
    LoadedSpool,
    MachineSlot,
    NeedRow,
    Nozzle,
    QueuePlan,
    SlotPhase,
    Snapshot,
    Strategy,
    WaitingWork,
)

MONDAY = datetime(2026, 10, 19, 9, tzinfo=UTC)
H = 3600.0
DAY_SHIFT = tuple(weekdays(8, 17).spans(MONDAY, MONDAY + timedelta(days=60)))
ALWAYS = ((MONDAY - timedelta(days=1), MONDAY + timedelta(days=200)),)
TEAL, OCHRE = LoadedSpool("PLA", "teal"), LoadedSpool("PLA", "ochre")


def need(hours: float = 1.0, material: str = "", colour: str = "", **more: object) -> NeedRow:
    return NeedRow({"any": hours * H}, material, colour, **more)  # type: ignore[arg-type]


def place(name: str, **more: object) -> MachineSlot:
    return MachineSlot(name, "any", **more)  # type: ignore[arg-type]


def shop(machines: list[MachineSlot], work: list[WaitingWork], *, hands: object = DAY_SHIFT, people: int = 1,
         strategy: Strategy = Strategy.HANDS_AWARE, spares: tuple[LoadedSpool, ...] = (),
         costs: Costs = Costs()) -> Snapshot:  # fmt: skip
    return Snapshot(MONDAY, tuple(machines), tuple(work), {"": (hands, people)}, spares, costs, strategy)  # type: ignore[dict-item]


def order(plan: QueuePlan, machine: str = "a") -> list[int]:
    return [a.job for a in plan.of(machine)]


class Choosing(unittest.TestCase):
    def test_first_come_takes_the_first_in_line_whatever_is_due(self) -> None:
        work = [WaitingWork(1, 1, need(), line=2, due_s=2 * H), WaitingWork(2, 1, need(), line=1)]
        plan = make_plan(shop([place("a")], work, strategy=Strategy.FIRST_COME))
        self.assertEqual(order(plan), [2, 1])
        self.assertEqual(plan.assignments[0].why, ChoiceReason.IN_LINE)

    def test_due_first_takes_what_is_due_first_and_then_the_line(self) -> None:
        work = [
            WaitingWork(1, 1, need(), line=1),
            WaitingWork(2, 1, need(), line=2, due_s=30 * H),
            WaitingWork(3, 1, need(), 3, due_s=5 * H),
        ]
        plan = make_plan(shop([place("a")], work, strategy=Strategy.DUE_FIRST))
        self.assertEqual(order(plan), [3, 2, 1])

    def test_top_goes_before_priority_and_priority_before_all_else(self) -> None:
        work = [
            WaitingWork(1, 1, need(), line=1, due_s=H),
            WaitingWork(2, 1, need(), 2, priority=1),
            WaitingWork(3, 1, need(), 3, top=True),
        ]
        for strategy in Strategy:
            with self.subTest(strategy=strategy):
                plan = make_plan(shop([place("a")], work, strategy=strategy))
                self.assertEqual(order(plan), [3, 2, 1])
                self.assertEqual([a.why for a in plan.assignments[:2]], [ChoiceReason.TOP, ChoiceReason.PRIORITY])

    def test_by_day_a_machine_takes_what_ends_in_the_day_and_before_people_leave_the_longest(self) -> None:
        work = [
            WaitingWork(1, 1, need(14), line=1),
            WaitingWork(2, 1, need(3), line=2),
            WaitingWork(3, 1, need(3), line=3),
        ]
        plan = make_plan(shop([place("a", cool_s=600.0)], work))
        self.assertEqual(order(plan), [2, 3, 1])
        overnight = plan.assignments[-1]
        self.assertEqual(overnight.why, ChoiceReason.OVERNIGHT)
        self.assertLess(overnight.start_s, 8 * H, "it starts before people leave at 17:00")
        self.assertLess(overnight.wait_s, 3 * H)

    def test_what_would_be_late_overnight_goes_before_the_longest(self) -> None:
        late = MONDAY.replace(hour=16, minute=30)
        work = [WaitingWork(1, 1, need(14), line=1), WaitingWork(2, 1, need(2), line=2, due_s=17 * H)]
        plan = make_plan(replace(shop([place("a")], work), at=late))
        self.assertEqual(order(plan)[0], 2)
        self.assertEqual(plan.assignments[0].why, ChoiceReason.DUE)

    def test_what_is_due_on_a_day_off_is_made_before_people_leave_or_not_before_the_longest(self) -> None:
        friday = MONDAY + timedelta(days=4)
        saturday_evening = friday.replace(hour=20) + timedelta(days=1)
        for hour, first in ((14, 2), (16, 1)):
            at = friday.replace(hour=hour)
            due = (saturday_evening - at) / timedelta(seconds=1)
            work = [WaitingWork(1, 1, need(16), line=1), WaitingWork(2, 1, need(2), line=2, due_s=due)]
            with self.subTest(hour=hour):
                plan = make_plan(replace(shop([place("a")], work), at=at))
                self.assertEqual(order(plan)[0], first)
                self.assertLess(plan.time(plan.next_on("a").start_s), friday.replace(hour=17))  # type: ignore[union-attr]

    def test_a_bed_that_hands_cannot_come_to_before_they_leave_gets_the_longest(self) -> None:
        at = MONDAY.replace(hour=15)
        others = [place(f"m{n}", phase=SlotPhase.OCCUPIED, takes=False) for n in range(12)]
        work = [WaitingWork(1, 13, need(14), line=2), WaitingWork(2, 6, need(0.5), line=1)]
        slow = Costs(clear_s=720, walk_s=0)
        for beds, first in ((1, 2), (12, 1)):
            with self.subTest(beds=beds):
                plan = make_plan(replace(shop([place("a"), *others[:beds]], work, costs=slow), at=at))
                self.assertEqual(order(plan)[0], first)

    def test_a_machine_that_lets_go_by_itself_gets_many_short_ones_overnight(self) -> None:
        late = MONDAY.replace(hour=16, minute=30)
        work = [WaitingWork(1, 1, need(12), line=1), WaitingWork(2, 6, need(2), line=2)]
        machines = [place("a", releases=4, releases_left=4), place("b")]
        plan = make_plan(replace(shop(machines, work), at=late))
        self.assertEqual(order(plan, "b")[0], 1, "the long one is for the machine that waits for hands")
        night = [a for a in plan.of("a") if a.start_s < 15 * H]
        self.assertGreater(len(night), 3)
        self.assertTrue(all(a.job == 2 for a in night))
        self.assertEqual(night[0].why, ChoiceReason.RELEASES)

    def test_releases_in_a_row_have_a_cap_while_nobody_is_there(self) -> None:
        late = MONDAY.replace(hour=17)
        plan = make_plan(
            replace(shop([place("a", releases=2, releases_left=2)], [WaitingWork(1, 8, need(1))]), at=late)
        )
        opens = 15 * H
        before = [a for a in plan.of("a") if a.start_s < opens]
        self.assertEqual(len(before), 3, "two come off, the third waits for hands")

    def test_hands_clear_one_bed_at_a_time(self) -> None:
        machines = [place(f"m{n}", phase=SlotPhase.OCCUPIED) for n in range(6)]
        plan = make_plan(shop(machines, [WaitingWork(1, 6, need())], costs=Costs(clear_s=600, walk_s=0)))
        self.assertEqual(sorted(plan.cleared_s.values()), [600.0 * n for n in range(1, 7)])
        two = make_plan(shop(machines, [WaitingWork(1, 6, need())], people=2, costs=Costs(clear_s=600, walk_s=0)))
        self.assertEqual(sorted(two.cleared_s.values()), [600.0, 600.0, 1200.0, 1200.0, 1800.0, 1800.0])

    def test_a_bed_that_ends_at_night_is_cleared_when_people_are_back(self) -> None:
        plan = make_plan(shop([place("a")], [WaitingWork(1, 2, need(10))]))
        first, second = plan.assignments
        tuesday_eight = 23 * H
        self.assertGreaterEqual(first.cleared_s, tuesday_eight)
        self.assertAlmostEqual(second.start_s, first.cleared_s)

    def test_nothing_is_planned_for_what_nobody_can_make_and_it_is_said(self) -> None:
        never = NeedRow({"another kind": H})
        plan = make_plan(shop([place("a")], [WaitingWork(1, 3, never), WaitingWork(2, 1, need())]))
        self.assertEqual((order(plan), dict(plan.unplaced)), ([2], {1: 3}))

    def test_not_before_and_upkeep_are_kept(self) -> None:
        plan = make_plan(shop([place("a")], [WaitingWork(1, 1, need(), not_before_s=3 * H)]))
        self.assertGreaterEqual(plan.assignments[0].start_s, 3 * H)
        kept = make_plan(shop([place("a", upkeep=((0.5 * H, 2 * H),))], [WaitingWork(1, 1, need())]))
        self.assertGreaterEqual(kept.assignments[0].start_s, 2 * H)
        fits = make_plan(shop([place("a", upkeep=((1.5 * H, 2 * H),))], [WaitingWork(1, 1, need())]))
        self.assertEqual(fits.assignments[0].start_s, 0.0)

    def test_closed_and_absent_machines_get_nothing_and_manual_ones_wait_for_hands(self) -> None:
        machines = [place("a", takes=False), place("b", phase=SlotPhase.AWAY), place("c", by_hand=True)]
        plan = make_plan(shop(machines, [WaitingWork(1, 2, need())]))
        self.assertEqual({a.machine for a in plan.assignments}, {"c"})
        self.assertIsNotNone(plan.assignments[0].hands_s)


class Changing(unittest.TestCase):
    def test_a_spool_is_changed_only_where_that_is_worth_it_and_one_is_there(self) -> None:
        work = [WaitingWork(1, 1, need(1, "PLA", "ochre"))]
        without = make_plan(shop([place("a", spool=TEAL)], work))
        self.assertEqual(dict(without.unplaced), {1: 1})
        plan = make_plan(shop([place("a", spool=TEAL)], work, spares=(OCHRE,)))
        (a,) = plan.assignments
        self.assertEqual((a.load, a.hands_s, a.start_s), (OCHRE, 0.0, 240.0))
        near = make_plan(shop([place("a", spool=TEAL), place("b", spool=OCHRE)], work, spares=(OCHRE,)))
        self.assertEqual([(a.machine, a.load) for a in near.assignments], [("b", None)])

    def test_one_spare_spool_is_loaded_on_one_machine_only(self) -> None:
        work = [WaitingWork(1, 2, need(20, "PLA", "ochre"))]
        plan = make_plan(shop([place("a", spool=TEAL), place("b", spool=TEAL)], work, spares=(OCHRE,)))
        self.assertEqual(len({a.machine for a in plan.assignments}), 1)

    def test_a_machine_waits_for_the_spool_that_comes_off_another(self) -> None:
        machines = [place("a", spool=TEAL), MachineSlot("b", "other", spool=OCHRE)]
        work = [
            WaitingWork(1, 1, NeedRow({"other": H}, "PLA", "slate"), line=1),
            WaitingWork(2, 1, NeedRow({"any": H}, "PLA", "ochre"), line=2),
        ]
        plan = make_plan(shop(machines, work, spares=(LoadedSpool("PLA", "slate"),), strategy=Strategy.FIRST_COME))
        self.assertEqual({a.job: a.machine for a in plan.assignments}, {1: "b", 2: "a"})
        self.assertEqual(dict(plan.unplaced), {})

    def test_a_build_that_would_run_out_gets_a_fuller_spool_first(self) -> None:
        low = replace(TEAL, grams=30.0)
        full = replace(TEAL, grams=900.0)
        work = [WaitingWork(1, 2, need(1, "PLA", "teal", grams=20.0))]
        plan = make_plan(shop([place("a", spool=low)], work, spares=(full,)))
        self.assertEqual([a.load for a in plan.assignments], [None, full])
        self.assertEqual(dict(make_plan(shop([place("a", spool=low)], work)).unplaced), {1: 1})

    def test_a_nozzle_is_changed_when_there_is_one_in_the_drawer(self) -> None:
        work = [WaitingWork(1, 1, need(1, nozzle_mm=0.4))]
        big = place("a", nozzle=Nozzle(0.6))
        self.assertEqual(dict(make_plan(shop([big], work)).unplaced), {1: 1})
        plan = make_plan(shop([big], work, costs=Costs(spare_nozzles=(Nozzle(0.4),))))
        self.assertEqual((plan.assignments[0].nozzle, plan.assignments[0].start_s), (Nozzle(0.4), 900.0))
        self.assertEqual(put_on(plan.assignments[0]), ("", "a 0.4 mm nozzle"))

    def test_hands_are_told_that_the_nozzle_is_to_be_hardened(self) -> None:
        work = [WaitingWork(1, 1, need(1, "PLA", "teal", hardened=True))]
        costs = Costs(spare_nozzles=(Nozzle(0.4, hardened=True),))
        (made,) = make_plan(shop([place("a", nozzle=Nozzle(0.4))], work, spares=(TEAL,), costs=costs)).assignments
        self.assertEqual(put_on(made), ("teal PLA", "a hardened 0.4 mm nozzle"))
        said = why_words(made, Strategy.HANDS_AWARE, lambda s: MONDAY + timedelta(seconds=s))
        self.assertIn("needs teal PLA and a hardened 0.4 mm nozzle first", said)

    def test_a_change_at_night_does_not_keep_a_machine_from_what_it_could_start(self) -> None:
        night = MONDAY.replace(hour=20)
        work = [WaitingWork(1, 1, need(14, "PLA", "ochre"), line=1), WaitingWork(2, 1, need(2, "PLA", "teal"), line=2)]
        plan = make_plan(replace(shop([place("a", spool=TEAL)], work, spares=(OCHRE,)), at=night))
        self.assertEqual(order(plan), [2, 1])

    def test_a_change_that_nobody_makes_gives_way_to_what_needs_none(self) -> None:
        work = [WaitingWork(1, 1, need(1, "PLA", "ochre"), top=True), WaitingWork(2, 1, need(1, "PLA", "teal"), line=2)]
        fresh = make_plan(shop([place("a", spool=TEAL)], work, spares=(OCHRE,)))
        self.assertEqual(order(fresh), [1, 2])
        waited = make_plan(shop([place("a", spool=TEAL, idle_s=3600.0)], work, spares=(OCHRE,)))
        self.assertEqual(order(waited), [2, 1])


class Steadiness(unittest.TestCase):
    def setUp(self) -> None:
        self.machines = [place(f"m{n}", spool=TEAL if n % 2 else OCHRE) for n in range(5)]
        self.work = [
            WaitingWork(n, 2, need(0.5 + n % 7), line=n, due_s=(n * 9 + 4) * H if n % 3 else inf) for n in range(20)
        ]
        self.shop = shop(self.machines, self.work)
        self.plan = make_plan(self.shop)

    def test_the_same_shop_has_the_same_plan(self) -> None:
        self.assertEqual(make_plan(self.shop), self.plan)

    def test_as_time_goes_on_the_plan_stays(self) -> None:
        later = replace(self.shop, at=MONDAY + timedelta(minutes=3))
        after = make_plan(later, self.plan)
        self.assertEqual(
            [(a.machine, a.job) for a in after.assignments], [(a.machine, a.job) for a in self.plan.assignments]
        )

    def test_a_new_job_takes_its_place_and_the_others_keep_theirs(self) -> None:
        urgent = replace(self.shop, work=(*self.shop.work, WaitingWork(99, 1, need(1), line=99, due_s=1.2 * H)))
        after = make_plan(urgent, self.plan)
        self.assertIn(99, [a.job for a in after.assignments if a.start_s == 0.0])
        had, has = (Counter((a.machine, a.job) for a in p.assignments) for p in (self.plan, after))
        self.assertGreater((had & has).total(), 0.8 * len(self.plan.assignments))

    def test_a_plan_that_would_be_late_gives_way_to_one_that_is_not(self) -> None:
        work = [WaitingWork(n, 1, need(3), line=n) for n in (1, 2, 3, 4)]
        before = make_plan(shop([place("a")], work, hands=ALWAYS))
        self.assertEqual(order(before), [1, 2, 3, 4])
        pressing = [*work[:3], replace(work[3], due_s=4 * H)]
        self.assertEqual(order(make_plan(shop([place("a")], pressing, hands=ALWAYS), before))[0], 4)
        slack = [*work[:3], replace(work[3], due_s=40 * H)]
        self.assertEqual(order(make_plan(shop([place("a")], slack, hands=ALWAYS), before)), [1, 2, 3, 4])

    def test_what_is_due_takes_the_shop_early_where_it_would_be_late_otherwise(self) -> None:
        """Taken as they come, nine builds that are not due would make the last of ten that are too late."""
        work = [WaitingWork(1, 9, need(2), line=1), WaitingWork(2, 10, need(2), line=2, due_s=26 * H)]
        plan = make_plan(shop([place("a")], work, hands=ALWAYS))
        self.assertLess(max(a.end_s for a in plan.assignments if a.job == 2), 26 * H)

    def test_what_is_no_longer_wanted_falls_out(self) -> None:
        fewer = replace(self.shop, work=self.shop.work[5:])
        after = make_plan(fewer, self.plan)
        self.assertFalse({a.job for a in after.assignments} & set(range(5)))
        self.assertEqual(len(after.assignments), 30)

    def test_each_assignment_says_why(self) -> None:
        for a in self.plan.assignments:
            text = why_words(a, self.plan.strategy, self.plan.time, "due Mon 17:00")
            self.assertRegex(text, r"^[a-z].{10,}")


class Invariants(unittest.TestCase):
    @given(
        st.lists(st.tuples(st.floats(0.2, 20), st.integers(1, 5), st.sampled_from(["", "teal", "ochre", "slate"]),
                           st.one_of(st.just(inf), st.floats(0, 200)), st.integers(-1, 1)), min_size=1, max_size=12),
        st.integers(1, 5),
        st.sampled_from(list(Strategy)),
    )  # fmt: skip
    def test_every_plan_is_possible(
        self, jobs: list[tuple[float, int, str, float, int]], machines: int, strategy: Strategy
    ) -> None:
        places = [
            place(f"m{n}", spool=(TEAL, OCHRE)[n % 2], cool_s=300.0, phase=SlotPhase(n % 2)) for n in range(machines)
        ]
        work = [
            WaitingWork(n, copies, need(hours, "PLA" if colour else "", colour), n, due_s=due * H, priority=priority)
            for n, (hours, copies, colour, due, priority) in enumerate(jobs)
        ]
        s = shop(places, work, strategy=strategy, spares=(TEAL, OCHRE))
        plan = make_plan(s)
        made = Counter(a.job for a in plan.assignments)
        for w in work:
            self.assertEqual(
                made[w.job] + plan.unplaced.get(w.job, 0), w.builds, "each copy is planned, or said not to be"
            )
        for m in places:
            mine = plan.of(m.name)
            for a in mine:
                self.assertGreaterEqual(a.end_s, a.start_s)
                self.assertGreaterEqual(a.cleared_s, a.end_s)
            for one, two in itertools.pairwise(mine):
                self.assertGreaterEqual(two.start_s, one.cleared_s - 1e-6, "a bed is clear before it is built on")
        self.assert_hands_suffice(s, plan)
        self.assert_spools_fit(s, plan)
        again = make_plan(s, plan)
        self.assertEqual(Counter(a.job for a in again.assignments), made)

    def assert_hands_suffice(self, s: Snapshot, plan: QueuePlan) -> None:
        """The one pair of hands does one thing at a time, and begins it while somebody is there."""
        clears = [*plan.cleared_s.values(), *(a.cleared_s for a in plan.assignments)]
        busy = [(at - s.costs.clear_s, at) for at in clears]
        busy += [(a.hands_s, a.start_s) for a in plan.assignments if a.hands_s is not None]
        busy.sort()
        for one, two in itertools.pairwise(busy):
            self.assertGreaterEqual(two[0], one[1] - 1e-3, "hands do one thing at a time")
        for begin, _ in busy:
            at = plan.time(begin + 1e-3)
            self.assertTrue(any(a <= at <= b + timedelta(seconds=1) for a, b in DAY_SHIFT), f"nobody is there at {at}")

    def assert_spools_fit(self, s: Snapshot, plan: QueuePlan) -> None:
        """What is on a machine when a build begins is what its job needs, and no spool is in two places."""
        on = {m.name: m.spool for m in s.machines}
        shelf = list(s.spares)
        needs = {w.job: w.need for w in s.work}
        for a in plan.assignments:
            if a.load is not None:
                shelf.append(on[a.machine])
                shelf.remove(a.load)
                on[a.machine] = a.load
            wanted = needs[a.job]
            self.assertIn(wanted.colour, ("", on[a.machine].colour))
            self.assertIn(wanted.material, ("", on[a.machine].material))


if __name__ == "__main__":
    unittest.main()
