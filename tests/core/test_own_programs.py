"""The tender's own programs beside the file's: what they leave behind, by a plain reading of G-code of its own."""

from __future__ import annotations

import unittest
from dataclasses import dataclass, replace

from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core import programs
from chronarch.core.fleet import MachineModel
from chronarch.core.gcode.modal import ModalState

MODEL = MachineModel("toy", park_mm=(5, 200), lift_mm=12)


@dataclass
class Machine:
    """A machine that does each command at once. `pushed` is filament that went through the nozzle, in mm."""

    x: float = 0.0
    y: float = 0.0
    z: float = 0.0
    e: float = 0.0
    pushed: float = 0.0
    feed: float = 0.0
    absolute: bool = True
    absolute_e: bool = True
    nozzle: float = 0.0
    bed: float = 0.0
    fan: float = 0.0
    lowest: float = 1e9
    """The lowest z it moved across the bed at."""

    def run(self, commands: list[bytes] | tuple[bytes, ...]) -> Machine:
        for command in commands:
            word, *rest = command.decode().split()
            given = {text[0]: float(text[1:]) for text in rest}
            getattr(self, f"_{word.lower()}")(given)
        return self

    def _g1(self, w: dict[str, float]) -> None:
        if "X" in w or "Y" in w:
            self.lowest = min(self.lowest, self.z)
        for axis in "xyz":
            if axis.upper() in w:
                setattr(self, axis, w[axis.upper()] + (0 if self.absolute else getattr(self, axis)))
        if "E" in w:
            step = w["E"] - (self.e if self.absolute_e else 0)
            self.e += step
            self.pushed += step
        self.feed = w.get("F", self.feed)

    _g0 = _g1

    def _g90(self, w: dict[str, float]) -> None:
        self.absolute = self.absolute_e = True

    def _g91(self, w: dict[str, float]) -> None:
        self.absolute = self.absolute_e = False

    def _g92(self, w: dict[str, float]) -> None:
        self.e = w.get("E", self.e)

    def _m82(self, w: dict[str, float]) -> None:
        self.absolute_e = True

    def _m83(self, w: dict[str, float]) -> None:
        self.absolute_e = False

    def _m104(self, w: dict[str, float]) -> None:
        self.nozzle = w["S"]

    _m109 = _m104

    def _m140(self, w: dict[str, float]) -> None:
        self.bed = w["S"]

    _m190 = _m140

    def _m106(self, w: dict[str, float]) -> None:
        self.fan = w["S"]

    def _m107(self, w: dict[str, float]) -> None:
        self.fan = 0.0

    def _nothing(self, w: dict[str, float]) -> None:
        pass

    _m400 = _m155 = _m220 = _m221 = _m290 = _nothing


places = st.integers(0, 2000).map(lambda n: n / 10)
moves = st.builds(
    lambda x, y, z, e, f: b"G1 X%g Y%g Z%g E%g F%d" % (x, y, z, e, f), places, places, places, places,
    st.integers(60, 9000),
)  # fmt: skip
others = st.sampled_from(
    [b"G90", b"G91", b"M82", b"M83", b"G92 E0", b"M106 S128", b"M107", b"M104 S205", b"M109 S240", b"M140 S60"]
)
files = st.lists(st.one_of(moves, others), min_size=1, max_size=40)


def caught_up(commands: list[bytes]) -> tuple[Machine, ModalState]:
    modal = ModalState()
    for command in commands:
        modal.apply(command)
    return Machine().run(commands), modal


class ParkedAndBack(unittest.TestCase):
    @given(commands=files, heaters_off=st.booleans())
    @settings(max_examples=150)
    def test_after_a_pause_the_machine_is_as_the_file_left_it(self, commands: list[bytes], heaters_off: bool) -> None:
        machine, modal = caught_up(commands)
        before = replace(machine)
        machine.run(programs.park(MODEL, lift=True, heaters_off=heaters_off).commands)
        self.assertEqual((machine.x, machine.y), MODEL.park_mm)
        self.assertAlmostEqual(machine.z, before.z + MODEL.lift_mm)
        self.assertEqual((machine.nozzle, machine.bed), (0, 0) if heaters_off else (before.nozzle, before.bed))
        self.assertEqual(machine.fan, before.fan, "a fan that cools an overhang goes on")
        machine.run(programs.heat_again(modal).commands)
        machine.run(programs.go_back(modal, lifted=True, retracted=True).commands)
        for name in ("x", "y", "z", "e", "pushed"):
            self.assertAlmostEqual(getattr(machine, name), getattr(before, name), places=3, msg=name)
        for name in ("absolute", "absolute_e", "nozzle", "bed", "fan"):
            self.assertEqual(getattr(machine, name), getattr(before, name), name)
        if before.feed:
            self.assertEqual(machine.feed, before.feed)

    @given(commands=files)
    @settings(max_examples=60)
    def test_where_the_head_is_unknown_it_is_not_moved(self, commands: list[bytes]) -> None:
        machine, modal = caught_up(commands)
        before = replace(machine)
        machine.run(programs.park(MODEL, lift=False, heaters_off=True).commands)
        machine.run(programs.go_back(modal, lifted=False, retracted=False).commands)
        self.assertEqual((machine.x, machine.y, machine.z), (before.x, before.y, before.z))
        self.assertEqual(machine.pushed, before.pushed)

    @given(commands=files, lift=st.booleans())
    @settings(max_examples=60)
    def test_the_head_is_lifted_before_it_goes_aside_and_heaters_are_off_at_the_end(
        self, commands: list[bytes], lift: bool
    ) -> None:
        machine, _ = caught_up(commands)
        z = machine.z
        machine.lowest = 1e9
        machine.run(programs.end(MODEL, lift=lift, report_every_s=2).commands)
        self.assertEqual((machine.nozzle, machine.bed, machine.fan), (0, 0, 0))
        if lift:
            self.assertAlmostEqual(machine.lowest, z + MODEL.lift_mm)
        else:
            self.assertEqual(machine.z, z)


class Undone(unittest.TestCase):
    def test_what_hands_set_is_taken_back_and_nothing_else(self) -> None:
        self.assertEqual(programs.undo(100, 100, 0), ())
        self.assertEqual(programs.undo(150, 95, 0), (b"M220 S100", b"M221 S100"))
        (step,) = programs.undo(100, 100, 0.05)
        self.assertIn(b"-0.05", step)

    def test_the_machine_is_told_how_often_to_report(self) -> None:
        self.assertEqual(programs.quiet(3).commands[-1], b"M155 S3")
        self.assertEqual(programs.end(MODEL, lift=False, report_every_s=5).commands[-1], b"M155 S5")


if __name__ == "__main__":
    unittest.main()
