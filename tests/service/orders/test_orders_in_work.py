"""Orders while machines build them: held, pressed, changed, cancelled; pools, tags, upkeep and hours decide."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import timedelta

import pymysql
from sqlalchemy import make_url

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.states import Intake, MachineState, Outcome
from chronarch.core.orders.requirement import Requirement
from chronarch.core.orders.states import Verdict
from chronarch.core.planning.snapshot import Strategy
from chronarch.wire import library as wl
from chronarch.wire.orders import jobs as ww
from chronarch.wire.orders import orders as wo
from chronarch.wire.orders.builds import Build
from chronarch.wire.orders.stock import StockCount
from chronarch.wire.planning import scenarios as wp
from chronarch.wire.planning import settings as ws
from chronarch.wire.upkeep.windows import NewUpkeep
from tests.support.gcode import squares
from tests.support.world import WorldCase, eventually

LONG = squares(layers=60, rounds=10, side=50, feed=3000)
"""Some three thousand commands: a dozen seconds and more at the shop's rate."""


class InWork(WorldCase):
    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.add_file("tip.gcode", squares(layers=2))
        w.add_file("hopper.gcode", LONG)
        w.add_file("plate.gcode", squares(layers=2))
        plate = w.client.do(requests.change_file("plate.gcode", wl.FileChange(pieces=4)))
        w.client.do(requests.add_part(wl.NewPart(name="ring gauge", files=[plate.id])))

    def setUp(self) -> None:
        self.world.intake(Intake.CLOSED)
        for name in self.machines:
            self.clear(name)
        self.addCleanup(self.quiet)

    def quiet(self) -> None:
        """Nothing waits any more, and nothing builds."""
        w = self.world
        w.intake(Intake.CLOSED)
        for window in w.client.do(requests.upkeep_windows()):
            w.client.do(requests.remove_upkeep_window(window.id))
        for order in w.client.do(requests.orders()):
            w.client.do(requests.cancel_order(order.id, wo.Cancel(running="finish")))
        for job in w.client.do(requests.jobs()):
            if job.state in ("waiting", "held", "running") and job.order is None:
                w.client.do(requests.act_on_job(job.id, "withdraw"))

    def order(self, *lines: dict[str, object], **more: object) -> wo.Order:
        order = wo.NewOrder.model_validate({"customer": "Tern Island Observatory", "lines": lines, **more})
        return self.world.client.do(requests.make_order(order))

    def made_on(self, name: str) -> Build:
        """What a machine has on its bed, once that is ready for hands."""
        self.world.until(name, MachineState.UNCLEARED)
        return self.world.client.do(requests.builds(machine=name))[0]

    def test_a_request_that_the_database_undid_is_carried_out_all_the_same(self) -> None:
        w = self.world
        url = make_url(w.database)
        other = pymysql.connect(
            host=url.host, port=url.port, user=url.username, password=str(url.password), database=url.database
        )
        waits = (
            "select count(*) from information_schema.processlist"
            " where time_ms > 200 and info like '%FROM machine%FOR UPDATE'"
        )
        with other, other.cursor() as db, ThreadPoolExecutor() as beside:
            db.execute("select id from machine where name = 'Bezel'")
            machine = db.fetchone()[0]
            notes = [(machine, "note", str(n)) for n in range(50)]
            db.executemany(
                "insert into notice (at, machine_id, kind, gravity, text, cause, tender, taken_by, closed_by, routed)"
                " values (now(), %s, 'build-ended', %s, %s, '', '', '', '', 1)",
                notes,
            )
            asked = beside.submit(w.client.do, requests.change_machine("Bezel", place="shelf 9"))
            eventually(lambda: db.execute(waits) and db.fetchone()[0], "the request waits for the machine's row")
            db.execute("update machine set place = 'shelf 8' where id = %s", machine)
            other.rollback()
            self.assertEqual(asked.result(timeout=30).place, "shelf 9")

    def test_a_held_order_starts_nothing_until_it_is_released_and_what_is_added_is_held_with_it(self) -> None:
        w = self.world
        o = self.order({"file": "tip.gcode", "quantity": 1}, held=True, priority=1)
        added = w.client.do(requests.change_order(o.id, wo.OrderChange(add=[wo.NewOrderLine(file="plate.gcode")])))
        self.assertEqual([(j.state, j.priority) for j in added.lines], [("held", 1)] * 2)
        self.world.intake(Intake.OPEN)
        free = w.submit("tip.gcode")
        eventually(lambda: w.builds(free), "what is not held starts")
        self.assertEqual([w.builds(j) for j in added.lines], [[], []])
        w.client.do(requests.change_order(o.id, wo.OrderChange(held=False)))
        eventually(lambda: any(w.builds(j) for j in added.lines), "the order starts")
        self.assertEqual(w.client.do(requests.order(o.id)).state, "running")

    def test_an_order_is_cancelled_only_once_it_is_said_what_becomes_of_running_copies(self) -> None:
        w = self.world
        o = self.order({"file": "hopper.gcode", "quantity": 3})
        self.world.intake(Intake.OPEN, "Anchor")
        w.until("Anchor", MachineState.BUILDING)
        with self.assertRaises(RefusedByService) as caught:
            w.client.do(requests.cancel_order(o.id, wo.Cancel()))
        self.assertEqual(caught.exception.problem.status, 409)
        self.assertIn("1 build of it runs; say whether to let them finish or to stop them", str(caught.exception))
        self.assertEqual(w.client.do(requests.order(o.id)).state, "running", "nothing has changed")
        w.client.do(requests.cancel_order(o.id, wo.Cancel(running="stop")))
        build = self.made_on("Anchor")
        self.assertEqual(build.outcome, Outcome.STOPPED)
        self.assertIn(f"order {o.id} was cancelled by tests (key 1)", build.reason)
        self.assertEqual(len(w.builds(o.lines[0])), 1, "nothing more of it is made")

    def test_what_finishes_after_a_cancel_goes_to_stock(self) -> None:
        w = self.world
        o = self.order({"part": "ring gauge", "quantity": 4, "requirement": {"material": "PLA"}})
        self.world.intake(Intake.OPEN, "Anchor")
        w.build_of(o.lines[0])
        w.client.do(requests.cancel_order(o.id, wo.Cancel(running="finish")))
        build = self.made_on("Anchor")
        self.assertEqual(build.outcome, Outcome.COMPLETED)
        w.client.do(requests.verdict(build.id, Verdict.GOOD))
        found = [(s.part, s.pieces) for s in w.client.do(requests.stock()) if s.material == "PLA"]
        self.assertEqual(found, [("ring gauge", 4)])
        w.client.do(requests.count_stock(StockCount(part="ring gauge", material="PLA", pieces=0)))

    def test_a_quantity_is_changed_in_mid_order(self) -> None:
        w = self.world
        o = self.order({"part": "ring gauge", "quantity": 12})
        line = o.lines[0]
        self.world.intake(Intake.OPEN, "Anchor")
        w.client.do(requests.verdict(self.made_on("Anchor").id, Verdict.GOOD))
        eventually(lambda: len(w.builds(line)) == 2, "the second plate starts")
        fewer = w.client.do(requests.change_job(line.id, ww.JobChange(copies=8)))
        self.assertEqual((fewer.good, fewer.building, fewer.waiting), (4, 4, 0))
        w.client.do(requests.verdict(self.made_on("Anchor").id, Verdict.GOOD))
        done = w.client.do(requests.order(o.id))
        self.assertEqual((done.state, done.good, done.pieces, done.promise), ("finished", 8, 8, "done"))
        more = w.client.do(requests.change_job(line.id, ww.JobChange(copies=9)))
        self.assertEqual((more.copies, more.good, more.waiting + more.building >= 1), (9, 8, True))
        eventually(lambda: len(w.builds(line)) == 3, "one more plate starts")

    def test_a_promise_says_its_chance_and_what_has_changed_it(self) -> None:
        w = self.world
        now = w.client.do(requests.shop()).now
        self.world.intake(Intake.OPEN, "Anchor")
        far = self.order({"file": "tip.gcode", "quantity": 1}, due=now + timedelta(days=400), held=True)
        self.assertEqual(far.promise, "none", "what is held is not promised")
        far = w.client.do(requests.change_order(far.id, wo.OrderChange(held=False)))
        self.assertEqual((far.promise, far.promise_why), ("in time", "it was held or released"))
        self.assertEqual(far.chance, 1.0)
        self.assertIn("100 of 100 times", far.words)
        late = w.client.do(requests.change_order(far.id, wo.OrderChange(due=now - timedelta(days=1))))
        self.assertEqual((late.promise, late.promise_why), ("late", "its due time was changed"))
        assert late.promise_since is not None and far.promise_since is not None
        self.assertGreaterEqual(late.promise_since, far.promise_since)

    def test_a_part_of_several_files_waits_for_what_is_loaded_on_each_machine_not_on_one_of_them(self) -> None:
        w = self.world
        names = [f"knob-{n}.gcode" for n in range(2)]
        for n, name in enumerate(names):
            w.add_file(name, squares(layers=2 + n))
        made_by = [w.client.do(requests.file(name)).id for name in names]
        w.client.do(requests.add_part(wl.NewPart(name="knob", files=made_by)))
        tools = w.machine("Bezel").tools
        loaded = [replace(tools[0], material="PETG", colour="black")]
        w.client.do(requests.change_machine("Bezel", tools=loaded))
        try:
            job = w.client.do(requests.submit(ww.NewJob(part="knob", requirement=Requirement(material="PETG"))))
            w.intake(Intake.OPEN)
            self.assertEqual(w.build_of(job).machine, "Bezel")
        finally:
            w.intake(Intake.CLOSED)
            w.client.do(requests.change_machine("Bezel", tools=tools))

    def test_an_order_is_repeated_as_it_was(self) -> None:
        w = self.world
        o = self.order(
            {"part": "ring gauge", "quantity": 6, "requirement": {"colour": "teal", "tags": "not loud"},
             "note": "plug"},
            note="checked one by one", tags=["standing"], priority=2, due="2026-10-30T12:00:00Z",
        )  # fmt: skip
        again = w.client.do(requests.repeat_order(o.id))
        self.assertEqual((again.repeats, again.note, again.tags, again.priority), (o.id, o.note, o.tags, 2))
        (old,), (new,) = o.lines, again.lines
        for name in ("file", "copies", "requirement", "note", "priority"):
            self.assertEqual(getattr(new, name), getattr(old, name), name)
        self.assertIsNone(again.due, "when it is wanted must be said anew")

    def test_pools_tags_models_and_volume_choose_the_machine(self) -> None:
        w = self.world
        w.client.do(requests.change_machine("Bezel", pools=["wide"], tags=["food safe", "quiet"]))
        self.addCleanup(lambda: w.client.do(requests.change_machine("Bezel", pools=[], tags=[])))
        only_bezel: tuple[dict[str, object], ...] = (
            {"pool": "wide"},
            {"tags": '"food safe" and not loud'},
            {"machine": "Bezel"},
        )
        jobs = [w.submit("tip.gcode", **needs) for needs in only_bezel]
        nowhere = [w.submit("tip.gcode", volume_mm=(500, 10, 10)), w.submit("tip.gcode", tags="quiet and not quiet")]
        other = w.submit("tip.gcode", tags="not quiet")
        self.world.intake(Intake.OPEN)
        self.assertEqual(w.build_of(other).machine, "Anchor")
        for job in jobs:
            build = w.build_of(job)
            self.assertEqual(build.machine, "Bezel")
            w.client.do(requests.verdict(self.made_on("Bezel").id, Verdict.GOOD))
        self.assertEqual([w.builds(job) for job in nowhere], [[], []])
        why = w.client.do(requests.job_why(nowhere[0].id))
        self.assertTrue(all("500" in " ".join(m.reasons) for m in why.machines), why)

    def test_nothing_starts_before_its_time(self) -> None:
        w = self.world
        now = w.client.do(requests.shop()).now
        later = now + timedelta(minutes=15)
        o = self.order({"file": "tip.gcode"}, not_before=later.isoformat())
        other = w.submit("tip.gcode")
        self.world.intake(Intake.OPEN, "Anchor")
        w.build_of(other)
        w.client.do(requests.verdict(self.made_on("Anchor").id, Verdict.GOOD))
        w.build_of(o.lines[0])
        build = eventually(lambda: (b := w.build_of(o.lines[0])).started_at and b, "it starts")
        assert build.started_at
        self.assertGreaterEqual(build.started_at, later)

    def test_a_machine_kept_free_for_upkeep_leaves_what_would_reach_into_it_to_another(self) -> None:
        w = self.world
        now = w.client.do(requests.shop()).now
        window = w.client.do(
            requests.add_upkeep_window(
                NewUpkeep(machine="Anchor", begin=now + timedelta(minutes=1), end=now + timedelta(days=2))
            )
        )
        job = w.submit("hopper.gcode")
        self.world.intake(Intake.OPEN, "Anchor")
        plan = eventually(
            lambda: (p := w.client.do(requests.plan())) and any(b.job == job.id for b in p.builds) and p,
            "it is planned",
        )
        (first,) = [b for b in plan.builds if b.job == job.id]
        self.assertGreaterEqual(first.start.likely, window.end, "Anchor alone would make it after the upkeep")
        self.world.intake(Intake.OPEN, "Bezel")
        self.assertEqual(w.build_of(job).machine, "Bezel")
        w.client.do(requests.remove_upkeep_window(window.id))
        self.assertEqual(w.build_of(w.submit("tip.gcode", machine="Anchor")).machine, "Anchor")

    def test_due_first_takes_what_is_due_and_says_why(self) -> None:
        w = self.world
        w.client.do(requests.change_planning(ws.PlanningUpdate(strategy=Strategy.DUE_FIRST)))
        as_it_was = ws.PlanningUpdate(strategy=Strategy.FIRST_COME)
        self.addCleanup(lambda: w.client.do(requests.change_planning(as_it_was)))
        first = self.order({"file": "tip.gcode"})
        pressing = self.order({"file": "tip.gcode"}, due="2026-10-19T21:00:00Z")
        plan = w.client.do(requests.plan())
        self.assertEqual(plan.strategy, Strategy.DUE_FIRST)
        w.client.do(requests.change_machine("Anchor", intake=Intake.MANUAL))
        plan = eventually(lambda: (p := w.client.do(requests.plan())).builds and p, "there is a plan")
        jobs = [b.job for b in plan.builds if b.machine == "Anchor"]
        self.assertEqual(jobs[:2], [pressing.lines[0].id, first.lines[0].id])
        self.assertIn("due", plan.builds[0].why)
        w.client.do(requests.start_next("Anchor"))
        self.assertEqual(w.build_of(pressing.lines[0]).machine, "Anchor")

    def test_turnaround_is_measured_from_the_end_of_a_build_to_the_start_of_the_next(self) -> None:
        w = self.world
        job = w.submit("tip.gcode", copies=2, machine="Bezel")
        self.world.intake(Intake.OPEN, "Bezel")
        w.client.do(requests.verdict(self.made_on("Bezel").id, Verdict.GOOD))
        eventually(lambda: len(w.builds(job)) == 2, "the second starts")
        eventually(lambda: w.builds(job)[0].started_at, "it has started")
        second, first = w.builds(job)
        assert first.ended_at and second.started_at
        report = w.client.do(requests.turnaround())
        (row,) = [r for r in report.machines if r.name == "Bezel" and r.shift == "all"]
        gap = (second.started_at - first.ended_at) / timedelta(minutes=1)
        self.assertGreaterEqual(row.gaps, 1)
        self.assertGreater(gap, 0)
        if row.gaps == 1:
            self.assertAlmostEqual(row.middle_min, gap, delta=0.02)

    def test_what_if_two_more_machines_were_there(self) -> None:
        w = self.world
        self.world.intake(Intake.OPEN, "Anchor")
        built = w.submit("tip.gcode")
        self.made_on("Anchor")
        o = self.order({"file": "hopper.gcode", "quantity": 30}, due="2026-10-20T12:00:00Z")
        asked = wp.WhatIf(changes=[wp.IfMore(like="Anchor", many=2)])
        answer = w.client.do(requests.what_if(asked))
        self.assertEqual([x.name for x in answer.now.orders if x.job == built.id], ["tip.gcode"], "only to be judged")
        self.assertIn("2 more like Anchor", answer.question)
        now = next(x for x in answer.now.orders if x.order == o.id)
        then = next(x for x in answer.then.orders if x.order == o.id)
        assert now.expected and then.expected
        self.assertLess(then.expected.likely, now.expected.likely)
        self.assertEqual(len(w.machines()), 2)
