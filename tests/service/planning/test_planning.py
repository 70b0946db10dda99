"""Orders, the line, the plan, what-if, rounds, spools and hours through the service; nobody builds anything here."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict
from datetime import timedelta

import httpx

from chronarch.client import Client, RefusedByService, requests
from chronarch.core.machines.model import OwnSequence
from chronarch.core.machines.states import PRODUCTIVE, Intake, MachineState
from chronarch.core.machines.tools import Tool
from chronarch.core.orders.states import Verdict
from chronarch.core.planning.snapshot import Strategy
from chronarch.demo.shapes import RoundedBox, Slice
from chronarch.demo.slicer import DemoPart, slice_part
from chronarch.wire import library as wl
from chronarch.wire.machines import machine as wm
from chronarch.wire.machines import spools as ws
from chronarch.wire.machines.model import machine_model
from chronarch.wire.orders import jobs as ww
from chronarch.wire.orders import orders as wo
from chronarch.wire.orders.stock import StockCount
from chronarch.wire.planning import scenarios as wp
from chronarch.wire.planning.settings import PlanningUpdate, SiteHours, StaffedMinutes
from chronarch.wire.rounds import NewHelper
from chronarch.wire.upkeep.windows import NewUpkeep
from tests.support.gcode import squares
from tests.support.watched import mark_bed, show_bed
from tests.support.world import WorldCase, eventually

WEEK = [[StaffedMinutes(begin="08:00", end="17:00")] for _ in range(5)] + [[], []]


class Standing(WorldCase):
    """Two machines that stand by: nothing is built, so that what waits stays."""

    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        w = cls.world
        w.start_standins()
        w.start_service()
        w.add_machines()
        w.intake(Intake.MANUAL)
        w.start_tender()
        w.add_file("plate.gcode", squares(layers=3))
        file = w.client.do(requests.change_file("plate.gcode", wl.FileChange(pieces=4)))
        w.client.do(requests.add_part(wl.NewPart(name="shim", files=[file.id])))
        w.add_file("alone.gcode", squares(layers=2))

    def order(self, quantity: int = 10, **more: object) -> wo.Order:
        lines = [{"part": "shim", "quantity": quantity}]
        order = wo.NewOrder.model_validate({"customer": "Tern Island Observatory", "lines": lines, **more})
        return self.world.client.do(requests.make_order(order))

    def refused(self, call: requests.Call[object], status: int, words: str) -> None:
        with self.assertRaises(RefusedByService) as caught:
            self.world.client.do(call)
        self.assertEqual(caught.exception.problem.status, status, caught.exception)
        self.assertIn(words, str(caught.exception))

    def test_an_order_is_made_shown_changed_and_cancelled(self) -> None:
        w = self.world
        o = self.order(10, due="2026-10-23T12:00:00Z", note="for the hide", tags=["rush"])
        self.assertEqual((o.state, o.pieces, o.waiting, o.lines[0].pieces), ("waiting", 10, 10, 4))
        self.assertIn("0 of 10 good, 10 waiting", o.words)
        self.assertEqual(o.lines[0].due, o.due)
        changed = w.client.do(requests.change_order(o.id, wo.OrderChange(priority=2, due=None, held=True)))
        self.assertEqual((changed.due, changed.lines[0].priority, changed.state), (None, 2, "held"))
        more = wo.OrderChange(held=False, add=[wo.NewOrderLine(file="alone.gcode", quantity=3)])
        self.assertEqual(w.client.do(requests.change_order(o.id, more)).pieces, 13)
        cancelled = w.client.do(requests.cancel_order(o.id, wo.Cancel()))
        self.assertEqual((cancelled.state, cancelled.lines[0].state), ("cancelled", "withdrawn"))
        self.refused(requests.cancel_order(o.id, wo.Cancel()), 409, "cancelled already")
        again = w.client.do(requests.repeat_order(o.id))
        self.assertEqual((again.repeats, again.pieces, again.note), (o.id, 13, "for the hide"))
        self.assertNotIn(o.id, [x.id for x in w.client.do(requests.orders())])
        self.assertIn(o.id, [x.id for x in w.client.do(requests.orders(ended=True))])

    def test_orders_come_as_csv_all_or_none(self) -> None:
        w = self.world
        text = (
            "order,customer,due,part,file,quantity,material\r\n"
            'A,"Loomfield, Weaving",2026-10-23T12:00:00Z,shim,,8,PLA\r\n'
            'A,"Loomfield, Weaving",2026-10-23T12:00:00Z,,alone.gcode,2,\r\n'
            ",Brackwater Rowing Club,,shim,,4,\r\n"
        )
        made = w.client.do(requests.orders_from_csv(text.encode()))
        self.assertEqual(
            [(o.customer, len(o.lines)) for o in made], [("Loomfield, Weaving", 2), ("Brackwater Rowing Club", 1)]
        )
        count = len(w.client.do(requests.orders()))
        for bad, words in (
            ("who,part\r\nx,shim\r\n", "columns: customer"),
            ("customer,part,quantity\r\nx,shim,many\r\n", "Row 2"),
            ("customer,part\r\nx,shim\r\ny,no such part\r\n", "no such part"),
            ("customer,part\r\n", "no row"),
            ("customer,part\r\nx,shim,extra\r\n", "as many fields"),
        ):
            with self.subTest(bad=bad):
                with self.assertRaises(RefusedByService) as caught:
                    w.client.do(requests.orders_from_csv(bad.encode()))
                self.assertIn(words, str(caught.exception))
        self.assertEqual(len(w.client.do(requests.orders())), count)

    def test_stock_is_counted_and_taken_by_the_next_order(self) -> None:
        w = self.world
        w.client.do(requests.count_stock(StockCount(part="shim", pieces=6)))
        lines = [{"part": "shim", "quantity": 10, "from_stock": 6}]
        o = w.client.do(requests.make_order(wo.NewOrder.model_validate({"customer": "x", "lines": lines})))
        self.assertEqual((o.good, o.waiting, o.lines[0].from_stock), (6, 4, 6))
        self.assertEqual(w.client.do(requests.stock()), [])
        self.refused(
            requests.make_order(wo.NewOrder.model_validate({"customer": "x", "lines": lines})), 409, "in stock"
        )
        fewer = w.client.do(requests.change_job(o.lines[0].id, ww.JobChange(copies=5)))
        self.assertEqual(fewer.state, "finished")
        self.assertEqual([s.pieces for s in w.client.do(requests.stock())], [1], "one more than is wanted is back")
        self.assertEqual(w.client.do(requests.order(o.id)).state, "finished")
        w.client.do(requests.count_stock(StockCount(part="shim", pieces=0)))

    def test_two_people_who_reorder_at_once_do_not_lose_a_change(self) -> None:
        w = self.world
        first, second, third = (w.submit("alone.gcode") for _ in range(3))
        line = w.client.do(requests.queue())
        moved = w.client.do(requests.move_jobs([third.id], first.id, line.version))
        ids = [j.id for j in moved.jobs]
        self.assertLess(ids.index(third.id), ids.index(first.id))
        self.refused(
            requests.move_jobs([second.id], first.id, line.version), 412, f"job {third.id} put before job {first.id}"
        )
        again = w.client.do(requests.move_jobs([second.id], third.id, moved.version))
        ids = [j.id for j in again.jobs]
        self.assertEqual([i for i in ids if i in (first.id, second.id, third.id)], [second.id, third.id, first.id])
        top = w.client.do(requests.batch_jobs(ww.JobBatch(jobs=[first.id, third.id], wish="top")))
        self.assertEqual([j.id for j in top.jobs[:2]], [first.id, third.id])
        self.refused(requests.move_jobs([10**6]), 404, "no job")
        held = w.client.do(requests.batch_jobs(ww.JobBatch(jobs=[first.id, second.id, third.id], wish="hold")))
        self.assertTrue({"held"} >= {j.state for j in held.jobs if j.id in (first.id, second.id, third.id)})
        w.client.do(requests.batch_jobs(ww.JobBatch(jobs=[first.id, second.id, third.id], wish="withdraw")))
        self.refused(requests.batch_jobs(ww.JobBatch(jobs=[first.id], wish="hold")), 409, "No job was changed")

    def test_a_job_says_why_it_waits_on_every_machine(self) -> None:
        job = self.world.submit("alone.gcode", material="PETG", colour="black")
        why = self.world.client.do(requests.job_why(job.id))
        self.assertEqual([m.machine for m in why.machines], ["Anchor", "Bezel"])
        self.assertIn("has teal PLA loaded; the job needs black PETG", why.machines[0].reasons[0])
        self.assertIn("load black PETG on Anchor", why.change)
        self.world.client.do(requests.act_on_job(job.id, "withdraw"))
        self.assertIn("Nothing of it waits", self.world.client.do(requests.job_why(job.id)).why)

    def test_the_plan_says_what_comes_and_rounds_what_hands_must_do(self) -> None:
        w = self.world
        job = w.submit("alone.gcode", machine="Bezel")
        plan = w.client.do(requests.plan())
        mine = [b for b in plan.builds if b.job == job.id]
        self.assertEqual([b.machine for b in mine], ["Bezel"])
        self.assertLessEqual(mine[0].end.early, mine[0].end.late)
        self.assertTrue(mine[0].why)
        tasks = w.client.do(requests.rounds()).tasks
        self.assertIn(("start", "Bezel"), [(t.kind, t.machine) for t in tasks])
        w.client.do(requests.act_on_job(job.id, "withdraw"))
        idle = {m.machine: m.idle for m in w.client.do(requests.plan()).machines}
        self.assertTrue(all(idle.values()), idle)

    def test_what_if_answers_from_a_copy(self) -> None:
        w = self.world
        o = self.order(8, due="2026-10-30T12:00:00Z")
        before = w.client.do(requests.order(o.id))
        due = w.client.do(requests.shop()).now + timedelta(minutes=1)
        asked = w.client.do(requests.what_if(wp.WhatIf(changes=[wp.IfDue(order=o.id, due=due)])))
        self.assertTrue(asked.answer.startswith("No:"), asked.answer)
        more = wp.WhatIf(changes=[wp.IfMore(like="Lantern 220", many=2), wp.IfStrategy(strategy=Strategy.DUE_FIRST),
                                  wp.IfMachine(machine="Anchor", works=False),
                                  wp.IfStaffed(begin=due, end=due + timedelta(hours=2))])  # fmt: skip
        both = w.client.do(requests.what_if(more))
        self.assertNotIn("Anchor", {b.machine for b in both.then.builds})
        self.assertIn("Anchor + 1", {b.machine for b in both.then.builds})
        after = w.client.do(requests.order(o.id))
        self.assertEqual((before.due, before.pieces), (after.due, after.pieces))
        as_it_is = next(x for x in asked.now.orders if x.order == o.id)
        self.assertEqual((as_it_is.due, as_it_is.promise), (before.due, before.promise), "as everybody sees it")
        self.refused(requests.what_if(wp.WhatIf(changes=[wp.IfDue(order=10**6, due=due)])), 404, "no order")
        self.refused(requests.what_if(wp.WhatIf(changes=[wp.IfMore(like="Nobody")])), 404, "Nobody")
        w.client.do(requests.cancel_order(o.id, wo.Cancel()))

    def test_hours_and_planning_are_set_and_seen(self) -> None:
        w = self.world
        w.client.do(requests.set_hours(SiteHours(week=WEEK, zone="Europe/Lisbon", people=2)))
        (hours,) = w.client.do(requests.hours())
        self.assertEqual((hours.zone, hours.people), ("Europe/Lisbon", 2))
        for bad in ({"week": WEEK, "zone": "Nowhere/At all"}, {"week": WEEK[:3]},
                    {"week": [[{"begin": "17:00", "end": "08:00"}], *WEEK[1:]]}):  # fmt: skip
            answer = httpx.put(f"{w.address}/api/hours", headers=self.auth(), content=_json(bad), timeout=10)
            self.assertEqual(answer.status_code, 422, answer.text)
        now = w.client.do(requests.planning())
        w.client.do(requests.change_planning(PlanningUpdate(strategy=Strategy.HANDS_AWARE)))
        with ThreadPoolExecutor(4) as people:
            said = [{"clear_min": 2}, {"spool_min": 6}, {"nozzle_min": 11}, {"walk_min": 8}]
            list(people.map(lambda c: w.client.do(requests.change_planning(PlanningUpdate(**c))), said))
        both = w.client.do(requests.planning())
        self.assertEqual((both.clear_min, both.spool_min, both.nozzle_min, both.walk_min), (2, 6, 11, 8))
        self.assertEqual((both.strategy, both.scrap_reasons), (Strategy.HANDS_AWARE, now.scrap_reasons))
        self.assertEqual(w.client.do(requests.plan()).strategy, Strategy.HANDS_AWARE)
        self.assertTrue(w.client.do(requests.plan()).staffed)
        w.client.do(requests.change_planning(PlanningUpdate(**now.model_dump())))
        span = w.client.do(requests.shop()).now
        made = w.client.do(
            requests.add_upkeep_window(NewUpkeep(machine="anchor", begin=span, end=span + timedelta(hours=3)))
        )
        self.assertEqual([u.machine for u in w.client.do(requests.upkeep_windows())], ["Anchor"])
        w.client.do(requests.remove_upkeep_window(made.id))
        self.assertEqual(w.client.do(requests.upkeep_windows()), [])

    def auth(self) -> dict[str, str]:
        return {"Authorization": f"Bearer {self.world.key}", "Content-Type": "application/json"}

    def test_spools_are_loaded_weighed_and_keep_a_build_from_starting_that_would_run_out(self) -> None:
        w = self.world
        low = w.client.do(requests.add_spool(ws.NewSpool(material="PLA", colour="ochre", grams_left=0.01)))
        full = w.client.do(requests.add_spool(ws.NewSpool(material="PLA", colour="ochre")))
        w.client.do(requests.load_spool(low.id, "Anchor"))
        self.assertEqual((w.machine("Anchor").tools[0].colour, w.machine("Anchor").tools[0].spool), ("ochre", low.id))
        job = w.submit("plate.gcode", machine="Anchor", colour="ochre")
        why = w.client.do(requests.job_why(job.id)).machines[0]
        self.assertIn("0 g of ochre PLA left", " ".join(why.reasons))
        self.refused(requests.start_next("Anchor"), 409, "Nothing was started")
        w.client.do(requests.load_spool(full.id, "Anchor"))
        shelf = {s.id: s.machine for s in w.client.do(requests.spools())}
        self.assertEqual((shelf[low.id], shelf[full.id]), (None, "Anchor"))
        weighed = w.client.do(requests.change_spool(full.id, ws.SpoolUpdate(grams_left=740)))
        self.assertEqual(weighed.grams_left, 740)
        (event,) = w.client.do(requests.spool_changes(full.id))
        self.assertEqual((round(event.grams), event.text), (-260, "weighed: 740 g"))
        w.client.do(requests.change_machine("Anchor", tools=[Tool(nozzle_mm=0.4, material="PLA", colour="teal")]))
        self.assertIsNone(
            {s.id: s.machine for s in w.client.do(requests.spools())}[full.id], "it is on the shelf again"
        )
        w.client.do(requests.change_spool(low.id, ws.SpoolUpdate(finished=True)))
        self.assertNotIn(low.id, [s.id for s in w.client.do(requests.spools())])
        w.client.do(requests.act_on_job(job.id, "withdraw"))
        self.refused(requests.load_spool(10**6, "Anchor"), 404, "no spool")

    def test_the_plan_has_a_spool_put_on_the_first_of_several_tools(self) -> None:
        w = self.world
        for other in w.client.do(requests.orders()):
            w.client.do(requests.cancel_order(other.id, wo.Cancel()))
        before = PlanningUpdate(**w.client.do(requests.planning()).model_dump())
        self.addCleanup(lambda: w.client.do(requests.change_planning(before)))
        w.client.do(requests.change_planning(PlanningUpdate(strategy=Strategy.HANDS_AWARE)))
        tools = w.machine("Bezel").tools
        self.addCleanup(lambda: w.client.do(requests.change_machine("Bezel", tools=tools)))
        w.client.do(requests.change_machine("Bezel", tools=[Tool(number=1, material="PVA"), tools[0]]))
        spool = w.client.do(requests.add_spool(ws.NewSpool(material="PETG", colour="amber")))
        job = w.submit("alone.gcode", material="PETG", colour="amber", machine="Bezel")
        (planned,) = [b for b in w.client.do(requests.plan()).builds if b.job == job.id]
        self.assertEqual((planned.machine, planned.load), ("Bezel", "amber PETG"))
        tasks = [t.text for t in w.client.do(requests.rounds()).tasks if t.kind == "load"]
        self.assertEqual(tasks, ["load amber PETG (tool 0) for alone.gcode"])
        w.client.do(requests.load_spool(spool.id, "Bezel"))
        self.assertEqual([t.material for t in w.machine("Bezel").tools], ["PETG", "PVA"], "in order of their numbers")
        (planned,) = [b for b in w.client.do(requests.plan()).builds if b.job == job.id]
        self.assertEqual(planned.load, "")
        with self.assertRaisesRegex(ValueError, "tool 1 is there more than once"):
            wm.MachineChange(tools=[Tool(number=1), Tool(number=1)])
        w.client.do(requests.act_on_job(job.id, "withdraw"))
        w.client.do(requests.change_spool(spool.id, ws.SpoolUpdate(finished=True)))

    def test_a_helpers_link_shows_one_sites_rounds_until_it_is_revoked(self) -> None:
        w = self.world
        made = w.client.do(requests.make_helper(NewHelper(name="Saturday help", site="", hours=1)))
        token = made.address.split("#")[1]
        with Client(w.address, "") as nobody:
            self.assertEqual(nobody.do(requests.helper_rounds(token)).helper, "Saturday help")
            for other in ("", "nonsense", token + "x"):
                with self.assertRaises(RefusedByService):
                    nobody.do(requests.helper_rounds(other))
            with self.assertRaises(RefusedByService):
                nobody.do(requests.plan())
            w.client.do(requests.revoke_helper(made.id))
            with self.assertRaises(RefusedByService) as caught:
                nobody.do(requests.helper_rounds(token))
            self.assertIn("revoked", str(caught.exception))

    def test_since_is_told_to_programs_too_and_needs_a_time(self) -> None:
        found = self.world.client.do(requests.since(self.world.client.do(requests.shop()).now - timedelta(hours=8)))
        self.assertEqual((found.ended, found.failed), (0, 0))
        self.assertIsNone(self.world.client.do(requests.here()).left)


def _json(value: object) -> bytes:
    import json

    return json.dumps(value, default=lambda v: v.model_dump()).encode()


class Building(WorldCase):
    """Machines that build, let go of parts by themselves, and are judged."""

    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        w = cls.world
        w.start_standins()
        w.start_service()
        w.add_machines()
        w.start_tender()

    def test_part_of_a_plate_is_scrap_and_what_is_over_goes_to_stock(self) -> None:
        w = self.world
        self.clear("Anchor")
        w.add_file("four.gcode", squares(layers=2))
        w.client.do(requests.change_file("four.gcode", wl.FileChange(pieces=4)))
        lines = [{"file": "four.gcode", "quantity": 6, "requirement": {"machine": "Anchor"}}]
        order = w.client.do(requests.make_order(wo.NewOrder.model_validate({"customer": "x", "lines": lines})))
        job = order.lines[0]

        def cleared(good: int, reason: str = "") -> None:
            build = eventually(lambda: (b := w.machine("Anchor").build) and b.outcome and b, "the build has ended")
            w.until("Anchor", MachineState.UNCLEARED)
            with_reason = requests.verdict(build.id, Verdict.GOOD if good else Verdict.SCRAP, reason, good)
            w.client.do(with_reason)

        cleared(3, "warped corner")
        after = w.client.do(requests.job(job.id))
        self.assertEqual((after.good, after.copies), (3, 6))
        cleared(4)
        done = w.client.do(requests.order(order.id))
        self.assertEqual((done.state, done.good, done.promise), ("finished", 6, "done"))
        self.assertEqual([(s.file, s.pieces) for s in w.client.do(requests.stock())], [("four.gcode", 1)])
        builds = w.builds(job)
        self.assertEqual([(b.verdict, b.good_pieces, b.pieces) for b in builds], [("good", 4, 4), ("good", 3, 4)])
        report = w.client.do(requests.turnaround())
        self.assertGreater(next(r for r in report.machines if r.name == "Anchor" and r.shift == "all").gaps, 0)

    def test_a_verdict_on_pieces_must_add_up(self) -> None:
        w = self.world
        self.clear("Bezel")
        w.add_file("two.gcode", squares(layers=1))
        w.client.do(requests.change_file("two.gcode", wl.FileChange(pieces=2)))
        job = w.submit("two.gcode", 2, machine="Bezel")
        w.until("Bezel", MachineState.UNCLEARED)
        build = w.build_of(job)
        for verdict, reason, good, words in (
            ("good", "", 3, "yields 2"),
            ("good", "", 1, "need a reason"),
            ("scrap", "x", 1, "is good"),
        ):
            with self.assertRaises(RefusedByService) as caught:
                w.client.do(requests.verdict(build.id, Verdict(verdict), reason, good))
            self.assertIn(words, str(caught.exception))
        photo = httpx.put(f"{w.address}/api/builds/{build.id}/photo", content=b"\xff\xd8\xff\xe0 a picture",
                          headers={"Authorization": f"Bearer {w.key}"}, timeout=10)  # fmt: skip
        self.assertTrue(photo.json()["photo"])
        wrong = httpx.put(f"{w.address}/api/builds/{build.id}/photo", content=b"not a picture",
                          headers={"Authorization": f"Bearer {w.key}"}, timeout=10)  # fmt: skip
        self.assertEqual(wrong.status_code, 422)
        w.client.do(requests.act_on_job(job.id, "withdraw"))
        w.client.do(requests.verdict(build.id, Verdict.SCRAP, "layer shift"))

    def test_filament_is_counted_down_from_real_use(self) -> None:
        w = self.world
        self.clear("Bezel")
        spool = w.client.do(requests.add_spool(ws.NewSpool(material="PLA", colour="teal")))
        w.client.do(requests.load_spool(spool.id, "Bezel"))
        w.add_file("used.gcode", squares(layers=40, rounds=10, side=50, feed=3000))
        other = w.client.do(requests.add_spool(ws.NewSpool(material="PETG", colour="blue")))
        job = w.submit("used.gcode", machine="Bezel")
        eventually(lambda: w.state("Bezel") in PRODUCTIVE, "it builds, for some seconds")
        with self.assertRaisesRegex(RefusedByService, "Bezel is building with teal PLA; pause its build or wait"):
            w.client.do(requests.load_spool(other.id, "Bezel"))
        w.until("Bezel", MachineState.UNCLEARED)
        grams = w.build_of(job).grams
        left = next(s.grams_left for s in w.client.do(requests.spools()) if s.id == spool.id)
        self.assertGreater(grams, 0)
        self.assertAlmostEqual(1000 - left, grams, places=3)
        self.clear("Bezel")


class Releasing(WorldCase):
    """A machine whose model lets go of parts by itself."""

    machines = ("Pinion",)
    cameras = True

    @classmethod
    def prepare(cls) -> None:
        w = cls.world
        w.setups["Pinion"] = {"colour": "white"}  # so that the camera sees its parts on its bed
        w.start_standins()
        w.start_service()
        lines = "G28 X Y\nG1 Z2 F600\nG1 X110 Y200 F6000\nG1 Y2 F3000\nG1 Z30 F600\nG1 X5 Y210 F6000\nM400"
        sweep = OwnSequence(name="sweep bed", clear_bed=False, lines=lines)
        model = {"name": "Lantern 220", "cold_extrusion_c": 0, "releases": 2, "release_sequence": sweep.name}
        w.client.do(requests.add_model(machine_model.validate_python({**model, "sequences": [asdict(sweep)]})))
        w.add_machine("Pinion")
        w.start_tender()
        w.until("Pinion", MachineState.IDLE)
        show_bed(w, "Pinion")
        mark_bed(w, "Pinion")

    def test_parts_come_off_by_themselves_and_wait_to_be_judged_one_that_sticks_asks_for_hands(self) -> None:
        w = self.world
        tile = DemoPart("tile", 1.2, lambda z: Slice(RoundedBox(30, 30, 4)), ((150, 80),))
        w.add_file("tile.gcode", "".join(f"{line}\n" for line in slice_part(tile)))
        job = w.submit("tile.gcode")
        first = eventually(lambda: [b for b in w.builds(job) if b.let_go], "the first part comes off by itself", 150)[0]
        self.assertIsNone(first.verdict)
        self.assertIn("judge", {t.kind for t in w.client.do(requests.rounds()).tasks})
        w.fault("Pinion", "part-sticks")
        again = w.submit("tile.gcode")
        stuck = eventually(
            lambda: [t for t in w.client.do(requests.rounds()).tasks if t.kind == "confirm"], "one sticks", 150
        )[0]
        self.assertIn("the camera still sees something", stuck.text)
        w.client.do(requests.verdict(first.id, Verdict.GOOD))
        self.assertEqual(w.client.do(requests.job(job.id)).good, 1)
        assert stuck.build is not None
        w.fault("Pinion", "heal")
        w.client.do(requests.act_on_job(again.id, "withdraw"))
        w.client.do(requests.verdict(stuck.build, Verdict.SCRAP, "it stuck"))
        w.until("Pinion", MachineState.IDLE)
