"""What hands must do, and in which order."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.rounds.short_words import short_words
from chronarch.core.rounds.tasks import MachineOnRound, NextBuild, TaskKind, batches, tasks, walk, walk_key

NOW = datetime(2026, 10, 19, 10, tzinfo=UTC)


def stand(name: str, state: MachineState, minutes: float = 0, **more: object) -> MachineOnRound:
    return MachineOnRound(name, state, NOW - timedelta(minutes=minutes), **more)  # type: ignore[arg-type]


NEXT = NextBuild("bobbin", NOW)


class ShortWords(unittest.TestCase):
    def words(self, chars: int, *stands: MachineOnRound) -> str:
        return short_words(tasks(stands, NOW), chars)

    def test_a_display_says_what_is_first_and_what_then_as_far_as_it_can(self) -> None:
        change = NextBuild("bobbin", NOW, load="white Gru\u00dfe-PLA \u2013 matt", nozzle="a 0.4 mm nozzle")
        uncleared = stand("a", MachineState.UNCLEARED, build=1, what="clip", outcome="completed", next=change)
        for chars, words in (
            (80, "Lift off the part, then load white Grusse-PLA - matt"), (40, "Lift off the part, then change spool"),
            (20, "Lift off the part"), (10, "Lift off"), (5, "Lift "), (0, ""),
        ):  # fmt: skip
            self.assertEqual(self.words(chars, uncleared), words)
        load = stand("a", MachineState.IDLE, next=replace(change, nozzle=""))
        self.assertEqual(self.words(40, load), "Load white Grusse-PLA - matt")
        self.assertEqual(self.words(20, load), "Change spool")

    def test_what_stands_says_why_and_what_runs_or_is_down_says_nothing(self) -> None:
        paused = stand("d", MachineState.PAUSED, build=4, what="hopper", reason="filament ran out")
        self.assertEqual(self.words(40, paused), "Paused: filament ran out")
        self.assertEqual(self.words(20, paused), "Paused: have a look")
        self.assertEqual(self.words(20, stand("e", MachineState.DOWN, reason="fan 0 stalled")), "")
        self.assertEqual(self.words(20, stand("c", MachineState.BUILDING, build=4, unjudged=(7,))), "")


class Rounds(unittest.TestCase):
    def test_what_costs_most_comes_first_and_what_costs_nothing_last(self) -> None:
        found = tasks(
            [
                stand("a", MachineState.UNCLEARED, 5, build=1, what="clip", next=NEXT),
                stand("b", MachineState.UNCLEARED, 40, build=2, what="tip", next=NEXT),
                stand("c", MachineState.UNCLEARED, 90, build=3, what="shim"),
                stand("d", MachineState.PAUSED, 2, build=4, what="hopper", reason="filament ran out"),
                stand("e", MachineState.DOWN, 60, reason="fan 0 stalled"),
            ],
            NOW,
        )
        self.assertEqual([t.machine for t in found], ["e", "b", "a", "d", "c"])
        self.assertEqual([round(t.lost_min) for t in found], [60, 40, 5, 2, 0])
        self.assertIsNone(found[-1].free_until, "nothing waits for it")
        self.assertIn("filament ran out", found[3].text)

    def test_waiting_is_free_until_what_comes_next_may_begin(self) -> None:
        noon = NOW + timedelta(hours=2)
        for next_, free_until, lost in (
            (NextBuild("bobbin", noon, not_before=noon), noon, 0.0),
            (NextBuild("bobbin", NOW + timedelta(minutes=8)), NOW - timedelta(minutes=30), 30.0),
        ):
            (task,) = tasks([stand("a", MachineState.UNCLEARED, 30, build=1, what="clip", next=next_)], NOW)
            self.assertEqual((task.free_until, task.lost_min), (free_until, lost))

    def test_loading_nozzles_starting_and_judging_are_tasks(self) -> None:
        change = NextBuild("bobbin", NOW, "teal PLA", "a 0.4 mm nozzle")
        found = tasks(
            [
                stand("a", MachineState.IDLE, next=change),
                stand("b", MachineState.IDLE, next=NEXT, intake=Intake.MANUAL),
                stand("c", MachineState.BUILDING, unjudged=(7, 8)),
                stand("d", MachineState.UNCLEARED, build=9, what="tip", stuck="the camera still sees it"),
            ],
            NOW,
        )
        kinds = {(t.machine, t.kind) for t in found}
        wanted = {("a", TaskKind.LOAD), ("a", TaskKind.NOZZLE), ("b", TaskKind.START), ("c", TaskKind.JUDGE),
                  ("d", TaskKind.CONFIRM)}  # fmt: skip
        self.assertEqual(kinds, wanted)

    def test_a_machine_that_has_just_been_given_a_build_wants_nothing_for_the_next_one(self) -> None:
        after = NextBuild("bobbin", NOW, load="teal PLA")
        for following in (NEXT, after):
            given = stand("a", MachineState.IDLE, intake=Intake.MANUAL, build=7, what="shim", next=following)
            self.assertEqual(tasks([given], NOW), [])
            free = stand("a", MachineState.IDLE, intake=Intake.MANUAL, next=following)
            self.assertEqual(len(tasks([free], NOW)), 1)

    def test_beds_that_are_ready_soon_make_one_walk(self) -> None:
        soon = [
            stand(f"m{n}", MachineState.BUILDING, site="Yard", ready=NOW + timedelta(minutes=4 * n)) for n in (1, 2, 3)
        ]
        far = stand("far", MachineState.BUILDING, site="Yard", ready=NOW + timedelta(hours=1))
        (batch,) = batches([*soon, far], NOW)
        self.assertEqual(batch.text, "In 12 min 3 more will be ready in Yard (m1, m2, m3): go once.")
        self.assertEqual(batches([soon[0], far], NOW), [])

    def test_a_walk_goes_by_place_as_people_count(self) -> None:
        found = [stand(p, MachineState.DOWN, place=p) for p in ("A10", "B1", "A2")]
        self.assertEqual([t.place for t in walk(tasks(found, NOW))], ["A2", "A10", "B1"])
        self.assertLess(walk_key("A2"), walk_key("A10"))


if __name__ == "__main__":
    unittest.main()
