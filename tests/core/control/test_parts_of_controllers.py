"""The small parts that controllers are put together from, each by itself."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.control.actions import Adjust, Filament, MeasureBed, SendLine
from chronarch.core.control.checkpoint import BuildCheckpoint, take_up
from chronarch.core.control.connection import OFFLINE_AFTER_S, Connection
from chronarch.core.control.controlled_machine import BuildSpec, ControlledMachine, Instant
from chronarch.core.control.events import Adjusted, BuildEnded, Noticed, StateChanged
from chronarch.core.control.fault_text import FAULT_SETTLES_S, MOST_FAULT_LINES, FaultText
from chronarch.core.control.heater_safety import HeaterSafety
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.line_protocol import CommandSequence
from chronarch.core.control.pending_actions import PendingAction, adjustments, offset_steps, take_effect
from chronarch.core.control.planned_pauses import PlannedPauses
from chronarch.core.control.responses import FaultReported, Halted, OtherText, Temperatures
from chronarch.core.control.send_window import SendWindow
from chronarch.core.control.wire_quality import SLOW_S, SLOW_SAMPLES, TOO_BAD, TRUSTED, WireQuality
from chronarch.core.gcode.plan import Mark, TimePlan
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineEvent, MachineState, WrongState

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
PLAN = TimePlan((Mark(0, 0.0, 0.0), Mark(100, 1000.0, 500.0)), (10, 40, 70))
SPEC = BuildSpec(7, PLAN, CommandSequence((b"G1 X1",) * 100))


class Parts(unittest.TestCase):
    def setUp(self) -> None:
        self.machine = ControlledMachine(MachineModel("toy", idle_off_s=600.0, release_c=40.0), MachineState.IDLE)
        self.pass_time(0.0)

    def pass_time(self, seconds: float) -> None:
        self.machine.pass_time(Instant(seconds, NINE + timedelta(seconds=seconds)))

    def begun(self) -> ControlledMachine:
        self.machine.begin(SPEC)
        self.machine.take_events()
        return self.machine

    def told(self) -> list[object]:
        return [event for _, event in self.machine.take_events()]

    # the machine and its build

    def test_time_counts_as_warming_until_the_first_layer_and_as_laying_after_it(self) -> None:
        machine = self.begun()
        self.pass_time(60.0)
        machine.the_progress().acknowledged = 11
        machine.lay()
        self.pass_time(100.0)
        progress = machine.the_progress()
        self.assertEqual((progress.warming_s, progress.laying_s), (60.0, 40.0))
        self.assertEqual(machine.state, MachineState.BUILDING)

    def test_an_end_tells_how_far_the_build_came(self) -> None:
        machine = self.begun()
        machine.the_progress().acknowledged = 50
        machine.end()
        (ended,) = self.told()
        assert isinstance(ended, BuildEnded)
        self.assertEqual((ended.acknowledged, ended.planned_done_s, ended.filament_mm), (50, 500.0, 250.0))

    def test_a_build_begins_with_nothing_of_the_one_before_and_only_on_an_idle_machine(self) -> None:
        machine = self.begun()
        machine.change, machine.position_mm = "load", (1.0, 2.0, 3.0)
        with self.assertRaises(WrongState):
            machine.begin(SPEC)
        for event in (MachineEvent.END, MachineEvent.COOLED, MachineEvent.CLEAR):
            machine.move(event)
        machine.begin(SPEC)
        self.assertEqual((machine.change, machine.position_mm), ("", None))

    def test_a_pause_for_another_reason_is_told_but_is_no_second_pause(self) -> None:
        machine = self.begun()
        machine.pause("asked for", by_itself=False)
        machine.pause("filament ran out", by_itself=True)
        self.assertEqual([type(e).__name__ for e in self.told()], ["StateChanged", "BuildPaused", "Noticed"])
        self.assertEqual(machine.reason, "filament ran out")

    def test_the_same_trouble_is_told_once(self) -> None:
        self.assertEqual(
            [self.machine.tell_once(x) for x in ("hot: 300 °C", "hot: 301 °C", "cold")], [True, False, True]
        )

    def test_what_was_kept_is_taken_up_as_it_was(self) -> None:
        kept = BuildCheckpoint(7, "feeding", "building", "", at=42, laying_s=5.0, warming_s=6.0, laid_from_s=1.0)
        take_up(self.machine, SPEC, kept)
        p = self.machine.the_progress()
        self.assertEqual((p.acknowledged, p.laying_s, p.warming_s, p.laid_from_s), (42, 5.0, 6.0, 1.0))
        self.assertEqual((self.machine.state, self.machine.build), (MachineState.BUILDING, 7))

    # connection and heaters

    def test_a_short_cut_heals_unseen_and_a_long_one_is_told_with_its_end(self) -> None:
        connection = Connection(self.machine)
        connection.lost()
        self.pass_time(OFFLINE_AFTER_S - 1)
        connection.tick()
        connection.found()
        self.assertEqual((self.told(), connection.is_lost), ([], False))
        connection.lost()
        self.pass_time(2 * OFFLINE_AFTER_S)
        connection.tick()
        connection.tick()
        self.assertEqual(self.machine.shown_state, MachineState.OFFLINE)
        connection.found()
        states = [e.state for e in self.told() if isinstance(e, StateChanged)]
        self.assertEqual(states, [MachineState.OFFLINE, MachineState.IDLE])

    def test_heaters_that_nobody_touches_are_turned_off_and_that_is_told(self) -> None:
        offs: list[float] = []
        heaters = HeaterSafety(self.machine, lambda: offs.append(self.machine.now().real_s))
        heaters.take(Temperatures(25.0, 200.0, 25.0, 0.0))
        for second in range(0, 1300, 10):
            self.pass_time(second)
            if second == 300:
                heaters.touched_at = self.machine.now().shop
            heaters.idle()
        self.assertEqual(offs, [900.0], "ten minutes after they were touched")
        self.assertIn("10 min", " ".join(e.text for e in self.told() if isinstance(e, Noticed)))

    def test_a_bed_is_ready_to_be_cleared_once_it_is_cool_and_the_machine_can_be_reached(self) -> None:
        machine = self.begun()
        heaters = HeaterSafety(machine, lambda: None)
        machine.move(MachineEvent.END)
        heaters.take(Temperatures(25.0, 0.0, 60.0, 0.0))
        heaters.tick(resting=True)
        self.assertEqual(machine.state, MachineState.COOLING)
        heaters.take(Temperatures(25.0, 0.0, 39.0, 0.0))
        machine.offline = True
        heaters.tick(resting=True)
        self.assertEqual(machine.state, MachineState.COOLING)
        machine.offline = False
        heaters.tick(resting=True)
        self.assertEqual(machine.state, MachineState.UNCLEARED)

    # pauses and actions

    def test_pauses_are_planned_before_layers_that_have_not_begun(self) -> None:
        pauses = PlannedPauses(self.begun())
        pauses.add(0, 15)
        pauses.add(3, 15)
        self.assertEqual(pauses.indexes(), {40: 2, 70: 3})
        for layer, words in ((1, "has begun"), (9, "no layer 9")):
            with self.assertRaisesRegex(WrongState, words):
                pauses.add(layer, 15)
        self.assertIsNone(pauses.take(0, 39))
        self.assertEqual(pauses.take(40, 40), 2)
        pauses.drop(3)
        with self.assertRaisesRegex(WrongState, "No pause before layer 3"):
            pauses.drop(3)

    def test_an_action_takes_effect_only_if_the_machine_knew_its_words(self) -> None:
        machine = self.begun()
        faster = PendingAction(InjectedCommands((b"M220 S90",)), Adjust(speed_pct=90.0), "Maud")
        self.assertTrue(take_effect(machine, faster, building=True))
        self.assertEqual(machine.settings.speed_pct, 90.0)
        (adjusted,) = self.told()
        assert isinstance(adjusted, Adjusted)
        self.assertEqual((adjusted.text, adjusted.by), ("speed 90 %", "Maud"))
        unknown = InjectedCommands((b"M221 S95",), said=['echo:Unknown command: "M221 S95"'])
        self.assertFalse(take_effect(machine, PendingAction(unknown, Adjust(flow_pct=95.0)), building=True))
        self.assertIn("does not know this", unknown.failed)
        self.assertEqual(machine.settings.flow_pct, 100.0)
        line = PendingAction(InjectedCommands((b"M900",), said=['echo:Unknown command: "M900"']), SendLine("M900"))
        self.assertTrue(
            take_effect(machine, line, building=False), "a line of a person's is answered with what was said"
        )
        take_effect(machine, PendingAction(InjectedCommands(()), Filament("load")), building=True)
        self.assertEqual(machine.change, "load")
        silent = InjectedCommands((b"M420 V",), said=["nothing to see"])
        take_effect(machine, PendingAction(silent, MeasureBed(False)), building=False)
        self.assertEqual(silent.failed, "the machine printed no level map")

    @given(st.lists(st.integers(-40, 40), min_size=1, max_size=6))
    def test_offset_steps_add_up_to_what_was_asked_last_however_many_are_on_their_way(self, wanted: list[int]) -> None:
        machine = ControlledMachine(MachineModel("toy"), MachineState.IDLE)
        pending: list[PendingAction] = []
        moved = 0.0
        for hundredths in wanted:
            action = Adjust(z_offset_mm=hundredths / 100)
            for step in offset_steps(action, pending, machine):
                moved += float(step.split(b"Z")[1])
            pending.append(PendingAction(InjectedCommands(()), action))
        self.assertAlmostEqual(moved, wanted[-1] / 100, places=6)
        self.assertEqual(len(adjustments(pending)), len(wanted))


class WireParts(unittest.TestCase):
    @given(st.lists(st.integers(10, 90), min_size=1, max_size=60), st.integers(0, 400))
    def test_no_more_is_outstanding_than_the_machine_buffers_but_always_one_line(
        self, lines: list[int], most: int
    ) -> None:
        window, outstanding = SendWindow(most), list[int]()
        for length in lines:
            while not window.room:
                window.taken(1)
                outstanding.pop(0)
            longest = max(outstanding, default=0)
            self.assertTrue(not outstanding or sum(outstanding) + longest <= most)
            window.add(length)
            outstanding.append(length)
        window.clear()
        self.assertTrue(window.room)

    def test_a_fault_is_told_once_as_one_text_and_halts_if_any_of_it_does(self) -> None:
        fault = FaultText()
        self.assertFalse(fault.takes(OtherText("nothing is being told")))
        fault.begin(FaultReported("heating failed"), 5.0)
        self.assertFalse(fault.settled(5.0 + FAULT_SETTLES_S / 2))
        self.assertTrue(fault.takes(Halted("printer stopped")))
        self.assertTrue(fault.settled(5.1 + FAULT_SETTLES_S))
        self.assertEqual(fault.told(), [Halted("heating failed; printer stopped")])
        self.assertEqual((fault.told(), fault.settled(99.0)), ([], False))
        fault.begin(FaultReported("0"), 6.0)
        taken = [fault.takes(OtherText(str(n))) for n in range(1, MOST_FAULT_LINES + 3)]
        self.assertEqual(taken.count(True), MOST_FAULT_LINES - 1, "what a machine can make us keep has an end")

    def test_a_slow_wire_is_told_once_a_connection(self) -> None:
        wire = WireQuality(3.0, 0.2)
        told = []
        for n in range(2 * SLOW_SAMPLES):
            wire.asked_at_s = float(10 * n)
            wire.question_answered(10 * n + SLOW_S + 0.1)
            told += wire.slow()
        self.assertEqual([round(t.round_trip_s, 1) for t in told], [round(SLOW_S + 0.1, 1)])
        wire.connected()
        self.assertEqual(len(wire.slow()), 1)

    def test_only_what_was_sent_once_measures_the_round_trip(self) -> None:
        wire = WireQuality(3.0, 0.2)
        wire.sent_at_s, wire.no_sample = 10.0, True
        wire.line_answered(19.0)
        self.assertEqual(wire.lines.samples, 0)
        wire.no_sample = False
        wire.line_answered(10.5)
        self.assertEqual((wire.lines.samples, wire.lines.smoothed_s), (1, 0.5))

    def test_damage_is_told_when_it_comes_thick_and_not_when_it_comes_seldom(self) -> None:
        def told(apart: int) -> int:
            wire, found = WireQuality(3.0, 0.2), 0
            for _ in range(3 * TOO_BAD):
                wire.sent += apart
                found += len(wire.line_damaged())
            return found

        self.assertEqual(told(2), 3)
        self.assertEqual(told(TRUSTED), 0)


if __name__ == "__main__":
    unittest.main()
