"""The tender's own programs beside the file's: what they leave behind, by a plain reading of G-code of its own.
Whatever a file has said before, a pause and a resume leave the machine as an uninterrupted run has it."""

from __future__ import annotations

import unittest
from dataclasses import dataclass, field, replace

from hypothesis import example, given, settings
from hypothesis import strategies as st

from chronarch.core.control import command_sequences as programs
from chronarch.core.gcode.modal import ModalState
from chronarch.core.machines.model import MachineModel

MODEL = MachineModel("toy", park_mm=(5, 200), lift_mm=12, tools=2, chamber_ceiling_c=60)


@dataclass
class SequenceMachine:
    """A machine that does each command at once. Lengths in mm from its own origin; `pushed` is filament that went
    through the nozzle."""

    at: dict[str, float] = field(default_factory=lambda: dict.fromkeys("XYZ", 0.0))
    origin: dict[str, float] = field(default_factory=lambda: dict.fromkeys("XYZ", 0.0))
    """Where the position that the file calls 0 is."""
    e: float = 0.0
    pushed: float = 0.0
    feed: float = 0.0
    unit: float = 1.0
    absolute: bool = True
    absolute_e: bool = True
    tool: int = 0
    nozzles: dict[int, float] = field(default_factory=lambda: {0: 0.0, 1: 0.0})
    bed: float = 0.0
    chamber: float = 0.0
    fans: dict[int, float] = field(default_factory=lambda: {0: 0.0, 1: 0.0, 2: 0.0})
    lowest: float = 1e9
    """The lowest z it moved across the bed at."""

    def copy(self) -> SequenceMachine:
        return replace(
            self, at=dict(self.at), origin=dict(self.origin), nozzles=dict(self.nozzles), fans=dict(self.fans)
        )

    def run(self, commands: list[bytes] | tuple[bytes, ...]) -> SequenceMachine:
        for command in commands:
            word, *rest = command.decode().split()
            given = {text[0]: float(text[1:] or 0) for text in rest}
            if word[0] == "T":
                self.tool = int(word[1:])
            else:
                getattr(self, f"_{word.lower()}")(given)
        return self

    def _g1(self, w: dict[str, float]) -> None:
        if "X" in w or "Y" in w:
            self.lowest = min(self.lowest, self.at["Z"])
        for axis in "XYZ":
            if axis in w:
                base = self.origin[axis] if self.absolute else self.at[axis]
                self.at[axis] = base + w[axis] * self.unit
        if "E" in w:
            step = w["E"] * self.unit - (self.e if self.absolute_e else 0)
            self.e += step
            self.pushed += step
        self.feed = w["F"] * self.unit if "F" in w else self.feed

    _g0 = _g1

    def _g20(self, w: dict[str, float]) -> None:
        self.unit = 25.4

    def _g21(self, w: dict[str, float]) -> None:
        self.unit = 1.0

    def _g28(self, w: dict[str, float]) -> None:
        for axis in [a for a in "XYZ" if a in w] or list("XYZ"):
            self.at[axis] = self.origin[axis] = 0.0

    def _g90(self, w: dict[str, float]) -> None:
        self.absolute = self.absolute_e = True

    def _g91(self, w: dict[str, float]) -> None:
        self.absolute = self.absolute_e = False

    def _g92(self, w: dict[str, float]) -> None:
        self.e = w["E"] * self.unit if "E" in w else self.e
        for axis in set("XYZ") & set(w):
            self.origin[axis] = self.at[axis] - w[axis] * self.unit

    def _m82(self, w: dict[str, float]) -> None:
        self.absolute_e = True

    def _m83(self, w: dict[str, float]) -> None:
        self.absolute_e = False

    def _m104(self, w: dict[str, float]) -> None:
        self.nozzles[int(w.get("T", self.tool))] = w.get("S", w.get("R", 0.0))

    _m109 = _m104

    def _m140(self, w: dict[str, float]) -> None:
        self.bed = w.get("S", w.get("R", 0.0))

    _m190 = _m140

    def _m141(self, w: dict[str, float]) -> None:
        self.chamber = w["S"]

    def _m106(self, w: dict[str, float]) -> None:
        self.fans[int(w.get("P", 0))] = w.get("S", 255.0)

    def _m107(self, w: dict[str, float]) -> None:
        self.fans[int(w.get("P", 0))] = 0.0

    def _nothing(self, w: dict[str, float]) -> None:
        pass

    _m400 = _m155 = _m220 = _m221 = _m290 = _nothing


places = st.integers(0, 2000).map(lambda n: n / 10)
moves = st.builds(
    lambda x, y, z, e, f: b"G1 X%g Y%g Z%g E%g F%d" % (x, y, z, e, f), places, places, places, places,
    st.integers(60, 9000),
)  # fmt: skip
others = st.sampled_from(
    [
        b"G90", b"G91", b"G20", b"G21", b"M82", b"M83", b"G92 E0", b"G92 X10 Z3", b"G28", b"G28 X", b"T0", b"T1",
        b"M106 S128", b"M106 P2 S33", b"M106", b"M107", b"M107 P1",
        b"M104 S205", b"M109 S240", b"M109 R205", b"M104 T1 S160", b"M109 T1 R170",
        b"M140 S60", b"M190 R60", b"M190 S55", b"M141 S40",
    ]
)  # fmt: skip
files = st.lists(st.one_of(moves, others), min_size=1, max_size=40)


def caught_up(commands: list[bytes]) -> tuple[SequenceMachine, ModalState]:
    modal = ModalState()
    for command in commands:
        modal.apply(command)
    return SequenceMachine().run(commands), modal


def lifted(z: float) -> float:
    """Where the head stands after it was lifted: no higher than the machine reaches, and never lower than before."""
    return max(z, min(z + MODEL.lift_mm, MODEL.volume_mm[2]))


class ParkedAndBack(unittest.TestCase):
    def same(self, machine: SequenceMachine, before: SequenceMachine) -> None:
        for name in ("e", "pushed"):
            self.assertAlmostEqual(getattr(machine, name), getattr(before, name), places=2, msg=name)
        for axis in "XYZ":
            self.assertAlmostEqual(machine.at[axis], before.at[axis], places=2, msg=axis)
            self.assertAlmostEqual(machine.origin[axis], before.origin[axis], places=2, msg=axis)
        for name in ("unit", "absolute", "absolute_e", "tool", "nozzles", "bed", "chamber", "fans"):
            self.assertEqual(getattr(machine, name), getattr(before, name), name)
        if before.feed:
            self.assertAlmostEqual(machine.feed / before.feed, 1.0, places=4)

    @given(commands=files, later=files, heaters_off=st.booleans())
    @example(commands=[b"M109 R205", b"M190 R60"], later=[b"G1 X1"], heaters_off=True)
    @example(commands=[b"M104 S210", b"M104 T1 S160"], later=[b"G1 X1"], heaters_off=True)
    @example(commands=[b"M106 S255", b"M106 P2 S33"], later=[b"G1 X1"], heaters_off=False)
    @example(commands=[b"G20", b"G1 X2 Y2 Z0.1 E0.4 F200"], later=[b"G91", b"G1 X0.1"], heaters_off=False)
    @settings(max_examples=300)
    def test_a_paused_file_goes_on_as_if_it_had_not_been(
        self, commands: list[bytes], later: list[bytes], heaters_off: bool
    ) -> None:
        machine, modal = caught_up(commands)
        before = machine.copy()
        machine.run(programs.park(MODEL, modal, lift=True, heaters_off=heaters_off).commands)
        self.assertAlmostEqual(machine.at["X"], 5)
        self.assertAlmostEqual(machine.at["Y"], 200)
        self.assertAlmostEqual(machine.at["Z"], lifted(before.at["Z"]))
        if heaters_off:
            self.assertEqual((set(machine.nozzles.values()), machine.bed), ({0.0}, 0.0))
        else:
            self.assertEqual((machine.nozzles, machine.bed), (before.nozzles, before.bed))
        self.assertEqual(machine.fans, before.fans, "a fan that cools an overhang goes on")
        machine.run(programs.heat_again(modal).commands)
        machine.run(programs.go_back(modal, lifted=True, retracted=True).commands)
        self.same(machine, before)
        for command in later:
            machine.run([command])
            before.run([command])
            self.same(machine, before)

    @given(commands=files)
    @settings(max_examples=60)
    def test_where_the_head_is_unknown_it_is_not_moved(self, commands: list[bytes]) -> None:
        machine, modal = caught_up(commands)
        before = machine.copy()
        machine.run(programs.park(MODEL, modal, lift=False, heaters_off=True).commands)
        machine.run(programs.go_back(modal, lifted=False, retracted=False).commands)
        self.assertEqual((machine.at, machine.pushed), (before.at, before.pushed))

    @given(commands=files, lift=st.booleans())
    @settings(max_examples=60)
    def test_the_head_is_lifted_before_it_goes_aside_and_heaters_are_off_at_the_end(
        self, commands: list[bytes], lift: bool
    ) -> None:
        machine, modal = caught_up(commands)
        z = machine.at["Z"]
        machine.lowest = 1e9
        machine.run(programs.end(MODEL, modal, lift=lift, report_every_s=2).commands)
        self.assertEqual(set(machine.nozzles.values()), {0.0}, "every tool's")
        self.assertEqual((machine.bed, machine.chamber, machine.fans[0], machine.unit), (0, 0, 0, 1.0))
        if lift:
            self.assertAlmostEqual(machine.lowest, lifted(z))
        else:
            self.assertEqual(machine.at["Z"], z)

    def test_the_head_is_not_lifted_above_what_the_machine_reaches(self) -> None:
        for z, shift, highest in ((245.0, 0.0, 250.0), (100.0, 146.0, 250.0), (250.0, 0.0, 250.0), (230.0, 0.0, 242.0)):
            modal = replace(ModalState(), z=z, shift_mm=(0.0, 0.0, shift))
            for program in (
                programs.park(MODEL, modal, lift=True, heaters_off=False),
                programs.end(MODEL, modal, lift=True, report_every_s=2),
            ):
                machine = SequenceMachine()
                machine.at["Z"] = z + shift
                machine.run(program.commands)
                self.assertAlmostEqual(machine.at["Z"], highest)

    def test_a_machine_with_one_tool_is_told_of_no_other(self) -> None:
        model = MachineModel("toy")
        _, modal = caught_up([b"M104 S205", b"M140 S60"])
        said = programs.heat_again(modal).commands
        self.assertEqual(said, (b"M140 S60", b"M104 S205", b"M190 S60", b"M109 S205"))
        self.assertEqual(programs.nozzles_off(model), (b"M104 S0",))


class Undone(unittest.TestCase):
    def test_what_hands_set_is_taken_back_and_nothing_else(self) -> None:
        self.assertEqual(programs.undo(100, 100, 0), ())
        self.assertEqual(programs.undo(150, 95, 0), (b"M220 S100", b"M221 S100"))
        (step,) = programs.undo(100, 100, 0.05)
        self.assertIn(b"-0.05", step)

    def test_the_machine_is_told_how_often_to_report(self) -> None:
        self.assertEqual(programs.quiet(MODEL, 3).commands[-1], b"M155 S3")
        self.assertEqual(programs.end(MODEL, ModalState(), lift=False, report_every_s=5).commands[-1], b"M155 S5")


if __name__ == "__main__":
    unittest.main()
