"""Upkeep through the service and the shell: it comes due, tells people, closes machines, is placed, done and logged."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from pathlib import Path

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.states import Intake
from chronarch.core.machines.upkeep_calls import Blocks
from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.orders.states import Verdict
from chronarch.core.rounds.tasks import TaskKind
from chronarch.wire.planning.settings import SiteHours, StaffedMinutes
from chronarch.wire.upkeep import tasks as w
from chronarch.wire.upkeep.windows import NewUpkeep
from tests.support.gcode import squares
from tests.support.past import put_build, put_interval
from tests.support.pictures import jpeg
from tests.support.processes import run
from tests.support.world import WorldCase, eventually

DAY = timedelta(days=1)
START = datetime(2026, 10, 19, 8, 0, tzinfo=UTC)
"""The ledger of the machines begins after that."""


class Upkeep(WorldCase):
    machines = ("Anchor", "Bezel")
    build: int

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        cls.world.add_file("square.gcode", squares(layers=2))
        cls.build = cls.world.made("square.gcode", "Anchor", Verdict.GOOD)
        cls.world.intake(Intake.CLOSED)

    def setUp(self) -> None:
        for one in self.world.client.do(requests.upkeep_tasks()):
            self.world.client.do(requests.drop_upkeep_task(one.id))

    def now(self) -> datetime:
        return self.world.client.do(requests.shop()).now

    def add(self, name: str, **more: object) -> w.UpkeepTask:
        rules = {key: more.pop(key) for key in ("hours", "builds", "metres", "days", "faults") if key in more}
        return self.world.client.do(
            requests.add_upkeep_task(w.NewUpkeepTask.model_validate({"name": name, "due": rules, **more}))
        )

    def backdated(self, name: str, ago: float, **more: object) -> tuple[w.UpkeepTask, datetime]:
        """A task that counts from a time before the machines' ledger begins."""
        task, since = self.add(name, **more), START - ago * DAY
        self.world.sql("update upkeep_task set since = :at where id = :task", task=task.id,
                       at=since.replace(tzinfo=None))  # fmt: skip
        self.world.sql("delete from upkeep_mark where task_id = :task", task=task.id)
        return task, since

    def due(self, task: w.UpkeepTask, machine: str = "Anchor") -> w.DueTask:
        found = self.world.client.do(requests.upkeep_due(machine))
        return next(one for one in found if one.task == task.id)

    def done(self, task: w.UpkeepTask, machine: str = "Anchor", **more: object) -> w.UpkeepDone:
        asked = w.NewUpkeepDone.model_validate({"machine": machine, "task": task.id, **more})
        return self.world.client.do(requests.upkeep_done(asked))

    def shell(self, *arguments: str) -> str:
        return run(*arguments, env=self.world.environment).stdout

    def test_it_counts_builds_hours_and_metres_from_when_it_was_done(self) -> None:
        builds = self.add("wipe the rods", builds=2)
        hours = self.add("grease", hours=4, machine="Anchor")
        metres = self.add("new nozzle", metres=1e6, part="nozzle", model="Lantern 220")
        self.assertEqual((self.due(builds).due, self.due(builds).text), (False, "0 of 2 builds"))
        for n in range(2):
            put_build(self.world, self.build, self.now() - timedelta(minutes=2 - n))
        found = eventually(lambda: (one := self.due(builds)).due and one, "two builds make it due")
        self.assertEqual(found.text, "2 of 2 builds")
        self.assertFalse(self.due(builds, "Bezel").due)
        self.assertEqual(self.due(hours).share, 0)
        self.assertGreater(self.due(metres).share or 0, 0)
        self.done(builds)
        self.assertEqual(self.due(builds).text, "0 of 2 builds")
        old, since = self.backdated("oil", 30, hours=10, machine="Anchor")
        put_interval(self.world, "Anchor", "building", since - DAY, since + timedelta(hours=7))
        built: w.DueTask = eventually(
            lambda: one if (one := self.due(old)).share else None, "hours that were built count"
        )
        self.assertEqual(built.text, "7 of 10 h")
        with self.assertRaisesRegex(RefusedByService, "grease is no task of Bezel"):
            self.done(hours, "Bezel")

    def test_an_overdue_task_warns_in_rounds_and_notices_and_closes_the_machine(self) -> None:
        world, client = self.world, self.world.client
        task = self.add("belt tension", days=0.01, minutes=20, blocks="closes", machine="Bezel", text="Two fingers.")
        held = eventually(lambda: world.machine("Bezel").held, "it is due and closes the machine")
        self.assertIn("takes no work until upkeep is done: belt tension", held)
        rounds = client.do(requests.rounds())
        asked = next(one for one in rounds.tasks if one.kind is TaskKind.UPKEEP)
        self.assertEqual((asked.machine, asked.upkeep and asked.upkeep.task), ("Bezel", task.id))
        self.assertRegex(asked.text, r"belt tension \(20 min\): \d+ of 0 days")
        notice = eventually(
            lambda: next((n for n in client.all(requests.notices()) if n.kind is NoticeKind.UPKEEP_DUE), None),
            "people are told",
        )
        self.assertIn("It takes no work until that is done", notice.text)
        world.intake(Intake.OPEN, "Bezel")
        job = world.submit("square.gcode", machine="Bezel")
        self.assertIn("takes no work until upkeep is done", str(client.do(requests.job_why(job.id)).machines))
        self.assertEqual(world.builds(job), [])
        self.done(task, "Bezel", note="a little loose", minutes=18, parts=["grease"])
        eventually(lambda: world.builds(job), "it takes work again")
        self.clear("Bezel")
        world.intake(Intake.CLOSED, "Bezel")

    def test_a_fault_makes_it_due_at_once(self) -> None:
        task, since = self.backdated("look at the heater", 40, faults=["thermal"], days=1000)
        down = since + DAY
        put_interval(self.world, "Anchor", "down", down, down + timedelta(minutes=30), "THERMAL runaway")
        found = eventually(lambda: (one := self.due(task)).due and one, "a fault with the word makes it due")
        self.assertEqual((found.text, found.share), ("after a fault", None))
        self.done(task)
        self.assertFalse(self.due(task).due)
        log = self.world.client.all(requests.upkeep_log("Anchor"))
        self.assertIn("THERMAL runaway", [one.fault for one in log])
        self.assertEqual(log[0].done and log[0].done.name, "look at the heater")

    def test_it_is_offered_when_it_costs_least_and_kept_free_until_it_is_done(self) -> None:
        client = self.world.client
        task = self.add("level the bed", days=5, minutes=30, machine="Anchor")
        offer = self.due(task).offer
        assert offer is not None
        self.assertEqual(offer.end - offer.begin, timedelta(minutes=30))
        self.assertLess(offer.end, self.due(task).due_at or offer.begin)
        said = self.shell("upkeep", "plan", "Anchor", str(task.id))
        self.assertIn("Anchor is kept free for level the bed", said)
        found = self.due(task)
        self.assertIsNotNone(found.window)
        self.assertIsNone(found.offer)
        self.done(task)
        self.assertIsNone(self.due(task).window)
        self.assertNotIn(task.id, [one.task for one in client.do(requests.upkeep_windows())])

    def test_nobody_there_no_offer(self) -> None:
        client = self.world.client
        before = client.do(requests.hours())
        short = [[StaffedMinutes(begin="08:00", end="08:10")] for _ in range(7)]
        client.do(requests.set_hours(SiteHours(site="", week=short, zone="UTC")))
        task = self.add("long work", days=3, minutes=60, machine="Anchor")
        self.assertIsNone(self.due(task).offer)
        client.do(requests.set_hours(before[0] if before else SiteHours(site="", week=[[] for _ in range(7)])))
        begin = self.now() + DAY
        client.do(requests.add_upkeep_window(NewUpkeep(machine="Anchor", begin=begin, end=begin + DAY, task=task.id)))
        self.assertIsNotNone(self.due(task).window)

    def test_parts_say_how_long_they_last(self) -> None:
        world, client = self.world, self.world.client
        self.add("new belt", hours=5000, part="belt", machine="Bezel")
        at = START - 200 * DAY
        fitted = []
        for hours in (1, 300, 340, 380, 420):
            put_interval(world, "Bezel", "building", at, at + timedelta(hours=hours))
            at += timedelta(hours=hours)
            asked = w.NewUpkeepDone(machine="Bezel", name="belt broke", part="belt", at=at)
            fitted.append(client.do(requests.upkeep_done(asked)))
        put_interval(world, "Bezel", "building", at, at + timedelta(hours=290))
        self.assertLess(at + timedelta(hours=290), START)
        found = next(one for one in client.do(requests.upkeep_parts("Bezel")) if one.part == "belt")
        assert found.life is not None and found.left is not None
        self.assertEqual(found.life.worn, 4)
        self.assertAlmostEqual(found.hours, 290, delta=1)
        self.assertTrue(300 < found.life.early < found.life.median < found.life.late < 450)
        self.assertRegex(found.text, r"usually lasts 3\d\d to 4\d\d h; at 290 h")
        self.assertLess(found.left, 0.7)
        self.assertIn("usually lasts", self.shell("upkeep", "parts", "Bezel"))
        client.do(requests.undo_upkeep(fitted[-1].id))
        found = next(one for one in client.do(requests.upkeep_parts("Bezel")) if one.part == "belt")
        self.assertAlmostEqual(found.hours, 420 + 290, delta=1)

    def test_how_late_and_whether_faults_follow(self) -> None:
        world, client = self.world, self.world.client
        task, begin = self.backdated("clean", 90, days=10, machine="Anchor")
        first = self.done(task, at=begin + 10 * DAY)
        late = self.done(task, at=begin + 30 * DAY)
        self.assertAlmostEqual(first.late or 0, 1.0, places=2)
        self.assertAlmostEqual(late.late or 0, 2.0, places=2)
        for day in (22, 27):
            down = begin + day * DAY
            put_interval(world, "Anchor", "down", down, down + timedelta(hours=1), "clogged")
        found = next(one for one in client.do(requests.upkeep_lateness()) if one.task == task.id).lateness
        self.assertEqual((found.times, found.late), (2, 1))
        self.assertAlmostEqual(found.days, 10, places=1)
        self.assertAlmostEqual(found.faults_overdue or 0, 20, places=0)
        self.assertEqual(found.faults_else, 0)
        self.assertRegex(self.shell("upkeep", "late"), r"clean +2 +1 +10\.0 days +20\.0 +0\.0")

    def test_pictures_show_what_to_do_and_how_it_was(self) -> None:
        client = self.world.client
        picture = Path(self.world.folder / "how.jpg")
        picture.write_bytes(jpeg(90))
        told = json.loads(self.shell("upkeep", "add", "new filter", "--days", "90", "--needs", "filter F7",
                                     "--picture", str(picture), "--json"))  # fmt: skip
        self.assertEqual(told["parts"], ["filter F7"])
        self.assertEqual(client.do(requests.upkeep_picture(told["id"], told["pictures"][0])), picture.read_bytes())
        done = json.loads(self.shell("upkeep", "done", "Anchor", str(told["id"]), "--photo", str(picture), "--json"))
        self.assertEqual(client.do(requests.upkeep_photo(done["id"])), picture.read_bytes())
        self.assertEqual(client.do(requests.remove_upkeep_picture(told["id"], told["pictures"][0])).pictures, [])
        for wrong in (requests.add_upkeep_picture(told["id"], b"GIF89a"), requests.put_upkeep_photo(done["id"], b"x")):
            with self.assertRaisesRegex(RefusedByService, "neither a JPEG nor a PNG"):
                client.do(wrong)

    def test_what_makes_no_sense_is_refused_with_its_reason(self) -> None:
        client = self.world.client
        for said, why in (
            (("upkeep", "add", "never"), "say after how much it is due"),
            (("upkeep", "add", "two", "--days", "1", "--model", "Lantern 220", "--machine", "Anchor"), "not for both"),
            (("upkeep", "add", "x", "--days", "1", "--model", "None such"), "There is no model None such"),
            (("upkeep", "done", "Anchor", "999999"), "There is no task 999999"),
            (("upkeep", "done", "Anchor", "tidy up", "--at", "2040-01-01 10:00"), "has not come yet"),
            (("upkeep", "drop", "999999"), "There is no task 999999"),
            (("upkeep", "undo", "999999"), "Nothing that was done has the number"),
        ):
            with self.subTest(said):
                ended = run(*said, env=self.world.environment)
                self.assertNotEqual(ended.returncode, 0)
                self.assertIn(why, ended.stderr)
        task = self.add("plain", days=2)
        with self.assertRaisesRegex(RefusedByService, "has no measured value"):
            client.do(requests.upkeep_done(w.NewUpkeepDone(machine="Anchor", task=task.id, value=1.0)))


class Calibration(WorldCase):
    machines = ("Anchor",)

    def test_values_are_judged_and_out_of_tolerance_closes_intake(self) -> None:
        world, client = self.world, self.world.client
        made = client.do(requests.add_upkeep_task(w.NewUpkeepTask(
            name="cube, X", due=w.DueWhen(days=30), blocks=Blocks.CLOSES,
            check=w.CalibrationCheck(nominal=20, tolerance=0.2, unit="mm"),
        )))  # fmt: skip
        shell = lambda *said: run("calibration", *said, env=world.environment).stdout  # noqa: E731
        for value in (20.01, 19.99, 20.02, 20.0, 19.98, 20.01):
            self.assertIn("cube, X at Anchor: fine", shell("record", "Anchor", str(made.id), str(value)))
        self.assertIn("drifts", shell("record", "Anchor", str(made.id), "20.12"))
        self.assertEqual(world.machine("Anchor").held, "")
        self.assertIn("out", shell("record", "Anchor", str(made.id), "20.31", "--note", "belt?"))
        self.assertIn("cube, X: out of tolerance: 20.31 mm, +0.31 of 0.2 allowed", world.machine("Anchor").held)
        self.assertTrue(client.do(requests.upkeep_due("Anchor"))[0].out)
        trend = client.do(requests.calibration("Anchor"))[0]
        self.assertEqual((trend.verdict, trend.readings[-1].note), ("out", "belt?"))
        assert trend.limits is not None
        self.assertLess(trend.limits.high, 20.31)
        self.assertIn("20 ± 0.2 mm", shell("trend", "Anchor", str(made.id)))
        shell("record", "Anchor", str(made.id), "20.0")
        self.assertEqual(world.machine("Anchor").held, "")
        self.assertRegex(shell("show"), r"Anchor +cube, X +20 ± 0\.2 mm")
        client.do(requests.drop_upkeep_task(made.id))

    def test_a_machine_measures_itself(self) -> None:
        world, client = self.world, self.world.client
        made = client.do(requests.add_upkeep_task(w.NewUpkeepTask(
            name="bed level", due=w.DueWhen(days=7),
            check=w.CalibrationCheck(nominal=0, tolerance=0.3, unit="mm", source="level map"),
        )))  # fmt: skip
        now = client.do(requests.shop()).now
        world.sql(
            "insert into level_map (machine_id, at, `rows`) select id, :at, '[[0.0, 0.1], [-0.05, 0.12]]' from machine",
            at=(now + timedelta(seconds=1)).replace(tzinfo=None),
        )
        found = eventually(lambda: client.do(requests.calibration("Anchor"))[0].readings, "the map gives a value")
        self.assertEqual((found[-1].value, found[-1].by), (0.17, "the machine"))
        client.do(requests.drop_upkeep_task(made.id))

    def test_how_long_its_hot_end_heats_is_taken_from_a_build(self) -> None:
        world, client = self.world, self.world.client
        world.add_file("square.gcode", squares(layers=2))
        build = world.made("square.gcode", "Anchor", Verdict.GOOD)
        ended = client.do(requests.shop()).now - timedelta(hours=1)
        begun = ended - timedelta(hours=2)
        for n in range(40):
            world.sql(
                "insert into reading (machine_id, at, nozzle_c, nozzle_asked_c)"
                " select id, :at, :c, 210 from machine where name = 'Anchor'",
                at=(begun + timedelta(seconds=5 * n)).replace(tzinfo=None), c=min(210, 25 + 8 * n),
            )  # fmt: skip
        made = client.do(
            requests.add_upkeep_task(
                w.NewUpkeepTask(
                    name="heating", due=w.DueWhen(days=1),
                    check=w.CalibrationCheck(nominal=90, tolerance=80, unit="s", source="heating"),
                )
            )
        )  # fmt: skip
        before = (begun - 3 * DAY).replace(tzinfo=None)
        world.sql("update upkeep_task set since = :at where id = :task", at=before, task=made.id)
        world.sql("delete from upkeep_mark where task_id = :task", task=made.id)
        put_build(world, build, ended)
        found = eventually(lambda: client.do(requests.calibration("Anchor"))[0].readings, "a build gives a value", 90)
        self.assertEqual((found[-1].value, found[-1].by), (115.0, "the machine"))
        client.do(requests.drop_upkeep_task(made.id))
