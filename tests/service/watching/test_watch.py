"""The watch over real builds of the stand-ins: failures are caught, what follows, and what people answer."""

from __future__ import annotations

import io
import os
import signal
import unittest
from contextlib import suppress
from pathlib import Path

import httpx
import numpy as np
from PIL import Image

from chronarch.client import RefusedByService, requests
from chronarch.core.control import actions as h
from chronarch.core.machines.states import MachineState
from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.watching.suspicion import FailureMode
from chronarch.core.watching.watch_rules import Follow, WatchRule, WatchScope
from chronarch.service.watching.watch_work import AFTER_OTHERS
from chronarch.standins.picture import lens_of
from chronarch.wire.watching import watch as w
from tests.support.watched import BED, CORNERS, LATE_S, WatchedCase, begun, come_to, follow, show_bed, tangled
from tests.support.world import eventually


class Watched(WatchedCase):
    """A shop of one machine whose camera's corners are marked. Its builds take about a minute."""

    def setUp(self) -> None:
        self.do = self.world.client.do

    def tearDown(self) -> None:
        """The bed is clear again, and no rule is left."""
        self.clear("Anchor")
        for rule in self.do(requests.watch_rules()):
            self.do(requests.drop_watch_rule(rule.scope, rule.subject))

    def test_a_tangle_pauses_the_build_with_its_picture_and_a_false_alarm_lets_it_go_on(self) -> None:
        build = begun(self.world)
        follow(self.world, Follow.PAUSE)
        one = tangled(self.world, build.id, Follow.PAUSE)
        self.assertGreaterEqual(one.probability, self.do(requests.watch_standing()).threshold)
        machine = self.world.until("Anchor", MachineState.PAUSED, LATE_S)
        assert machine.build is not None
        self.assertIn("the watch", machine.build.reason)
        sentences = [s.sentence.rstrip(".") for s in self.do(requests.suspicions(build=build.id))]
        self.assertTrue(any(one in machine.build.reason for one in sentences), machine.build.reason)
        picture = Image.open(io.BytesIO(self.do(requests.kept_frame(one.frame or 0))))
        self.assertEqual(picture.size, (640, 480))
        told = self.do(requests.notices(build=build.id, kind=NoticeKind.SUSPICION))
        self.assertEqual(len(told), 1, "one failure is told once")
        self.assertIn("% likely", told[0].text)

        self.world.kill("service")
        self.world.start_service()
        eventually(lambda: self.world.machine("Anchor").reachable, "the tender is back")
        for other in self.do(requests.suspicions(build=build.id, unanswered=True)):
            self.do(requests.answer_suspicion(other.number, right=False))
        said = self.do(requests.suspicion(one.number))
        self.assertEqual((said.right, said.answered_by), (False, "tests (key 1)"))
        self.assertIsNotNone(said.over_at)
        self.do(requests.resume(build.id))
        seen = self.do(requests.watch_standing()).machines[0].looked_at
        eventually(lambda: self.do(requests.watch_standing()).machines[0].looked_at != seen, "it is looked at again")
        again = [
            s for s in self.do(requests.suspicions(build=build.id)) if (s.mode, s.object) == (one.mode, one.object)
        ]
        self.assertEqual(len(again), 1, "what was a false alarm is not raised again of this build")

    def test_an_object_that_fails_is_left_out_and_the_rest_goes_on(self) -> None:
        build = begun(self.world)
        follow(self.world, Follow.LEAVE_OUT)
        one = tangled(self.world, build.id, Follow.LEAVE_OUT)
        self.assertTrue(one.object.startswith("block"), one)
        now = self.do(requests.build(build.id))
        self.assertIn(one.object, [skip.object for skip in now.skips])
        self.assertIsNone(now.outcome, "the build is not over")

    def test_a_failing_build_is_paused_though_its_picture_cannot_be_kept(self) -> None:
        build = begun(self.world)
        follow(self.world, Follow.PAUSE)
        frames = self.world.folder / "blobs" / "frames"
        aside = frames.with_name("frames-aside")
        frames.rename(aside)
        frames.write_bytes(b"")  # what is written into it fails, as on a full disk
        try:
            one = tangled(self.world, build.id, Follow.PAUSE)
        finally:
            frames.unlink()
            aside.rename(frames)
        self.assertIsNone(one.frame)
        self.world.until("Anchor", MachineState.PAUSED, LATE_S)

    def test_what_cannot_be_looked_at_is_said_and_tried_again(self) -> None:
        self.do(requests.set_watch_rule(WatchScope.MACHINE, "Anchor", WatchRule(on=False)))
        eventually(lambda: not self.machine_watch().watching, "the watch is off")
        build = self.world.build_of(self.world.submit("block.gcode"))
        come_to(self.world, 3)
        content = self.world.folder / "blobs" / build.sha256[:2] / build.sha256
        aside = content.with_suffix(".aside")
        content.rename(aside)
        try:
            self.do(requests.drop_watch_rule(WatchScope.MACHINE, "Anchor"))
            eventually(lambda: "cannot look" in self.machine_watch().why_not, "that is said", LATE_S)
        finally:
            aside.rename(content)
        eventually(lambda: self.machine_watch().looked_at and not self.machine_watch().why_not, "it looks", LATE_S)

    def machine_watch(self) -> w.MachineWatch:
        return self.do(requests.watch_standing()).machines[0]

    def test_a_machine_whose_watch_is_off_is_not_judged_and_says_why(self) -> None:
        rule = WatchRule(on=False, reason="its camera is borrowed")
        self.do(requests.set_watch_rule(WatchScope.MACHINE, "Anchor", rule))
        eventually(lambda: "borrowed" in self.do(requests.watch_standing()).machines[0].why_not, "the watch is off")
        shown = self.do(requests.watch_rule(WatchScope.MACHINE, "anchor"))
        self.assertEqual((shown.own, shown.subject, shown.rule), (True, "Anchor", rule))
        build = self.world.build_of(self.world.submit("block.gcode"))
        come_to(self.world, 10)
        self.assertIsNone(self.do(requests.watch_standing()).machines[0].looked_at)
        frames = self.do(requests.frames_of_build(build.id))
        said = w.Missed(mode=FailureMode.LOOSE, object="block 1", frame=frames[-1].number)
        one = self.do(requests.watch_missed(build.id, said))
        self.assertEqual((one.missed, one.right, one.probability), (True, True, 0.0))
        self.assertEqual(one.sentence, "block 1 is not where it was laid.")
        self.assertEqual(self.do(requests.watch_curve()).missed_here, 1)

    def test_a_watch_that_is_killed_goes_on(self) -> None:
        begun(self.world)
        for process in self.watch_processes():
            os.kill(process, signal.SIGKILL)
        looked = self.do(requests.watch_standing()).machines[0].looked_at
        eventually(lambda: self.do(requests.watch_standing()).machines[0].looked_at != looked, "it looks again", LATE_S)
        self.assertEqual(self.do(requests.watch_standing()).machines[0].why_not, "")

    def watch_processes(self) -> list[int]:
        """The watch's processes: the service's children that have its priority."""
        service = self.world.processes["service"].pid
        found = []
        for process in Path("/proc").iterdir():
            with suppress(OSError, IndexError):
                if process.name.isdigit():
                    fields = (process / "stat").read_text().rpartition(")")[2].split()
                    if int(fields[1]) == service and int(fields[16]) == AFTER_OTHERS:
                        found.append(int(process.name))
        self.assertEqual(len(found), 1)
        return found

    def test_corners_are_checked_and_what_they_come_to_is_said(self) -> None:
        sight = self.do(requests.bed_sight("Anchor"))
        self.assertLess(sight.error_px, 1.0)
        for measured, real in zip(sight.eye_mm, (110, -242, 220), strict=True):
            self.assertAlmostEqual(measured, real, delta=15)
        self.assertEqual(sight.set_by, "tests (key 1)")
        moved = self.do(requests.check_corners("Anchor", [(CORNERS[0][0] - 9, CORNERS[0][1]), *CORNERS[1:]]))
        self.assertGreater(moved.error_px, sight.error_px)
        self.assertEqual(self.do(requests.bed_sight("Anchor")).corners, sight.corners, "a check keeps nothing")
        show_bed(self.world)
        self.assertEqual(self.do(requests.bed_sight("Anchor")).corners, sight.corners, "an offer keeps nothing")
        clear = Image.open(io.BytesIO(self.do(requests.clear_frame("Anchor"))))
        self.assertEqual(clear.size, (sight.width, sight.height))
        crossed = [CORNERS[0], CORNERS[2], CORNERS[1], CORNERS[3]]
        with self.assertRaisesRegex(RefusedByService, "cross over"):
            self.do(requests.mark_corners("Anchor", crossed))
        with self.assertRaisesRegex(RefusedByService, "no camera named"):
            self.do(requests.bed_sight("Nobody"))

    def test_a_tip_that_is_marked_while_the_head_comes_to_rest_is_looked_at_once_it_has(self) -> None:
        show_bed(self.world)
        self.do(requests.act("Anchor", h.Move(z=-10)))
        eventually(
            lambda: self.world.machine("Anchor").hands.position_mm == (0, 0, 140), "its head is told to be there"
        )
        u, v = lens_of(BED, "front").project(np.array([(0.0, 0.0, 140.0)]))[0]
        sight = self.do(requests.check_corners("Anchor", CORNERS, (float(u), float(v))))
        self.assertIsNotNone(sight.tip)
        self.assertLess(sight.error_px, 3.0)

    def test_what_cannot_be_is_refused(self) -> None:
        whole = WatchRule(follow={FailureMode.SHIFTED: Follow.PAUSE})
        self.do(requests.set_watch_rule(WatchScope.SHOP, "0", whole))
        for scope, subject in ((WatchScope.JOB, "999"), (WatchScope.MACHINE, "Nobody"), (WatchScope.SHOP, "1")):
            with self.subTest(scope), self.assertRaises(RefusedByService):
                self.do(requests.set_watch_rule(scope, subject, whole))
        headers = {"Authorization": f"Bearer {self.world.key}"}
        body = {"follow": {"shifted": "leave-out"}}
        answer = httpx.put(f"{self.world.address}/api/watch-rules/shop/0", json=body, headers=headers)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("no one object can be left out", answer.text)
        for call in (requests.suspicion(999), requests.answer_suspicion(999, right=True)):
            with self.assertRaisesRegex(RefusedByService, "no suspicion 999"):
                self.do(call)


if __name__ == "__main__":
    unittest.main()
