"""The line, machines and upkeep from the shell: what a person types in the course of a day."""

from __future__ import annotations

import csv
import io
import json
import re
from datetime import datetime

from chronarch.client import requests
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.orders.states import Verdict
from tests.support.gcode import squares
from tests.support.processes import run
from tests.support.world import WorldCase, eventually


class Line(WorldCase):
    machines = ("Anchor", "Bezel")
    cameras = True

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.intake(Intake.MANUAL)
        w.add_file("tip.gcode", squares(layers=2))

    def tearDown(self) -> None:
        for job in self.world.client.do(requests.jobs()):
            self.world.client.do(requests.act_on_job(job.id, "withdraw"))

    def said(self, *arguments: str, code: int = 0, key: str = "") -> str:
        env = {**self.world.environment, **({"CHRONARCH_KEY": key} if key else {})}
        done = run(*arguments, env=env)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def submit(self, *options: str) -> int:
        found = re.match(r"Job (\d+)", self.said("jobs", "submit", "tip.gcode", *options))
        assert found
        return int(found[1])

    def line(self) -> list[int]:
        return [j.id for j in self.world.client.do(requests.queue()).jobs]

    def test_jobs_are_moved_put_to_the_top_and_back(self) -> None:
        first, second, third = (self.submit() for _ in range(3))
        said = self.said("jobs", "move", str(third), "--before", str(first))
        self.assertEqual(said, f"The line: {third}, {first}, {second}\n")
        self.assertEqual(self.said("jobs", "move", str(third)), f"The line: {first}, {second}, {third}\n")
        self.said("jobs", "top", str(second))
        tops = {j.id: j.top for j in self.world.client.do(requests.queue()).jobs}
        self.assertEqual(tops, {first: False, second: True, third: False})
        self.said("jobs", "top", str(second), "--undo")
        self.assertFalse(any(j.top for j in self.world.client.do(requests.queue()).jobs))
        self.assertIn("no job 99999", self.said("jobs", "move", "99999", code=1))
        self.assertEqual(self.line(), [second, first, third], "it stays in front; a refused move changes nothing")

    def test_a_job_is_changed_held_and_released(self) -> None:
        number = self.submit("--copies", "2")
        said = self.said("jobs", "change", str(number), "--copies", "5", "--due", "2026-10-23 12:00", "--priority", "2")
        self.assertIn(f"Job {number}: 0 of 5 good, 5 waiting.", said)
        job = self.world.client.do(requests.job(number))
        self.assertEqual((job.copies, job.priority, str(job.due)), (5, 2, "2026-10-23 12:00:00+00:00"))
        self.said("jobs", "change", str(number), "--due", "none", "--note", "blue if there is")
        job = self.world.client.do(requests.job(number))
        self.assertEqual((job.due, job.note), (None, "blue if there is"))
        self.assertIn("Say what is to be changed", self.said("jobs", "change", str(number), code=2))
        self.said("jobs", "hold", str(number))
        self.assertEqual(self.world.client.do(requests.job(number)).state, "held")
        self.said("jobs", "release", str(number))
        self.assertEqual(self.world.client.do(requests.job(number)).state, "waiting")

    def test_jobs_are_listed_for_people_for_programs_and_for_tables(self) -> None:
        number = self.submit("--material", "PLA", "--due", "2026-10-23 12:00", "--volume", "200", "200", "50")
        shown = self.said("jobs", "list")
        self.assertRegex(shown, rf"{number} +tip\.gcode +waiting")
        (row,) = [r for r in csv.DictReader(io.StringIO(self.said("jobs", "list", "--csv"))) if r["id"] == str(number)]
        self.assertEqual((row["file"], row["state"], row["copies"]), ("tip.gcode", "waiting", "1"))
        self.assertEqual(datetime.fromisoformat(row["due"]).hour, 12)
        told = [j for j in json.loads(self.said("jobs", "list", "--json")) if j["id"] == number]
        needs = told[0]["requirement"]
        self.assertEqual((needs["material"], needs["volume_mm"]), ("PLA", [200, 200, 50]))
        made = self.said("orders", "add", "Tern Island", "tip.gcode=2,hardened=yes,volume=300x300x400", "--json")
        needs = json.loads(made)["lines"][0]["requirement"]
        self.assertEqual((needs["hardened"], needs["volume_mm"]), (True, [300, 300, 400]))
        self.said("jobs", "withdraw", str(number))
        self.assertNotIn(number, [j["id"] for j in json.loads(self.said("jobs", "list", "--json"))])
        self.assertIn(number, [j["id"] for j in json.loads(self.said("jobs", "list", "--all", "--json"))])

    def test_a_person_starts_the_next_build_and_sees_its_frame(self) -> None:
        w = self.world
        self.clear("Anchor")
        self.assertIn("Nothing", self.said("machines", "start-next", "Anchor", code=1))
        number = self.submit("--machine", "Anchor")
        self.assertIn(f"Anchor builds tip.gcode (job {number}).", self.said("machines", "start-next", "Anchor"))
        (build,) = eventually(lambda: w.client.do(requests.builds(job=number)), "it is built")
        w.until("Anchor", MachineState.UNCLEARED)
        path = w.folder / "seen.jpg"
        self.said("cameras", "frame", "Anchor", "-o", str(path))
        self.assertEqual(path.read_bytes()[:3], b"\xff\xd8\xff")
        w.client.do(requests.verdict(build.id, Verdict.GOOD))

    def test_who_may_only_look_is_refused_and_nothing_changes(self) -> None:
        number = self.submit()
        key = self.world.read_key
        for arguments in (
            ("jobs", "top", str(number)),
            ("jobs", "change", str(number), "--copies", "9"),
            ("machines", "change", "Anchor", "--place", "Z9"),
            ("hours", "upkeep", "Anchor", "2026-11-02 8:00", "12:00"),
            ("orders", "add", "somebody", "tip.gcode=1"),
            ("plan", "strategy", "first-come"),
        ):
            with self.subTest(arguments=arguments):
                self.said(*arguments, code=1, key=key)
        job = self.world.client.do(requests.job(number))
        self.assertEqual((job.copies, job.top), (1, False))
        self.assertEqual(self.world.machine("Anchor").place, "")
        self.assertIn("tip.gcode", self.said("jobs", "list", key=key), "looking is allowed")

    def test_upkeep_is_planned_shown_and_ended(self) -> None:
        said = self.said("hours", "upkeep", "Bezel", "2026-11-02 8:00", "12:00", "--text", "new belts")
        found = re.search(r"\(upkeep (\d+)\)", said)
        assert found
        self.assertRegex(
            self.said("hours", "show"), rf"{found[1]} +Bezel +Mon 02 Nov 08:00 +Mon 02 Nov 12:00 +new belts"
        )
        self.said("hours", "end-upkeep", found[1])
        self.assertEqual(self.world.client.do(requests.upkeep_windows()), [])
        self.assertIn("no upkeep window", self.said("hours", "end-upkeep", found[1], code=1))
        self.assertIn(
            "ends before it begins", self.said("hours", "upkeep", "Bezel", "2026-11-02 8:00", "2026-11-02 7:00", code=2)
        )

    def test_a_spool_is_finished(self) -> None:
        number = self.said("spools", "add", "PETG", "blue").split()[1].rstrip(":")
        self.said("spools", "load", number, "Bezel")
        self.said("spools", "finish", number)
        self.assertNotIn(number, [str(s.id) for s in self.world.client.do(requests.spools())])
        self.assertEqual(self.world.machine("Bezel").tools[0].material, "", "nothing is on it now")
        self.said("machines", "load", "Bezel", "--material", "PLA", "--colour", "teal")

    def test_a_machine_is_added_with_its_place(self) -> None:
        w = self.world
        self.said(
            "machines", "add", "Detent", "--model", "Lantern 220", "--link", "tcp://127.0.0.1:9",
            "--site", "Quay", "--place", "C3", "--pool", "small", "--pool", "fine", "--tag", "quiet",
        )  # fmt: skip
        m = w.machine("Detent")
        self.assertEqual((m.site, m.place, m.pools, m.tags), ("Quay", "C3", ["small", "fine"], ["quiet"]))
        self.said("machines", "add", "Detent", "--model", "Lantern 220", "--link", "tcp://127.0.0.1:10", code=1)
