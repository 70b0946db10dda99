"""A machine that runs files itself, minded by messages: the file goes over once and whole, orders are done once, and
what the machine reports becomes the same states as a fed machine has."""

from __future__ import annotations

import hashlib
import random
import unittest
from datetime import UTC, datetime, timedelta
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.control import actions as h
from chronarch.core.control.controlled_machine import BuildSpec, Instant
from chronarch.core.control.events import (
    Adjusted,
    BuildBegan,
    BuildEnded,
    BuildPaused,
    BuildResumed,
    ControlEvent,
    Levelled,
)
from chronarch.core.control.line_protocol import CommandSequence
from chronarch.core.control.stored_file_controller import StoredFileController, StoredFilePhase
from chronarch.core.control.stored_file_messages import PIECE, StoredFileMessage
from chronarch.core.gcode.analysis import analyse
from chronarch.core.machines.states import MachineState, Outcome, WrongState
from tests.support.bench import MODEL, TEXT

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
DATA = TEXT.encode() + b"; padding\n" * 120_000
SHA = hashlib.sha256(DATA).hexdigest()
PLAN = analyse(TEXT.encode(), MODEL).plan


class Content(CommandSequence):
    """A file's bytes, piece by piece."""

    def __init__(self) -> None:
        super().__init__(())

    @property
    def size(self) -> int:
        return len(DATA)

    def piece(self, offset: int, length: int) -> bytes:
        return DATA[offset : offset + length]


class StoringMachine:
    """What the protocol's page says a machine does, in a few lines; `lose` is the share of messages that get lost."""

    def __init__(self, lose: float = 0.0, seed: int = 1) -> None:
        self.lot, self.lose = random.Random(seed), lose
        self.store: dict[str, bytearray] = {}
        self.damage = 0
        self.run: int | None = None
        self.state, self.ended, self.taken, self.reason = "resting", None, 0, ""
        self.orders: list[dict[str, Any]] = []
        self.done: dict[str, dict[str, Any]] = {}
        self.runs = 0
        self.received = 0
        self.heat = {"nozzle": [25.0, 0.0], "bed": [25.0, 0.0]}

    def take(self, message: StoredFileMessage) -> list[tuple[str, dict[str, Any]]]:
        if self.lot.random() < self.lose:
            return []
        said = list(self._take(message))
        return [] if self.lot.random() < self.lose else said

    def _take(self, m: StoredFileMessage) -> list[tuple[str, dict[str, Any]]]:
        if m.topic == "piece":
            have = self.store.setdefault(m.sha256, bytearray())
            if m.offset != len(have):
                return []
            self.received += len(m.piece)
            have += m.piece
            if self.damage:
                self.damage -= 1
                have[-1] ^= 1
            damaged = len(have) >= len(DATA) and hashlib.sha256(have).hexdigest() != SHA
            if damaged:
                have.clear()
            return [("store", self._store(m.sha256, damaged=damaged))]
        body = m.body or {}
        if body["do"] == "offer":
            self.store.setdefault(body["sha256"], bytearray())
            return [("store", self._store(body["sha256"], offered=True))]
        if body["id"] not in self.done:
            self.orders.append(body)
            self.done[body["id"]] = {"id": body["id"], "problem": self._obey(body), "said": self._said(body)}
        return [("answer", self.done[body["id"]])]

    def _said(self, body: dict[str, Any]) -> list[str]:
        return ["0 +0.1 +0.2", "1 +0.3 +0.4"] if body.get("lines") == ["M420 V"] else []

    def _obey(self, body: dict[str, Any]) -> str:
        match body["do"]:
            case "run":
                if hashlib.sha256(self.store.get(body["sha256"], b"")).hexdigest() != body["sha256"]:
                    return "the file is not here whole"
                self.runs += 1
                self.run, self.state, self.taken = body["run"], "running", 0
            case "pause":
                self.state = "paused"
            case "resume":
                self.state = "running"
            case "stop":
                self.state, self.ended = "ended", "stopped"
        return ""

    def _store(self, sha256: str, **more: bool) -> dict[str, Any]:
        have = self.store[sha256]
        return {"sha256": sha256, "bytes": len(have), "whole": hashlib.sha256(have).hexdigest() == sha256, **more}

    def report(self) -> dict[str, Any]:
        return {"run": self.run, "state": self.state, "ended": self.ended, "taken": self.taken, "reason": self.reason,
                "heat": self.heat}  # fmt: skip


class Bench:
    def __init__(self, lose: float = 0.0, seed: int = 1) -> None:
        self.machine = StoringMachine(lose, seed)
        self.controller = StoredFileController(MODEL)
        self.real_s = 0.0
        self.told: list[ControlEvent] = []

    def now(self) -> Instant:
        return Instant(self.real_s, NINE + timedelta(seconds=self.real_s))

    def run(self, steps: int = 50) -> None:
        for _ in range(steps):
            self.real_s += 0.2
            for message in self.controller.outgoing():
                for topic, body in self.machine.take(message):
                    self.controller.heard(topic, body, self.now())
            self.controller.heard("report", self.machine.report(), self.now())
            self.controller.tick(self.now())
            self.told += [what for _, what in self.controller.machine.take_events()]

    def connect(self) -> None:
        self.controller.connected(self.now())
        self.controller.heard("presence", {"here": True}, self.now())
        self.run(5)
        while not self.controller.ready and self.controller.phase is StoredFilePhase.RESTING:
            self.run(5)

    def begin(self) -> None:
        self.connect()
        self.controller.begin(BuildSpec(7, PLAN, Content(), sha256=SHA), self.now())

    def of(self, kind: type) -> list[Any]:
        return [what for what in self.told if isinstance(what, kind)]


class Stored(unittest.TestCase):
    def setUp(self) -> None:
        self.bench = Bench()

    def test_a_build_goes_over_whole_runs_once_and_has_the_same_states_as_a_fed_one(self) -> None:
        b = self.bench
        b.begin()
        self.assertEqual(b.of(BuildBegan), [])
        b.run()
        self.assertEqual((b.machine.runs, b.machine.received), (1, len(DATA)))
        b.machine.taken = PLAN.layers[0] + 2
        b.run(3)
        self.assertIs(b.controller.machine.state, MachineState.BUILDING)
        b.machine.taken, b.machine.state, b.machine.ended = PLAN.commands, "ended", "completed"
        b.run(3)
        (ended,) = b.of(BuildEnded)
        self.assertEqual((ended.outcome, ended.acknowledged), (Outcome.COMPLETED, PLAN.commands))
        b.run(3)
        self.assertIs(b.controller.machine.state, MachineState.UNCLEARED)

    @settings(max_examples=40)
    @given(st.integers(0, 10**6), st.floats(0, 0.4))
    def test_whatever_gets_lost_the_file_arrives_whole_and_is_run_once(self, seed: int, lose: float) -> None:
        b = Bench(lose, seed)
        b.begin()
        for _ in range(40):
            b.run(50)
            if b.controller.phase is StoredFilePhase.RUNNING:
                break
        self.assertIs(b.controller.phase, StoredFilePhase.RUNNING)
        self.assertEqual(b.machine.runs, 1)
        self.assertEqual(bytes(b.machine.store[SHA]), DATA)

    def test_after_a_cut_only_what_is_missing_is_sent(self) -> None:
        b = self.bench
        b.begin()
        b.run(2)
        have = len(b.machine.store[SHA])
        self.assertTrue(0 < have < len(DATA))
        b.controller.disconnected(b.now())
        b.connect()
        b.run()
        self.assertEqual(b.machine.received, len(DATA))

    def test_a_file_that_arrives_damaged_is_sent_again_and_given_up_after_three_times(self) -> None:
        self.bench.machine.damage = 1
        self.bench.begin()
        self.bench.run(80)
        self.assertEqual(self.bench.machine.runs, 1)
        b = Bench()
        b.machine.damage = 1000
        b.begin()
        b.run(200)
        (ended,) = b.of(BuildEnded)
        self.assertEqual((ended.outcome, b.machine.runs), (Outcome.FAILED, 0))
        self.assertIn("arrived damaged 3 times", ended.reason)

    def test_pause_resume_adjust_and_stop_are_told_as_they_happen(self) -> None:
        b = self.bench
        b.begin()
        with self.assertRaisesRegex(WrongState, "still on its way"):
            b.controller.pause("too soon", b.now())
        b.run()
        b.machine.taken = PLAN.layers[0] + 2
        b.run(2)
        b.controller.pause("look", b.now())
        b.run(3)
        self.assertEqual(b.of(BuildPaused), [BuildPaused(7, "look", False)])
        injected = b.controller.act(h.Adjust(speed_pct=80), b.now(), "Maud")
        b.run(2)
        self.assertTrue(injected.done)
        self.assertEqual(b.of(Adjusted), [Adjusted(7, "speed 80 %", "Maud")])
        b.controller.ask_hands("Paused: look", b.now())
        b.run(2)
        b.controller.resume(b.now())
        b.run(3)
        self.assertEqual(b.of(BuildResumed), [BuildResumed(7)])
        self.assertEqual([order["lines"] for order in b.machine.orders[-3:-1]], [["M117 Paused: look"], ["M117"]])
        b.controller.stop("enough", b.now())
        b.run(3)
        self.assertEqual([(e.outcome, e.reason) for e in b.of(BuildEnded)], [(Outcome.STOPPED, "enough")])
        self.assertEqual(b.machine.orders[-1]["lines"], ["M220 S100"], "the next build begins at its own speed")

    def test_a_pause_of_the_machines_own_waits_for_hands(self) -> None:
        b = self.bench
        b.begin()
        b.run()
        b.machine.state, b.machine.reason = "paused", "filament ran out"
        b.run(2)
        self.assertEqual(b.of(BuildPaused), [BuildPaused(7, "filament ran out", True)])

    def test_a_pause_before_a_layer_comes_once_that_is_reached(self) -> None:
        b = self.bench
        b.begin()
        b.run()
        b.machine.taken = PLAN.layers[0] + 2
        b.run(2)
        b.controller.pause_before(2, b.now())
        b.machine.taken = PLAN.layers[1] + 1
        b.run(3)
        self.assertEqual([p.reason for p in b.of(BuildPaused)], ["asked for before layer 2"])

    def test_a_machine_that_forgot_its_run_has_restarted(self) -> None:
        b = self.bench
        b.begin()
        b.run()
        b.machine.run, b.machine.state = None, "resting"
        b.run(2)
        (ended,) = b.of(BuildEnded)
        self.assertIn("restarted itself", ended.reason)

    def test_an_emergency_stop_goes_before_everything(self) -> None:
        b = self.bench
        b.begin()
        b.controller.outgoing()
        b.run(1)
        b.controller.emergency(b.now())
        first = b.controller.outgoing()[0]
        self.assertEqual((first.body or {})["do"], "halt")
        self.assertIs(b.controller.machine.state, MachineState.DOWN)

    def test_a_new_tender_follows_the_run_that_is_under_way(self) -> None:
        b = self.bench
        b.begin()
        b.run()
        b.machine.taken = 30
        b.run(2)
        kept = b.controller.kept()
        assert kept is not None
        b.controller = StoredFileController(MODEL, prefix="second")
        b.controller.adopt(BuildSpec(7, PLAN, Content(), sha256=SHA), kept, b.now())
        b.connect()
        b.machine.taken = 40
        b.run(3)
        self.assertEqual(
            (b.controller.machine.progress and b.controller.machine.progress.acknowledged, b.machine.runs), (40, 1)
        )
        b.machine.state, b.machine.ended = "ended", "completed"
        b.run(3)
        self.assertEqual([e.outcome for e in b.of(BuildEnded)], [Outcome.COMPLETED])

    def test_a_tender_that_died_while_sending_sends_on(self) -> None:
        b = self.bench
        b.begin()
        b.run(2)
        kept = b.controller.kept()
        assert kept is not None
        b.controller = StoredFileController(MODEL, prefix="second")
        b.controller.adopt(BuildSpec(7, PLAN, Content(), sha256=SHA), kept, b.now())
        b.connect()
        b.run()
        self.assertEqual(b.machine.runs, 1)
        self.assertLessEqual(b.machine.received, len(DATA) + 8 * PIECE)

    def test_what_the_machine_prints_is_read(self) -> None:
        b = self.bench
        b.connect()
        b.controller.act(h.MeasureBed(), b.now())
        b.run(2)
        self.assertEqual(b.of(Levelled), [Levelled(((0.1, 0.2), (0.3, 0.4)))])

    def test_messages_that_are_not_understood_change_nothing(self) -> None:
        b = self.bench
        b.begin()
        b.run()
        before = b.controller.machine.heat
        for heat in ({"nozzle": ["hot", 0]}, {"chamber": [[], 0]}, {"room": 7}, {"room": [1]}, {"room": ["x", 1]}):
            b.controller.heard("report", {**b.machine.report(), "heat": heat}, b.now())
            self.assertEqual(b.controller.machine.heat, before)
        for topic, body in (
            ("report", {}),
            ("store", {"bytes": "many"}),
            ("answer", {}),
            ("presence", {}),
            ("song", {}),
        ):
            b.controller.heard(topic, body, b.now())
        self.assertIs(b.controller.phase, StoredFilePhase.RUNNING)

    def test_what_else_it_measures_is_kept_by_its_name(self) -> None:
        b = self.bench
        more = {"board": [41, None], "\ud800": [1, 2], "a\nb": [1, 2], "": [1, 2], "o" * 50: [5, 6]}
        b.machine.heat = {**b.machine.heat, **more, **{f"s{n}": [n, 0] for n in range(30)}}
        b.run(2)
        further = b.controller.machine.heat.further
        self.assertEqual(further[:3], (("board", 41, None), ("o" * 20, 5, 6), ("s0", 0, 0)))
        self.assertEqual(len(further), 12)


if __name__ == "__main__":
    unittest.main()
