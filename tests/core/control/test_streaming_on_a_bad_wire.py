"""A machine minded over a wire that damages, loses and repeats lines, while a person pauses, resumes and cuts the link:
the file's commands still run once and in order, or the build ends with a reason."""

from __future__ import annotations

import random
import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import example, given, settings
from hypothesis import strategies as st

from chronarch.core.control.controlled_machine import BuildSpec, Instant
from chronarch.core.control.events import BuildBegan, BuildEnded, BuildPaused, BuildResumed, ControlEvent, StateChanged
from chronarch.core.control.line_protocol import FIRST_OWN_LINE_NUMBER, CommandSequence
from chronarch.core.control.streaming_controller import FeedingPhase, StreamingController
from chronarch.core.gcode.analysis import analyse
from chronarch.core.ledger.intervals import append, faults
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState, Outcome, WrongState
from tests.support.gcode import commands, squares
from tests.support.toy import ToyMachine

TEXT = squares(layers=1, rounds=3)
COMMANDS = [c.encode() for c in commands(TEXT)]
MODEL = MachineModel("toy")
PLAN = analyse(TEXT.encode(), MODEL).plan
NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)


class CountingMachine(ToyMachine):
    """Tells the file's commands from the tender's own."""

    def __init__(self, seed: int, damage: float, lose: float, repeat: float) -> None:
        super().__init__(seed, damage, lose, repeat)
        self.file: list[bytes] = []
        self.set_back = 0
        """How often the count was set to a line of the file that has run."""

    def answer(self, line: bytes) -> list[bytes]:
        before = len(self.ran)
        said = super().answer(line)
        self.set_back += len(self.ran) == before and b" M110 N" in line and self.last < len(self.file)
        if len(self.ran) > before and self.last < FIRST_OWN_LINE_NUMBER:
            self.file.append(self.ran[-1])
        return said


def minded(
    seed: int, damage: float, lose: float, repeat: float
) -> tuple[CountingMachine, list[tuple[datetime, ControlEvent]]]:
    """One build from beginning to end, with pauses, resumes and cuts drawn by lot."""
    lot = random.Random(seed)
    controller, machine = StreamingController(MODEL), CountingMachine(seed, damage, lose, repeat)
    events: list[tuple[datetime, ControlEvent]] = []
    real_s = 0.0

    def now() -> Instant:
        return Instant(real_s, NINE + timedelta(seconds=real_s))

    def step() -> None:
        nonlocal real_s
        data = controller.outgoing()
        if data:
            real_s += 0.002
            controller.receive(machine.take(data), now())
        else:
            real_s += 0.1
            controller.tick(now())
        events.extend(controller.machine.take_events())

    controller.connected(now())
    while not controller.ready:
        step()
    controller.begin(BuildSpec(7, PLAN, CommandSequence(tuple(COMMANDS))), now())
    for _ in range(60_000):
        luck = lot.random()
        try:
            if luck < 0.01:
                controller.pause("by lot", now())
            elif luck < 0.05:
                controller.resume(now())
            elif luck < 0.055:
                controller.disconnected(now())
                controller.connected(now())
        except WrongState:
            pass
        step()
        if any(isinstance(h, BuildEnded) for _, h in events) and controller.phase is FeedingPhase.RESTING:
            break
    return machine, events


class BadWire(unittest.TestCase):
    @settings(max_examples=80)
    @example(124247, 0.046875, 0.04296875, 0.0234375)  # a pause right after an ok that came twice
    @example(207774, 0.046875, 0.0, 0.03125)  # a wish for a line that is on its way, from before it went out
    @example(516701, 0.0464705139817536, 0.03524110595144175, 0.03672684755271496)  # the same at the first line
    @example(832350, 0.06572798191081476, 0.03915345558393599, 0.025754388840886624)  # and damaged to another number
    @example(889743, 0.05684579742343357, 0.005487345170367275, 0.031962447864446776)  # trouble told with the end
    @example(94477, 0.008034572140325888, 0.0016179141242376183, 0.049370710225443606)  # answers to a program before
    @given(st.integers(0, 10**6), st.floats(0, 0.08), st.floats(0, 0.05), st.floats(0, 0.05))
    def test_pauses_and_cuts_on_a_bad_wire_never_lose_or_repeat_a_command(
        self, seed: int, damage: float, lose: float, repeat: float
    ) -> None:
        machine, events = minded(seed, damage, lose, repeat)
        (ended,) = [h for _, h in events if isinstance(h, BuildEnded)]
        if ended.outcome is Outcome.COMPLETED:
            self.assertEqual(machine.file, COMMANDS)
            self.assertEqual(ended.acknowledged, len(COMMANDS))
        else:
            self.assertTrue(ended.reason)
            self.assertEqual(machine.file, COMMANDS[: len(machine.file)])

    def test_on_a_clean_wire_with_pauses_every_build_completes(self) -> None:
        for seed in range(25):
            machine, events = minded(seed, 0.0, 0.0, 0.0)
            (ended,) = [h for _, h in events if isinstance(h, BuildEnded)]
            self.assertIs(ended.outcome, Outcome.COMPLETED, f"seed {seed}")
            self.assertEqual(machine.file, COMMANDS, f"seed {seed}")

    def test_what_happened_makes_a_whole_ledger_and_a_sound_story(self) -> None:
        for seed in range(25):
            _, events = minded(seed, 0.02, 0.02, 0.02)
            ledger = append([], NINE, MachineState.IDLE)
            for at, h in events:
                if isinstance(h, StateChanged):
                    ledger = append(ledger, at, h.state, h.build)
            self.assertEqual(faults(ledger), [])
            story = [h for _, h in events if isinstance(h, BuildBegan | BuildPaused | BuildResumed | BuildEnded)]
            self.assertIsInstance(story[0], BuildBegan)
            self.assertIsInstance(story[-1], BuildEnded)
            for before, after in zip(story[1:-1:2], story[2:-1:2], strict=False):
                self.assertIsInstance(before, BuildPaused)
                self.assertIsInstance(after, BuildResumed)
            times = [at for at, _ in events]
            self.assertEqual(times, sorted(times))
