"""Why jobs wait and machines stand idle."""

from __future__ import annotations

import unittest
from dataclasses import replace

from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.machines.tools import Tool
from chronarch.core.orders.requirement import Requirement
from chronarch.core.planning.capability import Capability
from chronarch.core.planning.eligibility import JobNeed, MachineStatus, blocker
from chronarch.core.planning.explanations import blocked, smallest_change, why_idle, why_not
from chronarch.core.planning.why_waiting import why_waiting


def at(name: str = "Verge", state: MachineState = MachineState.IDLE, intake: Intake = Intake.OPEN, *,
       tool: Tool = Tool(0, 0.4, material="PLA", colour="teal"), pools: tuple[str, ...] = (),
       tags: tuple[str, ...] = (), since: str = "") -> MachineStatus:  # fmt: skip
    capability = Capability(name, MachineModel("Lantern 220"), (tool,), pools, tags)
    return MachineStatus(capability, state, intake, since=since)


def needs(**r: object) -> JobNeed:
    return JobNeed(Requirement(**r))  # type: ignore[arg-type]


class WhyItWaits(unittest.TestCase):
    def test_each_requirement_has_its_blocker_in_words(self) -> None:
        cases = [
            (needs(pool="tough"), "takes no work from the pool tough"),
            (needs(tags='"food safe" and not draughty'), "has draughty; the job needs"),
            (needs(volume_mm=(300.0, 300.0, 300.0)), "builds 220 x 220 x 250 mm; the job needs 300 x 300 x 300 mm"),
            (needs(nozzle_mm=0.6), "has a 0.4 mm nozzle; the job needs 0.6 mm"),
            (JobNeed(Requirement(), grams={0: 55.0}), "has 40 g of teal PLA left; the build needs 55 g"),
        ]
        machine = at(tool=Tool(0, 0.4, material="PLA", colour="teal", spool=1, grams=40.0), tags=("draughty",))
        for need, words in cases:
            with self.subTest(words=words):
                self.assertIn(words, blocker(need, machine) or "")
        self.assertIsNone(blocker(needs(pool="fine", tags="dry"), at(pools=("Fine",), tags=("dry",))))

    def test_each_tool_has_what_the_build_takes_of_it(self) -> None:
        two = (Tool(0, 0.4, material="PLA", colour="teal", grams=900.0), Tool(1, 0.4, material="PVA", grams=10.0))
        machine = replace(at(), capability=replace(at().capability, tools=two))
        need = JobNeed(Requirement(), tools=(0, 1), grams={0: 100.0, 1: 9.0})
        self.assertIsNone(blocker(need, machine))
        short = replace(need, grams={0: 100.0, 1: 12.0})
        self.assertEqual(blocker(short, machine), "has 10 g of PVA left on tool 1; the build needs 12 g")
        coloured = JobNeed(Requirement(material="PLA"), tools=(0, 1))
        self.assertEqual(blocker(coloured, machine), "has PVA loaded on tool 1; the job needs PLA")

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
        text = why_waiting(lambda _: [needs()], "", {"Verge": at()}, ["Verge"], ["Verge"], first={"Verge": 3})
        self.assertEqual(text, "Verge takes job 3 first.")


if __name__ == "__main__":
    unittest.main()
