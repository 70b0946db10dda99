"""The watch over real builds of the stand-ins: corners marked, failures caught, what follows, and what people answer."""

from __future__ import annotations

import io
import unittest

import httpx
from PIL import Image

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.states import MachineState
from chronarch.core.orders.states import Verdict
from chronarch.core.watching.suspicion import FailureMode
from chronarch.core.watching.watch_rules import Follow, WatchRule, WatchScope
from chronarch.demo.shapes import RoundedBox, Slice
from chronarch.demo.slicer import DemoPart, slice_part
from chronarch.standins.picture import lens_of
from chronarch.wire.machines.machine import BuildBrief
from chronarch.wire.orders.builds import Build
from chronarch.wire.watching import watch as w
from chronarch.wire.watching.settings import WatchingUpdate
from tests.support.world import World, eventually

BED = (220.0, 220.0)
CORNERS = [(u, v) for u, v in lens_of(BED, "front").corners(BED)]
BLOCK = DemoPart("block", 12.0, lambda z: Slice(RoundedBox(36, 36, 4)), ((70, 70), (150, 80), (110, 150)))
LATE_S = 150.0


class Watched(unittest.TestCase):
    """A shop of one machine whose camera's corners are marked. Its builds take about a minute."""

    world: World

    @classmethod
    def setUpClass(cls) -> None:
        cls.world = w_ = World(("Anchor",), rate=100.0, cameras=True)
        w_.setups["Anchor"] = {"colour": "teal"}
        cls.addClassCleanup(w_.close)
        w_.start()
        w_.client.do(requests.change_watching(WatchingUpdate(keep_every_s=60, false_alarms_a_week=1000)))
        w_.add_file("block.gcode", "".join(f"{line}\n" for line in slice_part(BLOCK)))
        eventually(cls.marked, "the corners are marked")

    @classmethod
    def marked(cls) -> bool:
        try:
            cls.world.client.do(requests.mark_corners("Anchor", CORNERS))
        except RefusedByService as error:
            return "none has come yet" not in str(error)
        return True

    def setUp(self) -> None:
        self.do = self.world.client.do

    def tearDown(self) -> None:
        """The bed is clear again, and no rule is left."""
        w_ = self.world
        machine = w_.machine("Anchor")
        if machine.build is not None:
            if machine.build.outcome is None:
                self.do(requests.stop(machine.build.id, "the test is over"))
            w_.until("Anchor", MachineState.UNCLEARED, LATE_S)
            self.do(requests.verdict(machine.build.id, Verdict.GOOD))
        for rule in self.do(requests.watch_rules()):
            self.do(requests.drop_watch_rule(rule.scope, rule.subject))
        w_.until("Anchor", MachineState.IDLE)

    def rule(self, follow: Follow) -> None:
        modes = (FailureMode.TANGLE, FailureMode.LOOSE, FailureMode.FALLEN)
        self.do(requests.set_watch_rule(WatchScope.SHOP, "0", WatchRule(follow=dict.fromkeys(modes, follow))))

    def begun(self) -> Build:
        """A build that has laid some layers, and that the watch looks at."""
        build = self.world.build_of(self.world.submit("block.gcode"))
        eventually(lambda: (self.brief().progress or 0) > 0.2, "some of it is laid", LATE_S)
        eventually(lambda: self.do(requests.watch_standing()).machines[0].looked_at, "it is looked at", LATE_S)
        return build

    def brief(self) -> BuildBrief:
        found = self.world.machine("Anchor").build
        assert found is not None
        return found

    def suspected(self, build: int) -> w.Suspicion:
        found = eventually(lambda: self.do(requests.suspicions(build=build)), "something is suspected", LATE_S)
        return found[-1]

    def test_a_tangle_pauses_the_build_with_its_picture_and_a_false_alarm_lets_it_go_on(self) -> None:
        self.rule(Follow.PAUSE)
        build = self.begun()
        self.world.fault("Anchor", "build-fails", text="tangle")
        one = self.suspected(build.id)
        self.assertGreaterEqual(one.probability, self.do(requests.watch_standing()).threshold)
        machine = self.world.until("Anchor", MachineState.PAUSED, LATE_S)
        assert machine.build is not None
        self.assertIn("the watch", machine.build.reason)
        self.assertIn(one.sentence, machine.build.reason)
        eventually(lambda: self.do(requests.suspicion(one.number)).followed is Follow.PAUSE, "that is noted")
        picture = Image.open(io.BytesIO(self.do(requests.kept_frame(one.frame or 0))))
        self.assertEqual(picture.size, (640, 480))
        told = [n for n in self.do(requests.notices()) if n.build == build.id]
        self.assertEqual(len(told), 1, "one failure is told once")
        self.assertIn(one.sentence, told[0].text)

        said = self.do(requests.answer_suspicion(one.number, right=False))
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
        self.rule(Follow.LEAVE_OUT)
        build = self.begun()
        self.world.fault("Anchor", "build-fails", text="tangle")
        one = self.suspected(build.id)
        self.assertTrue(one.object.startswith("block"), one)
        eventually(lambda: self.do(requests.suspicion(one.number)).followed is Follow.LEAVE_OUT, "it is left out", 60)
        now = self.do(requests.build(build.id))
        self.assertIn(one.object, [skip.object for skip in now.skips])
        self.assertIs(self.world.state("Anchor"), MachineState.BUILDING)

    def test_a_machine_whose_watch_is_off_is_not_judged_and_says_why(self) -> None:
        rule = WatchRule(on=False, reason="its camera is borrowed")
        self.do(requests.set_watch_rule(WatchScope.MACHINE, "Anchor", rule))
        eventually(lambda: "borrowed" in self.do(requests.watch_standing()).machines[0].why_not, "the watch is off")
        shown = self.do(requests.watch_rule(WatchScope.MACHINE, "anchor"))
        self.assertEqual((shown.own, shown.subject, shown.rule), (True, "Anchor", rule))
        build = self.world.build_of(self.world.submit("block.gcode"))
        eventually(lambda: (self.brief().progress or 0) > 0.5, "half of it is laid", LATE_S)
        self.assertIsNone(self.do(requests.watch_standing()).machines[0].looked_at)
        frames = self.do(requests.frames_of_build(build.id))
        said = w.Missed(mode=FailureMode.LOOSE, object="block 1", frame=frames[-1].number)
        one = self.do(requests.watch_missed(build.id, said))
        self.assertEqual((one.missed, one.right, one.probability), (True, True, 0.0))
        self.assertEqual(one.sentence, "block 1 is not where it was laid.")
        self.assertEqual(self.do(requests.watch_curve()).missed_here, 1)

    def test_corners_are_checked_and_what_they_come_to_is_said(self) -> None:
        sight = self.do(requests.bed_sight("Anchor"))
        self.assertLess(sight.error_px, 1.0)
        x, y, z = sight.eye_mm
        self.assertAlmostEqual(z, 220, delta=15)
        self.assertAlmostEqual(x, 110, delta=10)
        self.assertEqual(sight.set_by, "tests (key 1)")
        moved = self.do(requests.check_corners("Anchor", [(CORNERS[0][0] - 9, CORNERS[0][1]), *CORNERS[1:]]))
        self.assertGreater(moved.error_px, sight.error_px)
        self.assertEqual(self.do(requests.bed_sight("Anchor")).corners, sight.corners, "a check keeps nothing")
        clear = Image.open(io.BytesIO(self.do(requests.clear_frame("Anchor"))))
        self.assertEqual(clear.size, (sight.width, sight.height))
        crossed = [CORNERS[0], CORNERS[2], CORNERS[1], CORNERS[3]]
        with self.assertRaisesRegex(RefusedByService, "cross over"):
            self.do(requests.mark_corners("Anchor", crossed))
        with self.assertRaisesRegex(RefusedByService, "no camera named"):
            self.do(requests.bed_sight("Nobody"))

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
