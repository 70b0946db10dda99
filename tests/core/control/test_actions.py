"""What hands may do: each action with its limits and its moment, and what becomes of it in the middle of a build."""

from __future__ import annotations

import unittest
from dataclasses import replace

from chronarch.core.control import actions as h
from chronarch.core.control.events import Adjusted, BuildEnded, BuildPaused, Levelled, Noticed
from chronarch.core.control.streaming_controller import FeedingPhase
from chronarch.core.gcode.analysis import analyse
from chronarch.core.machines.model import OwnSequence, Parameter, SwitchLines
from chronarch.core.machines.states import MachineState, Outcome, WrongState
from tests.support.bench import COMMANDS, MODEL, TEXT, Bench, Waiting

WARM = (205.0, 205.0, 60.0, 60.0)
RICH = replace(
    MODEL,
    switches=(SwitchLines("light", "M355 S1", "M355 S0"),),
    sequences=(
        OwnSequence("clean nozzle", "G28\nG1 X{reach} F3000", (Parameter("reach", 0, 50, 20, "mm"),)),
        OwnSequence("tune heater", "M303 E0 S205 C5", guarded=True, clear_bed=False),
    ),
)
FREE = h.MachineSituation(h.Activity.FREE, nozzle_c=210.0)
BUILDING = h.MachineSituation(h.Activity.BUILDING, nozzle_c=210.0, laden=True)
PAUSED = h.MachineSituation(h.Activity.PAUSED, nozzle_c=210.0, laden=True)


class Actions(unittest.TestCase):
    def test_each_action_becomes_its_commands(self) -> None:
        table: list[tuple[h.Action, h.MachineSituation, list[bytes]]] = [
            (h.Home(), FREE, [b"G28"]),
            (h.Home("xy"), FREE, [b"G28 X Y"]),
            (h.Move(x=10, z=-0.1), FREE, [b"G91", b"G1 X10 Z-0.1 F600", b"G90", b"M400"]),
            (h.Feed(-20), FREE, [b"M83", b"G1 E-20 F240", b"M82", b"M400"]),
            (h.Adjust(nozzle_c=210, fan_pct=50), BUILDING, [b"M104 S210", b"M106 S128"]),
            (h.Adjust(speed_pct=80, flow_pct=95), BUILDING, [b"M220 S80", b"M221 S95"]),
            (h.Preset("petg"), FREE, [b"M104 S235", b"M140 S80"]),
            (h.Preset(""), FREE, [b"M104 S0", b"M140 S0"]),
            (h.Switch("Light", True), BUILDING, [b"M355 S1"]),
            (h.MotorsOff(), FREE, [b"M84"]),
            (h.RunSequence("clean nozzle", {}), FREE, [b"G28", b"G1 X20 F3000"]),
            (h.RunSequence("clean nozzle", {"reach": 5}), FREE, [b"G28", b"G1 X5 F3000"]),
            (h.Filament("load"), PAUSED, [b"M83", b"G1 E90 F600", b"M400"]),
            (h.SendLine(" m105 ; heat?"), FREE, [b"m105"]),
            (h.MeasureBed(), FREE, [b"M420 V"]),
            (h.ReadSettings(), FREE, [b"M503"]),
            (h.MeasureBed(measure=True), FREE, [b"G28", b"G29", b"M420 V"]),
        ]
        for action, at, expected in table:
            with self.subTest(action=action):
                self.assertEqual(h.check(action, RICH, at), expected)

    def test_what_is_out_of_bounds_or_not_for_now_is_refused_saying_why(self) -> None:
        laden = h.MachineSituation(h.Activity.FREE, nozzle_c=210.0, laden=True)
        placed = h.MachineSituation(h.Activity.FREE, nozzle_c=25.0, position_mm=(215.0, 10.0, 5.0))
        table: list[tuple[h.Action, h.MachineSituation, str]] = [
            (h.Adjust(nozzle_c=400), BUILDING, "nozzle 400 °C is out of bounds: 0 to 275"),
            (h.Adjust(bed_c=-1), BUILDING, "out of bounds"),
            (h.Adjust(chamber_c=40), BUILDING, "0 to 0 °C"),
            (h.Adjust(speed_pct=1000), BUILDING, "10 to 300 %"),
            (h.Adjust(z_offset_mm=2), BUILDING, "-1 to 1 mm"),
            (h.Adjust(z_offset_mm=0.1), FREE, "while a build runs"),
            (h.Adjust(), BUILDING, "Say what is to be set"),
            (h.Home(), BUILDING, "while a build runs"),
            (h.Home(), PAUSED, "stands paused"),
            (h.Home(), laden, "A part stands on the bed"),
            (h.Home("q"), FREE, "no axis Q"),
            (h.Move(), FREE, "by how much"),
            (h.Move(x=10), placed, "X would be 225 mm"),
            (h.Move(x=900), FREE, "out of bounds"),
            (h.Move(z=-1), laden, "does not go down"),
            (h.Feed(10), placed, "The nozzle is 25 °C"),
            (h.Feed(10), h.MachineSituation(h.Activity.FREE), "has not yet told"),
            (h.Preset("cheese"), FREE, "no preset for 'cheese'"),
            (h.Switch("fog horn", True), FREE, "it has: light"),
            (h.RunSequence("dance", {}), FREE, "it has: clean nozzle, tune heater"),
            (h.RunSequence("clean nozzle", {"reach": 99}), FREE, "0 to 50 mm"),
            (h.RunSequence("clean nozzle", {"force": 1}), FREE, "no parameter 'force'"),
            (h.RunSequence("clean nozzle", {}), laden, "needs it clear"),
            (h.Filament("load"), FREE, "unless a build is paused"),
            (h.SendLine("G28"), BUILDING, "G28 would upset the build"),
            (h.SendLine("M110 N5"), FREE, "belong to the feeding"),
            (h.SendLine("N5 G28*3"), FREE, "belong to the feeding"),
            (h.SendLine("  ; nothing"), FREE, "one line"),
            (h.SendLine("M117 " + "x" * 200), FREE, "at most 96"),
            (h.MeasureBed(measure=True), laden, "probing would run into it"),
        ]
        for action, at, words in table:
            with self.subTest(action=action), self.assertRaises(h.NotPossible) as caught:
                h.check(action, RICH, at)
            self.assertIn(words, str(caught.exception))

    def test_steps_go_the_way_the_model_says(self) -> None:
        backward = replace(MODEL, reversed_axes="y")
        self.assertIn(b"G1 X1 Y-2 F6000", h.check(h.Move(x=1, y=2), backward, FREE))

    def test_a_line_that_lasts_is_sent_once_it_is_meant(self) -> None:
        for text in ("M500", "m92 E93", " M851 Z-1 ; probe"):
            with self.subTest(text=text), self.assertRaises(h.NeedsConfirmation) as caught:
                h.check(h.SendLine(text), MODEL, FREE)
            self.assertIn(text.split()[0].upper(), str(caught.exception))
            self.assertEqual(len(h.check(h.SendLine(text, sure=True), MODEL, FREE)), 1)
        for text in ("M5000", "M104 S200"):
            self.assertEqual(h.check(h.SendLine(text), MODEL, FREE), [text.encode()])


class WhileBuilding(unittest.TestCase):
    def setUp(self) -> None:
        self.bench = Bench(RICH)
        self.bench.begin()
        self.bench.heat = WARM
        self.bench.report()
        self.bench.run(lines=20)

    def finish(self) -> BuildEnded:
        b = self.bench
        b.run()
        (ended,) = b.of(BuildEnded)
        assert isinstance(ended, BuildEnded)
        return ended

    def test_an_adjustment_slips_between_two_lines_and_is_in_the_record(self) -> None:
        b = self.bench
        injected = b.controller.act(h.Adjust(nozzle_c=212, speed_pct=80), b.now(), "Maud")
        self.assertFalse(injected.over)
        self.assertEqual([a.nozzle_c for a in b.controller.asked], [212])
        self.assertIs(self.finish().outcome, Outcome.COMPLETED)
        self.assertTrue(injected.done)
        self.assertEqual(b.ran, COMMANDS, "the file's own lines are untouched")
        self.assertEqual(b.own[:2], [b"M104 S212", b"M220 S80"])
        self.assertEqual(b.of(Adjusted), [Adjusted(7, "nozzle 212 °C, speed 80 %", "Maud")])
        self.assertIn(b"M220 S100", b.own, "the next build begins at its own speed")

    def test_z_offsets_go_in_steps_from_where_the_last_one_left_and_are_taken_back(self) -> None:
        b = self.bench
        b.controller.act(h.Adjust(z_offset_mm=0.05), b.now())
        b.controller.act(h.Adjust(z_offset_mm=0.02), b.now())
        self.finish()
        self.assertEqual(
            [c for c in b.own if c.startswith(b"M290")], [b"M290 Z0.050", b"M290 Z-0.030", b"M290 Z-0.020"]
        )

    def test_what_was_set_survives_a_pause(self) -> None:
        b = self.bench
        b.controller.act(h.Adjust(nozzle_c=212, fan_pct=40), b.now())
        b.run(lines=10)
        b.controller.pause("look", b.now())
        b.run(seconds=3)
        b.own.clear()
        b.controller.resume(b.now())
        self.finish()
        self.assertIn(b"M109 S212", b.own)
        self.assertIn(b"M106 S102", b.own)

    def test_a_word_the_machine_does_not_know_is_told_and_nothing_shown_as_set(self) -> None:
        b = self.bench
        b.answers[b"M290 Z0.050"] = ('echo:Unknown command: "M290 Z0.050"',)
        injected = b.controller.act(h.Adjust(z_offset_mm=0.05), b.now())
        self.finish()
        self.assertIn("does not know this", injected.failed)
        self.assertEqual((b.controller.machine.settings.z_offset_mm, b.of(Adjusted)), (0.0, []))

    def test_what_a_stop_dropped_is_asked_no_more(self) -> None:
        b = self.bench
        b.controller.act(h.Adjust(z_offset_mm=0.05, nozzle_c=210), b.now())
        while b.controller.phase is not FeedingPhase.ASIDE:
            b.run(lines=1)
        b.controller.stop("enough", b.now())
        self.assertEqual(b.controller.asked, [])
        self.finish()

    def test_motion_is_locked_and_a_stop_drops_what_waited(self) -> None:
        b = self.bench
        with self.assertRaises(h.NotPossible):
            b.controller.act(h.Home(), b.now())
        injected = b.controller.act(h.Adjust(fan_pct=10), b.now())
        b.controller.stop("enough", b.now())
        self.assertEqual(injected.failed, "the build was stopped")
        self.assertIs(self.finish().outcome, Outcome.STOPPED)
        self.assertNotIn(b"M106 S26", b.own)

    def test_a_pause_before_a_layer_comes_exactly_there(self) -> None:
        b = self.bench
        first = analyse(TEXT.encode(), MODEL).plan.layers[1]
        with self.assertRaises(WrongState):
            b.controller.pause_before(1, b.now())
        with self.assertRaises(WrongState):
            b.controller.pause_before(3, b.now())
        b.controller.pause_before(2, b.now())
        b.run(seconds=3)
        self.assertEqual(len(b.ran), first)
        self.assertEqual(b.of(BuildPaused), [BuildPaused(7, "asked for before layer 2", False)])
        b.controller.resume(b.now())
        self.finish()
        self.assertEqual(b.ran, COMMANDS)

    def test_a_planned_pause_can_be_taken_back(self) -> None:
        b = self.bench
        b.controller.pause_before(2, b.now())
        b.controller.no_pause_before(2, b.now())
        self.assertIs(self.finish().outcome, Outcome.COMPLETED)
        self.assertEqual(b.of(BuildPaused), [])

    def test_a_filament_change_goes_step_by_step_and_the_build_goes_on(self) -> None:
        b = self.bench
        b.controller.change_filament("teal ran low", b.now())
        b.run(seconds=3)
        self.assertEqual((b.controller.machine.change, b.controller.machine.state), ("wanted", MachineState.PAUSED))
        b.own.clear()
        for step in ("unload", "load", "purge"):
            b.controller.act(h.Filament(step), b.now(), "Maud")  # type: ignore[arg-type]
            with self.assertRaises(WrongState):
                b.controller.resume(b.now())
            b.run(seconds=2)
            self.assertEqual(b.controller.machine.change, step)
        pushed = [float(c.split(b"E")[1].split()[0]) for c in b.own if c.startswith(b"G1 E")]
        self.assertEqual(pushed, [10, -90, 90, 30, -2])
        self.assertIn(b"M109 S205", b.own, "each step first sees to the nozzle's heat")
        b.controller.resume(b.now())
        self.finish()
        self.assertEqual(b.ran, COMMANDS)
        self.assertEqual([a.text for a in b.of(Adjusted)], [f"filament: {s}" for s in ("unload", "load", "purge")])  # type: ignore[attr-defined]

    def test_a_nozzle_that_waits_too_long_is_let_cool_and_heated_again(self) -> None:
        b = self.bench
        b.controller.pause("lunch", b.now())
        b.run(seconds=5)
        b.own.clear()
        for _ in range(20):
            b.real_s += 60
            b.report()
            b.run(seconds=1)
        self.assertEqual(b.own.count(b"M104 S0"), 1)
        self.assertEqual([n.note for n in b.of(Noticed)], [True])  # type: ignore[attr-defined]
        b.controller.resume(b.now())
        self.finish()
        self.assertIn(b"M109 S205", b.own)
        self.assertEqual(b.ran, COMMANDS)

    def test_an_edited_file_takes_over_at_its_layer_and_not_once_that_has_begun(self) -> None:
        b = self.bench
        plan = analyse(TEXT.encode(), MODEL).plan
        second = plan.layers[1]
        shorter = [*COMMANDS[:second], b"G1 X1 Y1", *COMMANDS[-3:]]
        text = "\n".join(c.decode() for c in shorter)
        new = analyse((text + "\n").encode(), MODEL).plan
        b.controller.skip(
            Waiting(tuple(shorter)), new, "edited", second, "left out box 1 from layer 2 on", "Maud", b.now()
        )
        ended = self.finish()
        self.assertEqual((ended.outcome, ended.acknowledged), (Outcome.COMPLETED, len(shorter)))
        self.assertEqual(b.ran, shorter)
        self.setUp()
        self.bench.run(lines=len(COMMANDS) - 8)
        with self.assertRaises(WrongState):
            self.bench.controller.skip(Waiting(tuple(shorter)), new, "edited", second, "", "", self.bench.now())


class FileAsks(unittest.TestCase):
    def test_a_pause_the_file_asks_for_waits_for_hands_and_is_not_sent(self) -> None:
        lines = TEXT.splitlines()
        at = lines.index("; layer 2")
        text = "\n".join([*lines[:at], "M0 put the nut in", *lines[at:]]) + "\n"
        b = Bench(MODEL, text)
        b.begin()
        b.heat = WARM
        b.report()
        b.run(seconds=5)
        (paused,) = b.of(BuildPaused)
        self.assertEqual(paused, BuildPaused(7, "the file asks for a pause: put the nut in", True))
        self.assertIs(b.controller.phase, FeedingPhase.PARKED)
        b.controller.resume(b.now())
        b.run()
        self.assertEqual(b.ran, COMMANDS, "all but what was asked of hands")
        (ended,) = b.of(BuildEnded)
        self.assertEqual(ended.acknowledged, len(COMMANDS) + 1)  # type: ignore[attr-defined]

    def test_what_the_file_says_is_shown_and_what_it_says_to_people_is_told_once(self) -> None:
        lines = TEXT.splitlines()
        at = lines.index("; layer 2")
        said = ["M117 Layer\t2 \x1b[31m now", "M118 echo to the host", "M118 Tell:  turn the plate"]
        b = Bench(MODEL, "\n".join([*lines[:at], *said, *lines[at:]]) + "\n")
        b.begin()
        b.run()
        told = [e for e in b.of(Noticed) if e.about == "file"]  # type: ignore[attr-defined]
        self.assertEqual(told, [Noticed("turn the plate", 7, about="file")])
        self.assertEqual(b.controller.machine.words, "Layer2 [31m now")
        self.assertTrue({c.encode() for c in said} <= set(b.ran), "the machine gets them too")

    def test_the_display_asks_for_hands_while_it_stands_and_then_shows_what_it_showed(self) -> None:
        lines = TEXT.splitlines()
        at = lines.index("; layer 2")
        lamp = SwitchLines("lamp", "M42 P6 S255", "M42 P6 S0")
        model = replace(MODEL, switches=(lamp,), hands_light="lamp")
        b = Bench(model, "\n".join([*lines[:at], "M117 Layer 2", "M0 the nut", *lines[at:]]) + "\n")
        b.begin()
        b.heat = WARM
        b.report()
        b.run(seconds=5)
        self.assertIs(b.controller.phase, FeedingPhase.PARKED)
        b.own.clear()
        for _ in range(2):  # told again, it is not sent again
            b.controller.ask_hands("The nut", b.now())
            b.run(seconds=1)
        self.assertEqual(b.own, [b"M117 The nut", b"M42 P6 S255"])
        self.assertEqual(b.of(Adjusted), [], "nothing of the build was changed")
        b.controller.resume(b.now())
        b.run()
        self.assertEqual(b.own[2:4], [b"M117 Layer 2", b"M42 P6 S0"], "before the head goes back")
        self.assertTrue(b.of(BuildEnded))
        self.assertEqual([c for c in b.ran if c != b"M117 Layer 2"], COMMANDS)
        b.heat = (25.0, 0.0, 25.0, 0.0)
        b.report()
        b.run(seconds=1)
        b.controller.ask_hands("Lift off", b.now())
        b.run(seconds=1)
        b.controller.clear(b.now())
        b.run(seconds=1)
        b.own.clear()
        b.controller.ask_hands("", b.now())
        b.run(seconds=1)
        self.assertEqual(b.own, [b"M117 Ready", b"M42 P6 S0"])

    def test_a_change_of_filament_the_file_asks_for_begins_the_flow(self) -> None:
        b = Bench(MODEL, TEXT.replace("; layer 2\n", "M600\n"))
        b.begin()
        b.run(seconds=5)
        self.assertEqual((b.controller.machine.change, b.controller.machine.state), ("wanted", MachineState.PAUSED))


class AtRest(unittest.TestCase):
    def setUp(self) -> None:
        self.bench = Bench(RICH)
        self.bench.answers = {
            b"M115": ("FIRMWARE_NAME:Toy 1.2 MACHINE_TYPE:Bench EXTRUDER_COUNT:1", "Cap:AUTOREPORT_TEMP:0"),
            b"M420 V": ("Bed level grid:", "      0      1", " 0 +0.10 -0.05", " 1 +0.00 +0.20"),
            b"M114": ("X:10.00 Y:0.00 Z:5.00 E:0.00 Count X:800",),
        }
        self.bench.controller.connected(self.bench.now())
        self.bench.run()

    def test_a_first_contact_learns_what_the_machine_is(self) -> None:
        contact = self.bench.controller.machine.contact
        self.assertEqual((contact.firmware, contact.words["MACHINE_TYPE"]), ("Toy 1.2", "Bench"))
        self.assertIs(contact.reports_heat, False)
        self.assertIs(self.bench.controller.machine.watchdog, True)

    def test_a_machine_without_a_watchdog_is_known(self) -> None:
        b = Bench(RICH)
        b.answers = {b"M85 S1800": ('echo:Unknown command: "M85 S1800"',)}
        b.controller.connected(b.now())
        b.run()
        self.assertIs(b.controller.machine.watchdog, False)

    def test_a_machine_that_does_not_report_heat_is_asked_between_lines(self) -> None:
        b = self.bench
        b.answers[b"M105"] = ("T:205.0 /205.0 B:60.0 /60.0",)
        b.own.clear()
        b.run(seconds=30)
        self.assertGreaterEqual(b.own.count(b"M105"), 5)
        while not b.controller.ready:
            b.run(lines=1)
        b.controller.begin(b.spec(), b.now())
        b.run(seconds=30)
        self.assertEqual(b.ran, COMMANDS)

    def test_a_level_map_is_read_from_what_the_machine_prints(self) -> None:
        b = self.bench
        b.controller.act(h.MeasureBed(), b.now())
        b.run(seconds=2)
        self.assertEqual(b.of(Levelled), [Levelled(((0.10, -0.05), (0.00, 0.20)))])

    def test_a_machine_that_prints_no_map_is_told_apart_from_a_level_bed(self) -> None:
        b = self.bench
        b.answers[b"M420 V"] = ("echo:no grid",)
        injected = b.controller.act(h.MeasureBed(), b.now())
        b.run(seconds=2)
        self.assertEqual(injected.failed, "the machine printed no level map")

    def test_once_homed_the_head_is_kept_within_the_volume(self) -> None:
        b = self.bench
        b.controller.act(h.Move(x=10), b.now())
        b.run(seconds=1)
        self.assertIsNone(b.controller.machine.position_mm, "a position before homing means nothing")
        b.controller.act(h.Home(), b.now())
        b.run(seconds=1)
        self.assertEqual(b.controller.machine.position_mm, (10, 0, 5))
        with self.assertRaises(h.NotPossible):
            b.controller.act(h.Move(x=-20), b.now())
        b.controller.act(h.MotorsOff(), b.now())
        self.assertIsNone(b.controller.machine.position_mm)

    def test_heaters_left_on_are_turned_off_and_told(self) -> None:
        b = self.bench
        b.controller.act(h.Preset("PLA"), b.now())
        b.run(seconds=1)
        b.own.clear()
        b.heat = WARM
        for _ in range(20):
            b.real_s += 60
            b.report()
            b.run(seconds=1)
        self.assertEqual(b.own.count(b"M104 S0"), 1)
        self.assertEqual(len(b.of(Noticed)), 1)

    def test_nothing_is_done_without_a_link_or_at_a_machine_that_is_down(self) -> None:
        b = self.bench
        b.controller.disconnected(b.now())
        with self.assertRaises(WrongState):
            b.controller.act(h.Home(), b.now())
        b.controller.connected(b.now())
        b.controller.emergency(b.now())
        with self.assertRaises(WrongState):
            b.controller.act(h.Home(), b.now())


if __name__ == "__main__":
    unittest.main()
