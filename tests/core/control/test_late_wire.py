"""A wire that is late, by up to five seconds each way and never the same, that loses, doubles and damages lines
besides, while a person pauses, resumes, adjusts, the link is cut, and the tender dies: the file's commands run once and
in order, or the build stops with a reason; and none is called completed that was not exact."""

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
from chronarch.core.control.events import BuildEnded, BuildPaused, ControlEvent, Noticed
from chronarch.core.control.line_protocol import CommandSequence
from chronarch.core.control.streaming_controller import FeedingPhase, StreamingController
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState, Outcome, WrongState
from tests.core.control.test_streaming_on_a_bad_wire import COMMANDS, PLAN, CountingMachine
from tests.support.toy import SlowWire

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
KEPT = TypeAdapter(BuildCheckpoint)
RARELY = 0.01


class Shop:
    """One machine behind a late wire, and one tender after another; `disk` is all that a new one finds."""

    def __init__(
        self, seed: int, late_s: float, trouble: float = 0.0, *, window: int = 0, names: bool = True,
        kills: int = 0, cuts: int = 0, meddle: bool = True, even: bool = False, reports: bool = True,
    ) -> None:  # fmt: skip
        self.lot = random.Random(seed)
        self.machine = CountingMachine(seed, trouble, trouble, trouble)
        self.machine.names = names
        self.machine.reports = reports
        self.wire = SlowWire(self.machine, late_s, even=even)
        self.model = MachineModel("toy", window_bytes=window)
        self.kills, self.cuts, self.meddles = kills, cuts, meddle
        self.pauses = 5
        self.real_s = 0.0
        self.tenders = 0
        self.disk: bytes | None = None
        self.events: list[ControlEvent] = []
        self.controller = self.tender()
        self.spec = BuildSpec(7, PLAN, CommandSequence(tuple(COMMANDS)), sha256="x")

    def tender(self) -> StreamingController:
        self.tenders += 1
        return StreamingController(self.model, fences_from=self.tenders * 37)

    def now(self) -> Instant:
        return Instant(self.real_s, NINE + timedelta(seconds=self.real_s))

    def step(self) -> None:
        """To the next arrival, or a twentieth of a second on."""
        if self.controller.changed() or self.lot.random() < 0.02:
            kept = self.controller.kept()
            self.disk = KEPT.dump_json(kept) if kept else None
        self.real_s = max(self.real_s + 0.001, min(self.wire.next_at(), self.real_s + 0.2))
        arrived = self.wire.pass_on(self.controller.outgoing(), self.real_s)
        if arrived:
            self.controller.receive(arrived, self.now())
        self.controller.tick(self.now())
        self.events += [what for _, what in self.controller.machine.take_events()]
        cut = self.cuts > 0 and self.lot.random() < RARELY
        if self.controller.wants_reconnect or cut:
            self.cuts -= cut
            self.controller.wants_reconnect = False
            self.controller.disconnected(self.now())
            if self.lot.random() < 0.5:
                self.wire.forget()  # what was on its way is gone; else it comes yet, as from a port's buffer
            self.controller.connected(self.now())
        if self.kills and self.lot.random() < RARELY and self.disk is not None:
            self.kills -= 1
            self.controller = self.tender()
            self.controller.adopt(self.spec, KEPT.validate_json(self.disk), self.now())
            self.controller.connected(self.now())

    def meddle(self) -> None:
        luck = self.lot.random()
        try:
            if luck < 0.004 and self.pauses:
                self.controller.pause("by lot", self.now())
                self.pauses -= 1
            elif luck < 0.03:
                self.controller.resume(self.now())
            elif luck < 0.031:
                self.controller.act(h.Adjust(fan_pct=self.lot.randrange(100)), self.now())
        except (WrongState, h.NotPossible):
            pass

    def start(self) -> None:
        self.controller.connected(self.now())
        while not self.controller.ready:
            self.step()
        self.controller.begin(self.spec, self.now())

    def run(self, most: int = 40_000) -> BuildEnded | None:
        """The build's end; None when it stands paused and only a person can tell where it is."""
        self.start()
        for _ in range(most):
            if self.meddles:
                self.meddle()
            self.step()
            ended = [what for what in self.events if isinstance(what, BuildEnded)]
            if ended and self.controller.phase is FeedingPhase.RESTING:
                return ended[0]
            if self.controller.machine.state is MachineState.PAUSED and self.controller.machine.reason.endswith(
                "stop the build"
            ):
                return None
        raise AssertionError(
            f"no end: {self.controller.phase}, {self.controller.link.state}, {self.controller.machine.reason}"
        )


class LateWire(unittest.TestCase):
    def exact(self, shop: Shop, ended: BuildEnded | None) -> None:
        if ended is not None and ended.outcome is Outcome.COMPLETED:
            self.assertEqual(shop.machine.file, COMMANDS)
            self.assertEqual(ended.acknowledged, len(COMMANDS))
        else:
            self.assertTrue(ended is None or ended.reason)
            self.assertEqual(shop.machine.file, COMMANDS[: len(shop.machine.file)])

    @settings(max_examples=60)
    @given(
        seed=st.integers(0, 10**6),
        late_s=st.sampled_from([0.0, 0.4, 2.0, 5.0]),
        trouble=st.sampled_from([0.0, 0.01, 0.05]),
        window=st.sampled_from([0, 100]),
        names=st.booleans(),
        kills=st.integers(0, 3),
        cuts=st.integers(0, 3),
    )
    def test_whatever_comes_late_no_command_runs_twice_and_none_is_left_out(
        self, seed: int, late_s: float, trouble: float, window: int, names: bool, kills: int, cuts: int
    ) -> None:
        shop = Shop(seed, late_s, trouble, window=window, names=names, kills=kills, cuts=cuts)
        self.exact(shop, shop.run())

    def test_a_wire_that_is_only_late_completes_every_build_and_sets_its_count_once(self) -> None:
        for seed in range(20):
            shop = Shop(seed, (0.4, 2.0, 5.0)[seed % 3], window=100 * (seed % 2), names=seed % 4 != 3)
            ended = shop.run()
            assert ended is not None
            self.assertEqual((ended.outcome, ended.reason), (Outcome.COMPLETED, ""), f"seed {seed}")
            self.assertEqual(shop.machine.file, COMMANDS, f"seed {seed}")
            self.assertEqual(shop.machine.set_back, 0, f"seed {seed}: the count is never set to what has run")

    def test_at_a_round_trip_of_one_second_one_line_goes_a_round_trip_queries_for_heat_included(self) -> None:
        shop = Shop(1, 0.5, even=True, meddle=False, reports=False)
        shop.start()
        began = shop.real_s
        while len(shop.machine.file) < len(COMMANDS):
            shop.step()
        took = shop.real_s - began
        self.assertGreater(shop.machine.asked_heat, 0, "it is asked for its heat")
        self.assertLess(took, 1.5 * len(COMMANDS), "nearly all turns are the file's")
        while not any(isinstance(what, BuildEnded) for what in shop.events):
            shop.step()
        slow = [what for what in shop.events if isinstance(what, Noticed) and "the wire takes" in what.text]
        self.assertEqual(len(slow), 1, "a wire so slow is a notice, once")

    def test_at_a_round_trip_of_two_seconds_and_more_it_still_goes_on(self) -> None:
        for late_s in (1.0, 2.0, 5.0):
            shop = Shop(2, late_s, even=True, meddle=False)
            ended = shop.run()
            assert ended is not None
            self.assertIs(ended.outcome, Outcome.COMPLETED)
            self.assertEqual(shop.machine.file, COMMANDS)

    def test_a_machine_that_says_nothing_of_its_place_is_paused_and_asked_again_by_a_resume(self) -> None:
        shop = Shop(3, 0.0, meddle=False)
        shop.start()
        while len(shop.machine.file) < 10:
            shop.step()
        shop.machine.dumb = True
        while not any(isinstance(what, BuildPaused) for what in shop.events):
            shop.step()
        self.assertIn("does not say", shop.controller.machine.reason)
        shop.machine.dumb = False
        shop.controller.resume(shop.now())
        while not any(isinstance(what, BuildEnded) for what in shop.events):
            shop.step()
        self.assertEqual(shop.machine.file, COMMANDS)

    def test_a_silent_restart_is_seen_at_any_line_and_nothing_is_fed_again(self) -> None:
        for at in range(1, len(COMMANDS) - 1):
            shop = Shop(4, 0.0, meddle=False)
            shop.start()
            while len(shop.machine.file) < at:
                shop.step()
            shop.machine.last = 0
            ran = len(shop.machine.file)
            while not any(isinstance(what, BuildEnded) for what in shop.events):
                shop.step()
            (ended,) = [what for what in shop.events if isinstance(what, BuildEnded)]
            self.assertEqual(ended.outcome, Outcome.FAILED, f"at line {at}")
            self.assertIn("restarted itself", ended.reason)
            self.assertEqual(len(shop.machine.file), ran, f"nothing is fed again after line {at}")


if __name__ == "__main__":
    unittest.main()
