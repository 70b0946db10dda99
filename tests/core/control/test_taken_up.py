"""A tender is killed at any moment of a build, and a new one goes on with what was kept: the machine runs the file's
commands once and in order, whatever was being done just then."""

from __future__ import annotations

import random
import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import TypeAdapter

from chronarch.core.control import actions as h
from chronarch.core.control.checkpoint import BuildCheckpoint
from chronarch.core.control.controlled_machine import BuildSpec, Instant
from chronarch.core.control.events import BuildEnded, ControlEvent
from chronarch.core.control.line_protocol import FIRST_OWN_LINE_NUMBER, CommandSequence
from chronarch.core.control.streaming_controller import FeedingPhase, StreamingController
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState, Outcome, WrongState
from tests.core.control.test_streaming_on_a_bad_wire import COMMANDS, PLAN, CountingMachine

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
KEPT = TypeAdapter(BuildCheckpoint)
LATEST = 40
"""The count on the disk may be so many steps old; only what is kept at a change is always there."""


class Shop:
    """One machine, and one tender after another that minds it; `disk` is all that a new one finds."""

    def __init__(self, seed: int, trouble: float, window: int, kills: float) -> None:
        self.lot = random.Random(seed)
        self.machine = CountingMachine(seed, trouble, trouble, 0.0)
        self.model = MachineModel("toy", window_bytes=window)
        self.kills, self.killed = kills, 0
        self.real_s = 0.0
        self.disk: bytes | None = None
        self.events: list[ControlEvent] = []
        self.controller = StreamingController(self.model)
        self.spec = BuildSpec(7, PLAN, CommandSequence(tuple(COMMANDS)), sha256="x")

    def now(self) -> Instant:
        return Instant(self.real_s, NINE + timedelta(seconds=self.real_s))

    def keep(self) -> None:
        kept = self.controller.kept()
        self.disk = KEPT.dump_json(kept) if kept else None

    def step(self) -> None:
        if self.controller.changed() or self.lot.random() < 1 / LATEST:
            self.keep()
        data = self.controller.outgoing()
        if data:
            self.real_s += 0.002
            answer = self.machine.take(data)
            if self.lot.random() < self.kills:
                self.kill()
                return
            self.controller.receive(answer, self.now())
        else:
            self.real_s += 0.1
            self.controller.tick(self.now())
        self.events += [what for _, what in self.controller.machine.take_events()]

    def kill(self) -> None:
        """The tender dies; what it had not kept is gone, and so is what the machine just answered."""
        self.killed += 1
        if self.disk is None:
            return
        self.controller = StreamingController(self.model)
        self.controller.adopt(self.spec, KEPT.validate_json(self.disk), self.now())
        self.controller.connected(self.now())

    def meddle(self) -> None:
        luck = self.lot.random()
        try:
            if luck < 0.01:
                self.controller.pause("by lot", self.now())
            elif luck < 0.05:
                self.controller.resume(self.now())
            elif luck < 0.06:
                self.controller.act(h.Adjust(fan_pct=self.lot.randrange(100)), self.now())
        except (WrongState, h.NotPossible):
            pass

    def run(self) -> BuildEnded:
        self.controller.connected(self.now())
        for _ in range(60_000):
            if self.controller.ready:
                break
            self.step()
        self.controller.begin(self.spec, self.now())
        for _ in range(60_000):
            self.meddle()
            self.step()
            ended = [what for what in self.events if isinstance(what, BuildEnded)]
            if ended and self.controller.phase is FeedingPhase.RESTING:
                return ended[0]
        raise AssertionError(
            f"no end: {self.controller.phase}, {self.controller.link.state}, {self.controller.machine.reason}"
        )


class TakenUp(unittest.TestCase):
    @settings(max_examples=120)
    @given(st.integers(0, 10**6), st.sampled_from([0.0, 0.0, 0.02]), st.sampled_from([0, 100]))
    def test_a_build_outlives_its_tenders(self, seed: int, trouble: float, window: int) -> None:
        shop = Shop(seed, trouble, window, kills=0.03)
        ended = shop.run()
        if ended.outcome is Outcome.COMPLETED:
            self.assertEqual(shop.machine.file, COMMANDS)
        else:
            self.assertTrue(ended.reason)
            self.assertEqual(shop.machine.file, COMMANDS[: len(shop.machine.file)])

    def test_on_a_sound_wire_every_build_is_completed_however_often_its_tender_dies(self) -> None:
        killed = 0
        for seed in range(40):
            shop = Shop(seed, 0.0, 100 * (seed % 2), kills=0.05)
            ended = shop.run()
            self.assertEqual((ended.outcome, ended.reason), (Outcome.COMPLETED, ""), f"seed {seed}")
            self.assertEqual(shop.machine.file, COMMANDS, f"seed {seed}")
            killed += shop.killed
        self.assertGreater(killed, 100)

    def test_a_machine_whose_model_changes_before_it_is_found_is_greeted_all_the_same(self) -> None:
        shop = Shop(1, 0.0, 0, kills=0.0)
        shop.controller.take_model(MachineModel("toy", watchdog_s=900))
        ended = shop.run()
        self.assertIs(ended.outcome, Outcome.COMPLETED)
        self.assertIn(b"M115", shop.machine.ran)
        self.assertIn(b"M85 S900", shop.machine.ran)

    def adopted(self, last: int, kept: BuildCheckpoint) -> Shop:
        """A tender that finds `kept` at a machine whose last line was `last`."""
        shop = Shop(1, 0.0, 0, 0.0)
        shop.machine.last = last
        shop.controller.adopt(shop.spec, kept, shop.now())
        shop.controller.connected(shop.now())
        for _ in range(200):
            shop.step()
        return shop

    def test_a_machine_that_was_switched_off_meanwhile_fails_the_build(self) -> None:
        shop = self.adopted(0, BuildCheckpoint(7, "feeding", "building", "x", at=12))
        (ended,) = [what for what in shop.events if isinstance(what, BuildEnded)]
        self.assertEqual(ended.outcome, Outcome.FAILED)
        self.assertIn("restarted itself", ended.reason)

    def test_a_line_that_cannot_be_this_builds_pauses_it_and_asks(self) -> None:
        for last in (5, 99_999):
            shop = self.adopted(last, BuildCheckpoint(7, "feeding", "building", "x", at=12))
            self.assertIs(shop.controller.machine.state, MachineState.PAUSED)
            self.assertIn(f"wants line {last + 1}, which is not this build's", shop.controller.machine.reason)
            self.assertEqual(shop.machine.file, [])

    def test_with_nothing_kept_the_machines_own_count_is_gone_by_if_it_is_the_files(self) -> None:
        shop = self.adopted(20, BuildCheckpoint(7, "feeding", "building", "x", at=-1))
        self.assertEqual(shop.machine.file, COMMANDS[20:])
        shop = self.adopted(FIRST_OWN_LINE_NUMBER + 3, BuildCheckpoint(7, "feeding", "building", "x", at=-1))
        self.assertIs(shop.controller.machine.state, MachineState.PAUSED)


if __name__ == "__main__":
    unittest.main()
