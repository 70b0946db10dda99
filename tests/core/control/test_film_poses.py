"""The head is taken out of the picture between layers: the file's commands still run once and in order, wherever the
tender dies meanwhile, and the nozzle lays each of them where and as the file says."""

from __future__ import annotations

import unittest
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.control.controlled_machine import BuildSpec
from chronarch.core.control.events import BuildEnded
from chronarch.core.control.film_poses import pose_commands, pose_indexes, pose_s
from chronarch.core.control.film_taking import FilmTaking, HeadAway
from chronarch.core.control.line_protocol import CommandSequence
from chronarch.core.gcode.analysis import analyse
from chronarch.core.machines.states import Outcome
from tests.core.control.test_own_programs import MODEL, SequenceMachine, caught_up, files
from tests.core.control.test_streaming_on_a_bad_wire import MODEL as TOY
from tests.core.control.test_taken_up import Shop
from tests.support.gcode import commands, squares

TEXT = squares(layers=4, rounds=2)
COMMANDS = [c.encode() for c in commands(TEXT)]
LAID = sum(c.startswith(b"G1 X") and b"E" in c for c in COMMANDS)
PLAN = analyse(TEXT.encode(), TOY).plan
AWAY = HeadAway(least_layer_s=0)
SPEC = BuildSpec(7, PLAN, CommandSequence(tuple(COMMANDS)), sha256="x", film=FilmTaking(head_away=AWAY), shutter_s=1)
MOVES = (b"G0 ", b"G1 ", b"G2", b"G9", b"M82", b"M83")


def shop(seed: int, trouble: float, window: int, kills: float, spec: BuildSpec = SPEC) -> tuple[Shop, BuildEnded]:
    made = Shop(seed, trouble, window, kills)
    made.spec = spec
    return made, made.run()


class Poses(unittest.TestCase):
    @settings(max_examples=80)
    @given(st.integers(0, 10**6), st.sampled_from([0.0, 0.02]), st.sampled_from([0, 100]))
    def test_the_file_runs_once_and_in_order(self, seed: int, trouble: float, window: int) -> None:
        made, ended = shop(seed, trouble, window, 0.03)
        laid = COMMANDS if ended.outcome is Outcome.COMPLETED else COMMANDS[: len(made.machine.file)]
        self.assertEqual(made.machine.file, laid)

    def test_after_a_tender_died_the_nozzle_is_where_the_file_has_it(self) -> None:
        killed = posed = 0
        for seed in range(60):
            made, ended = shop(seed, 0.0, 100 * (seed % 2), 0.04)
            self.assertIs(ended.outcome, Outcome.COMPLETED, f"seed {seed}")
            killed, posed = killed + made.killed, posed + sum(c.startswith(b"G4 P") for c in made.machine.ran)
            real, meant, taken, compared = SequenceMachine(), SequenceMachine(), 0, 0
            for command in made.machine.ran:
                if not command.startswith(MOVES):
                    taken += taken < len(COMMANDS) and command == COMMANDS[taken]
                    continue
                real.run([command])
                if taken < len(COMMANDS) and command == COMMANDS[taken]:
                    meant.run([command])
                    taken += 1
                    if b"E" in command and command.startswith(b"G1 X"):
                        compared += 1
                        for axis in "XYZ":
                            self.assertAlmostEqual(real.at[axis], meant.at[axis], 3, f"seed {seed}, line {taken}")
                        self.assertAlmostEqual(real.pushed, meant.pushed, 2, f"seed {seed}, line {taken}")
            self.assertEqual((taken, compared), (len(COMMANDS), LAID))
        self.assertGreater(killed, 100)
        self.assertGreaterEqual(posed, 60 * 3)

    def test_short_layers_are_left_out_and_a_pause_stands_in_for_a_pose(self) -> None:
        self.assertEqual(len(pose_indexes(PLAN, AWAY)), 3)
        self.assertEqual(pose_indexes(PLAN, replace(AWAY, least_layer_s=3600)), [])
        none = replace(SPEC, film=FilmTaking(head_away=replace(AWAY, least_layer_s=3600)))
        made, _ = shop(1, 0.0, 0, 0.0, none)
        self.assertFalse([c for c in made.machine.ran if c.startswith(b"G4 P")])

    @given(commands=files)
    @settings(max_examples=100)
    def test_whatever_the_file_has_said_it_goes_on_as_if_nothing_had_been(self, commands: list[bytes]) -> None:
        machine, modal = caught_up(commands)
        before = machine.copy()
        sent, at = pose_commands(MODEL, modal, AWAY, 1.3)
        self.assertEqual(sent[at], b"G4 P1300")
        machine.run([c for c in sent[:at] if c != b"M400"])
        self.assertAlmostEqual(machine.at["X"], MODEL.park_mm[0])
        machine.run(list(sent[at + 1 :]))
        for axis in "XYZ":
            self.assertAlmostEqual(machine.at[axis], before.at[axis], 2)
        self.assertAlmostEqual(machine.pushed, before.pushed, 2)
        self.assertEqual((machine.absolute, machine.absolute_e), (before.absolute, before.absolute_e))

    def test_one_takes_as_long_as_its_way_and_its_stand(self) -> None:
        near, far = pose_s(MODEL, 5, 190, AWAY), pose_s(MODEL, 205, 190, AWAY)
        self.assertAlmostEqual(far - near, 2 * (200.25 - 10) / 100, 2)
        self.assertGreater(near, AWAY.settle_s + 1)


if __name__ == "__main__":
    unittest.main()
