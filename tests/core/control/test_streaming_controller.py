"""One machine minded: builds begin, pause, resume, stop and end; trouble pauses and is told."""

from __future__ import annotations

import unittest

from chronarch.core.control.connection import OFFLINE_AFTER_S
from chronarch.core.control.events import BuildEnded, BuildPaused, BuildResumed, Noticed
from chronarch.core.machines.states import MachineState, Outcome, WrongState
from tests.support.bench import COMMANDS, Bench


class Builds(unittest.TestCase):
    def setUp(self) -> None:
        self.bench = Bench()
        self.bench.begin()

    def test_a_build_runs_its_file_and_ends_completed_cooling_uncleared(self) -> None:
        b = self.bench
        b.heat = (205.0, 205.0, 60.0, 60.0)
        b.report()
        b.run()
        self.assertEqual(b.ran, COMMANDS)
        (ended,) = b.of(BuildEnded)
        self.assertEqual((ended.outcome, ended.acknowledged), (Outcome.COMPLETED, len(COMMANDS)))
        self.assertEqual(b.states(), [MachineState.WARMING, MachineState.BUILDING, MachineState.COOLING])
        self.assertIn(b"M104 S0", b.own, "heaters are turned off whatever the file does")
        b.heat = (90.0, 0.0, 39.0, 0.0)
        b.report()
        b.run(seconds=1)
        self.assertIs(b.controller.machine.state, MachineState.UNCLEARED)
        b.controller.clear(b.now())
        self.assertIs(b.controller.machine.state, MachineState.IDLE)

    def test_pause_parks_and_resume_goes_on_with_the_very_next_line_as_it_was(self) -> None:
        b = self.bench
        b.run(lines=20)
        b.controller.pause("wrong colour", b.now())
        b.run(seconds=3)
        taken = len(b.ran)
        self.assertLess(taken, len(COMMANDS))
        self.assertEqual(b.of(BuildPaused), [BuildPaused(7, "wrong colour", False)])
        self.assertIn(b"G1 X5 Y200 F6000", b.own)
        b.run(seconds=5)
        self.assertEqual(len(b.ran), taken, "nothing of the file is sent while paused")
        b.own.clear()
        b.controller.resume(b.now())
        b.run()
        self.assertEqual(b.ran, COMMANDS)
        self.assertEqual(b.of(BuildResumed), [BuildResumed(7)])
        moved = [c for c in b.ran[:taken] if c.startswith((b"G0 X", b"G1 X"))][-1]
        x = moved.split()[1]
        self.assertTrue(any(c.startswith(b"G1 " + x) for c in b.own), f"returns to {x!r}: {b.own}")
        e = [c.split(b" E")[1].split()[0] for c in b.ran[:taken] if b" E" in c][-1]
        self.assertIn(b"G92 E" + e, b.own)
        self.assertIn(b"M109 S205", b.own)

    def test_stop_turns_heaters_off_and_ends_the_build_as_stopped(self) -> None:
        b = self.bench
        b.run(lines=20)
        b.own.clear()
        b.controller.stop("no longer wanted", b.now())
        b.run()
        (ended,) = b.of(BuildEnded)
        self.assertEqual((ended.outcome, ended.reason), (Outcome.STOPPED, "no longer wanted"))
        self.assertLess(ended.acknowledged, len(COMMANDS))
        self.assertIn(b"M108", b.urgent, "a wait for heat is broken off")
        self.assertLess(b.own.index(b"M104 S0"), b.own.index(b"G1 X5 Y200 F6000"))
        with self.assertRaises(WrongState):
            b.controller.stop("again", b.now())

    def test_filament_out_pauses_by_itself_with_the_reason(self) -> None:
        b = self.bench
        b.run(lines=20)
        b.say("//action:out_of_filament T0")
        b.run(seconds=3)
        self.assertEqual(b.of(BuildPaused), [BuildPaused(7, "filament ran out", True)])
        self.assertIs(b.controller.machine.state, MachineState.PAUSED)

    def test_a_fault_the_machine_reports_pauses_by_itself(self) -> None:
        b = self.bench
        b.run(lines=20)
        b.say("Error:fan 0 stalled")
        b.run(seconds=3)
        (paused,) = b.of(BuildPaused)
        self.assertIn("fan 0 stalled", paused.reason)

    def test_a_heater_that_stops_rising_pauses_with_all_heaters_off(self) -> None:
        b = self.bench
        b.run(lines=8)
        b.heat = (80.0, 205.0, 25.0, 60.0)
        for _ in range(60):
            b.real_s += 2
            b.report()
        b.run(seconds=5)
        (paused,) = b.of(BuildPaused)
        self.assertIn("stopped rising", paused.reason)
        self.assertEqual(b.own[-2:], [b"M104 S0", b"M140 S0"])

    def test_a_resume_waits_for_what_the_pause_still_has_to_send(self) -> None:
        b = self.bench
        b.run(lines=20)
        b.controller.pause("look", b.now())
        b.run(seconds=3)
        b.heat = (205.0, 205.0, 60.0, 60.0)
        b.report()
        while not any("let cool" in notice.text for notice in b.of(Noticed)):
            self.assertLess(b.real_s, 3600)
            b.run(lines=1, seconds=0.01)
        self.assertFalse(b.controller.can_resume, "the lines that turn the nozzle off are on their way")
        with self.assertRaises(WrongState):
            b.controller.resume(b.now())
        b.run(seconds=1)
        self.assertTrue(b.controller.can_resume)
        b.controller.resume(b.now())
        b.run()
        self.assertEqual(b.ran, COMMANDS)

    def test_both_heaters_failing_while_paused_are_told_and_turned_off(self) -> None:
        b = self.bench
        b.run(lines=20)
        b.controller.pause("look", b.now())
        b.run(seconds=3)
        b.own.clear()
        b.heat = (float("nan"), 205.0, -99.0, 60.0)
        b.report()
        b.report()
        b.run(seconds=2)
        self.assertEqual(b.own, [b"M104 S0", b"M140 S0"])
        self.assertIs(b.controller.machine.state, MachineState.PAUSED)

    def test_resuming_with_a_dead_heater_pauses_again_before_anything_is_extruded(self) -> None:
        b = self.bench
        b.run(lines=20)
        b.controller.pause("look", b.now())
        b.run(seconds=3)
        taken = len(b.ran)
        b.own.clear()
        b.told.clear()
        b.controller.resume(b.now())
        data = b.controller.outgoing()
        b.take(data.splitlines()[0])
        b.heat = (40.0, 205.0, 60.0, 60.0)
        for _ in range(40):
            b.real_s += 2
            b.report()
        b.run(seconds=5)
        self.assertEqual(len(b.ran), taken)
        self.assertFalse([c for c in b.own if b" E2" in c], "nothing is pushed through a cold nozzle")
        self.assertIs(b.controller.machine.state, MachineState.PAUSED)

    def test_a_restart_of_the_machine_ends_the_build_as_failed(self) -> None:
        b = self.bench
        b.run(lines=20)
        b.last = 0
        b.say("start")
        b.run()
        (ended,) = b.of(BuildEnded)
        self.assertEqual(ended.outcome, Outcome.FAILED)
        self.assertIn("restarted itself", ended.reason)
        self.assertIs(b.controller.machine.state, MachineState.UNCLEARED)

    def test_a_halted_machine_is_down_until_put_back_and_its_bed_still_wants_clearing(self) -> None:
        b = self.bench
        b.run(lines=20)
        b.say("!! driver fault")
        b.run(seconds=1)
        self.assertIs(b.controller.machine.state, MachineState.DOWN)
        (ended,) = b.of(BuildEnded)
        self.assertIn("driver fault", ended.reason)
        b.controller.put_back(b.now())
        self.assertIs(b.controller.machine.state, MachineState.UNCLEARED)

    def test_an_emergency_stop_goes_out_before_everything(self) -> None:
        b = self.bench
        b.run(lines=20)
        b.controller.emergency(b.now())
        self.assertTrue(b.controller.outgoing().startswith(b"M112\n"))
        self.assertIs(b.controller.machine.state, MachineState.DOWN)

    def test_a_short_cut_is_not_offline_and_a_long_one_is(self) -> None:
        b = self.bench
        b.run(lines=20)
        b.controller.disconnected(b.now())
        b.real_s += OFFLINE_AFTER_S / 2
        b.controller.tick(b.now())
        self.assertFalse(b.controller.machine.offline)
        b.real_s += OFFLINE_AFTER_S
        b.controller.tick(b.now())
        self.assertIs(b.controller.machine.shown_state, MachineState.OFFLINE)
        b.controller.connected(b.now())
        b.run()
        self.assertEqual(b.ran, COMMANDS)
        self.assertIn(MachineState.OFFLINE, b.states())

    def test_progress_counts_acknowledged_lines_by_their_planned_time(self) -> None:
        b = self.bench
        b.run(lines=10)
        assert b.controller.machine.progress is not None
        before = b.controller.machine.progress.share
        b.run(lines=10)
        self.assertGreater(b.controller.machine.progress.share, before)
        b.run()
        self.assertAlmostEqual(b.controller.machine.progress.share, 1.0)

    def test_what_the_state_does_not_allow_is_refused(self) -> None:
        b = self.bench
        b.run(lines=20)
        refused = (
            lambda: b.controller.resume(b.now()),
            lambda: b.controller.clear(b.now()),
            lambda: b.controller.take_out("", b.now()),
            lambda: b.controller.begin(b.controller.machine.spec, b.now()),  # type: ignore[arg-type]
        )
        for deed in refused:
            with self.assertRaises(WrongState):
                deed()

    def test_trouble_without_a_build_is_told_once_and_changes_nothing(self) -> None:
        b = Bench()
        b.controller.connected(b.now())
        b.run()
        b.told.clear()
        for _ in range(3):
            b.say("//action:out_of_filament T0")
        b.run(seconds=1)
        self.assertEqual(b.told, [Noticed("filament ran out")])
        self.assertIs(b.controller.machine.state, MachineState.IDLE)
