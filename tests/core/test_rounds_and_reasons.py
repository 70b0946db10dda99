"""Rounds, why jobs wait and machines stand idle, tags, and whether a bed is clear."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

import numpy as np

from chronarch.core.clear_bed import difference, is_clear
from chronarch.core.copies import Copies
from chronarch.core.fleet import Capability, MachineModel, Requirement, Tool
from chronarch.core.matching import Need, Standing, blocker, why_waiting
from chronarch.core.reasons import blocked, smallest_change, why_idle, why_not
from chronarch.core.rounds import Next, Stand, TaskKind, batches, tasks, walk, walk_key
from chronarch.core.states import Intake, MachineState
from chronarch.core.tags import BadTags, parse_tags

NOW = datetime(2026, 10, 19, 10, tzinfo=UTC)


def at(name: str = "Verge", state: MachineState = MachineState.IDLE, intake: Intake = Intake.OPEN, *,
       tool: Tool = Tool(0, 0.4, material="PLA", colour="teal"), pools: tuple[str, ...] = (),
       tags: tuple[str, ...] = (), since: str = "") -> Standing:  # fmt: skip
    capability = Capability(name, MachineModel("Lantern 220"), (tool,), pools, tags)
    return Standing(capability, state, intake, since=since)


def needs(**r: object) -> Need:
    return Need(Requirement(**r))  # type: ignore[arg-type]


class WhyItWaits(unittest.TestCase):
    def test_each_requirement_has_its_blocker_in_words(self) -> None:
        cases = [
            (needs(pool="tough"), "takes no work from the pool tough"),
            (needs(tags='"food safe" and not draughty'), "has draughty; the job needs"),
            (needs(volume_mm=(300.0, 300.0, 300.0)), "builds 220 x 220 x 250 mm; the job needs 300 x 300 x 300 mm"),
            (needs(nozzle_mm=0.6), "has a 0.4 mm nozzle; the job needs 0.6 mm"),
            (Need(Requirement(), grams=55.0), "has 40 g of teal PLA left; the build needs 55 g"),
        ]
        machine = at(tool=Tool(0, 0.4, material="PLA", colour="teal", spool=1, grams=40.0), tags=("draughty",))
        for need, words in cases:
            with self.subTest(words=words):
                self.assertIn(words, blocker(need, machine) or "")
        self.assertIsNone(blocker(needs(pool="fine", tags="dry"), at(pools=("Fine",), tags=("dry",))))

    def test_a_bed_that_waits_says_since_when(self) -> None:
        text = blocker(needs(), at(state=MachineState.UNCLEARED, since="14:20"))
        self.assertEqual(text, "waits for its bed to be cleared since 14:20")

    def test_the_smallest_change_is_the_one_with_the_least_of_hands(self) -> None:
        fleet = [
            at("Anchor", MachineState.BUILDING),
            at("Verge", tool=Tool(0, 0.6, material="PLA", colour="ochre")),
            at("Bezel", tool=Tool(0, 0.4, material="PLA", colour="ochre")),
        ]
        found = why_not(lambda _: [needs(material="PLA", colour="teal", nozzle_mm=0.4)], fleet)
        self.assertEqual(smallest_change(found), "load teal PLA on Bezel")
        self.assertEqual([b.machine for b in found], ["Bezel", "Verge", "Anchor"])
        self.assertEqual(found[1].change, "put a 0.4 mm nozzle on Verge, then load teal PLA on Verge")
        self.assertEqual(found[2].change, "", "nobody can hurry a build")

    def test_intake_and_service_are_changes_too(self) -> None:
        for machine, words in (
            (at(intake=Intake.MANUAL), "start it on Verge"),
            (at(intake=Intake.CLOSED), "open the intake of Verge"),
            (at(state=MachineState.SERVICE), "put Verge back to work"),
            (at(state=MachineState.UNCLEARED), "clear the bed of Verge"),
        ):
            found = blocked(lambda _: [needs()], machine)
            assert found is not None
            self.assertEqual(found.change, words)

    def test_an_idle_machine_says_why(self) -> None:
        ochre = ("job 7 (ring gauge)", lambda _: [needs(colour="ochre")])
        self.assertEqual(why_idle(at(), []), "Nothing waits.")
        self.assertIn("Nearest is job 7 (ring gauge): it has teal PLA loaded", why_idle(at(), [ochre]))  # type: ignore[list-item]
        self.assertIn("load ochre on Verge", why_idle(at(), [ochre]))  # type: ignore[list-item]
        self.assertIn("intake is closed", why_idle(at(intake=Intake.CLOSED), [ochre]))  # type: ignore[list-item]
        self.assertIn("A person starts", why_idle(at(intake=Intake.MANUAL), [("job 8", lambda _: [needs()])]))

    def test_an_idle_machine_that_takes_something_else_first_is_not_about_to_take_this(self) -> None:
        text = why_waiting(lambda _: [needs()], "", [at()], {"Verge": "takes job 3 first"})
        self.assertEqual(text, "Verge takes job 3 first.")


class Tags(unittest.TestCase):
    def test_and_or_not_and_brackets(self) -> None:
        tags = ("food safe", "wide")
        for text, met in (
            ("wide", True), ("WIDE", True), ('"food safe" and wide', True), ("not wide", False),
            ("not (dry or draughty)", True), ("dry or wide and not draughty", True), ("dry", False),
        ):  # fmt: skip
            with self.subTest(text=text):
                tree = parse_tags(text)
                assert tree is not None
                self.assertIs(tree.met_by(tags), met)
        self.assertIsNone(parse_tags("  "))

    def test_what_cannot_be_read_says_where(self) -> None:
        for text in ("and wide", "wide and", "(wide", "wide )", "wide dry", '"open', "not"):
            with self.subTest(text=text), self.assertRaises(BadTags):
                parse_tags(text)


def stand(name: str, state: MachineState, minutes: float = 0, **more: object) -> Stand:
    return Stand(name, state, NOW - timedelta(minutes=minutes), **more)  # type: ignore[arg-type]


NEXT = Next("bobbin", NOW)


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
            (Next("bobbin", noon, not_before=noon), noon, 0.0),
            (Next("bobbin", NOW + timedelta(minutes=8)), NOW - timedelta(minutes=30), 30.0),
        ):
            (task,) = tasks([stand("a", MachineState.UNCLEARED, 30, build=1, what="clip", next=next_)], NOW)
            self.assertEqual((task.free_until, task.lost_min), (free_until, lost))

    def test_loading_nozzles_starting_and_judging_are_tasks(self) -> None:
        change = Next("bobbin", NOW, "teal PLA", "a 0.4 mm nozzle")
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
        after = Next("bobbin", NOW, load="teal PLA")
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


class ClearBed(unittest.TestCase):
    def setUp(self) -> None:
        rnd = np.random.default_rng(3)
        self.clear = rnd.uniform(60, 80, (72, 96))

    def test_the_same_bed_under_another_lamp_is_clear(self) -> None:
        self.assertTrue(is_clear(self.clear, self.clear + 25))

    def test_a_part_is_seen(self) -> None:
        part = self.clear.copy()
        part[30:36, 40:48] = 150
        self.assertFalse(is_clear(self.clear, part))
        self.assertAlmostEqual(difference(self.clear, part), 48 / (72 * 96), places=4)

    def test_two_sizes_cannot_be_compared(self) -> None:
        with self.assertRaises(ValueError):
            is_clear(self.clear, self.clear[1:])


class Pieces(unittest.TestCase):
    def test_pieces_builds_and_what_is_over(self) -> None:
        self.assertEqual(Copies(10, 3, 2).builds(4), 2)
        self.assertEqual(Copies(10, 12, 0).over, 2)
        self.assertEqual(Copies(10, 12, 0).waiting, 0)


if __name__ == "__main__":
    unittest.main()
