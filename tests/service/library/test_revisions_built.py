"""What is really built: the newest revision or the pinned one, edited files, by the plan of the machine's own model;
and a reading process that dies."""

from __future__ import annotations

import os
import signal
import subprocess

from chronarch.client import requests
from chronarch.core.gcode.edits import Repeat, SkipObject
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.orders.states import Verdict
from chronarch.wire.orders.builds import Build
from chronarch.wire.orders.jobs import Job, NewJob
from tests.support.gcode import executed_sha256, laid, squares, two_boxes
from tests.support.world import WorldCase, eventually


class RevisionsBuilt(WorldCase):
    def made(self, job: Job) -> Build:
        """The job's build once it has ended, its bed cleared."""
        build = self.world.build_of(job)
        self.world.until("Anchor", MachineState.UNCLEARED, 60)
        self.world.client.do(requests.verdict(build.id, Verdict.GOOD))
        self.world.until("Anchor", MachineState.IDLE)
        return self.world.client.do(requests.build(build.id))

    def test_a_waiting_copy_is_made_from_what_the_file_is_when_its_turn_comes(self) -> None:
        w = self.world
        old, new = squares(layers=2), squares(layers=3, rounds=2)
        w.client.do(requests.change_machine("Anchor", intake=Intake.MANUAL))
        self.addCleanup(lambda: w.client.do(requests.change_machine("Anchor", intake=Intake.OPEN)))
        w.add_file("turns.gcode", old)
        following = w.submit("turns.gcode")
        pinned = w.client.do(requests.submit(NewJob(file="turns.gcode", revision=1)))
        w.add_file("turns.gcode", new)
        for job, text, revision in ((following, new, 2), (pinned, old, 1)):
            w.client.do(requests.start_next("Anchor"))
            build = self.made(job)
            self.assertEqual((build.revision, build.outcome), (revision, "completed"))
            self.assertEqual(w.standin("Anchor")["sha256"], executed_sha256(text))

    def test_an_edited_file_is_laid_as_its_preview_said(self) -> None:
        w = self.world
        w.add_file("boxes.gcode", two_boxes(layers=2))
        f = w.client.do(requests.file("boxes.gcode"))
        for wish, lines in ((SkipObject("box 1"), 1), (Repeat(2), 4)):
            revision = None if lines == 1 else 1
            edited = w.client.do(requests.edit_file(f.id, wish, revision=revision))
            text = w.client.do(requests.content(f.id)).decode()
            build = self.made(w.submit("boxes.gcode"))
            self.assertEqual(build.revision, edited.revision)
            self.assertEqual(w.standin("Anchor")["sha256"], executed_sha256(text))
            one_box = len([r for r in laid(two_boxes(layers=2)) if r[0] > 100])
            self.assertEqual(len([r for r in laid(text) if r[0] > 50]), lines * one_box)
            self.assertAlmostEqual(build.planned_s, edited.times[w.machine("Anchor").model])

    def test_a_reading_process_that_dies_is_replaced_and_the_file_is_read(self) -> None:
        w = self.world
        w.add_file("before.gcode", squares(layers=1))
        service = w.processes["service"].pid

        def readers() -> list[int]:
            found = subprocess.run(["ps", "-o", "pid=,args=", "--ppid", str(service)], capture_output=True, text=True)
            rows = (line.split(None, 1) for line in found.stdout.splitlines())
            return [int(pid) for pid, words in rows if "spawn_main" in words]

        for pid in eventually(readers, "reading processes run"):
            os.kill(pid, signal.SIGKILL)
        w.add_file("after.gcode", squares(layers=4))
        self.assertEqual(w.client.do(requests.file("after.gcode")).reading.layers, 4)
        self.assertTrue(readers())
