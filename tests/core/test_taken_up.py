"""A tender is killed at any moment of a build, and a new one goes on with what was kept: the machine runs the file's
commands once and in order, whatever was being done just then."""

from __future__ import annotations

import random
import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import TypeAdapter

from chronarch.core import hands as h
from chronarch.core.fleet import MachineModel
from chronarch.core.happenings import BuildEnded, Happening
from chronarch.core.kept import Kept
from chronarch.core.line_link import OWN_BASE, Steps
from chronarch.core.mind import Errand, Moment
from chronarch.core.states import MachineState, Outcome, WrongState
from chronarch.core.steward import Phase, Steward
from tests.core.test_steward_on_a_bad_wire import COMMANDS, PLAN, CountingMachine

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
KEPT = TypeAdapter(Kept)
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
        self.happened: list[Happening] = []
        self.steward = Steward(self.model)
        self.errand = Errand(7, PLAN, Steps(tuple(COMMANDS)), sha256="x")

    def now(self) -> Moment:
        return Moment(self.real_s, NINE + timedelta(seconds=self.real_s))

    def keep(self) -> None:
        kept = self.steward.kept()
        self.disk = KEPT.dump_json(kept) if kept else None

    def step(self) -> None:
        if self.steward.changed() or self.lot.random() < 1 / LATEST:
            self.keep()
        data = self.steward.outgoing()
        if data:
            self.real_s += 0.002
            answer = self.machine.take(data)
            if self.lot.random() < self.kills:
                self.kill()
                return
            self.steward.receive(answer, self.now())
        else:
            self.real_s += 0.1
            self.steward.tick(self.now())
        self.happened += [what for _, what in self.steward.happened()]

    def kill(self) -> None:
        """The tender dies; what it had not kept is gone, and so is what the machine just answered."""
        self.killed += 1
        if self.disk is None:
            return
        self.steward = Steward(self.model)
        self.steward.adopt(self.errand, KEPT.validate_json(self.disk), self.now())
        self.steward.connected(self.now())

    def meddle(self) -> None:
        luck = self.lot.random()
        try:
            if luck < 0.01:
                self.steward.pause("by lot", self.now())
            elif luck < 0.05:
                self.steward.resume(self.now())
            elif luck < 0.06:
                self.steward.act(h.Adjust(fan_pct=self.lot.randrange(100)), self.now())
        except (WrongState, h.NotPossible):
            pass

    def run(self) -> BuildEnded:
        self.steward.connected(self.now())
        while not self.steward.ready:
            self.step()
        self.steward.begin(self.errand, self.now())
        for _ in range(60_000):
            self.meddle()
            self.step()
            ended = [what for what in self.happened if isinstance(what, BuildEnded)]
            if ended and self.steward.phase is Phase.RESTING:
                return ended[0]
        raise AssertionError(f"no end: {self.steward.phase}, {self.steward.link.state}, {self.steward.reason}")


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

    def adopted(self, last: int, kept: Kept) -> Shop:
        """A tender that finds `kept` at a machine whose last line was `last`."""
        shop = Shop(1, 0.0, 0, 0.0)
        shop.machine.last = last
        shop.steward.adopt(shop.errand, kept, shop.now())
        shop.steward.connected(shop.now())
        for _ in range(200):
            shop.step()
        return shop

    def test_a_machine_that_was_switched_off_meanwhile_fails_the_build(self) -> None:
        shop = self.adopted(0, Kept(7, "feeding", "building", "x", at=12))
        (ended,) = [what for what in shop.happened if isinstance(what, BuildEnded)]
        self.assertEqual(ended.outcome, Outcome.FAILED)
        self.assertIn("restarted itself", ended.reason)

    def test_a_line_that_cannot_be_this_builds_pauses_it_and_asks(self) -> None:
        for last in (5, 99_999):
            shop = self.adopted(last, Kept(7, "feeding", "building", "x", at=12))
            self.assertIs(shop.steward.state, MachineState.PAUSED)
            self.assertIn(f"wants line {last + 1}, which is not this build's", shop.steward.reason)
            self.assertEqual(shop.machine.file, [])

    def test_with_nothing_kept_the_machines_own_count_is_gone_by_if_it_is_the_files(self) -> None:
        shop = self.adopted(20, Kept(7, "feeding", "building", "x", at=-1))
        self.assertEqual(shop.machine.file, COMMANDS[20:])
        shop = self.adopted(OWN_BASE + 3, Kept(7, "feeding", "building", "x", at=-1))
        self.assertIs(shop.steward.state, MachineState.PAUSED)


if __name__ == "__main__":
    unittest.main()
