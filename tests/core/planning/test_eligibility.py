"""What keeps a job from a machine, in words."""

from __future__ import annotations

import unittest

from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import (
    Intake,
    MachineState,
)
from chronarch.core.machines.tools import Tool
from chronarch.core.orders.requirement import Requirement
from chronarch.core.planning.capability import Capability
from chronarch.core.planning.eligibility import JobNeed, MachineStatus, blocker
from chronarch.core.planning.why_waiting import why_waiting


class Matching(unittest.TestCase):
    def standing(self, **change: object) -> MachineStatus:
        tool = Tool(0, 0.4, material="PLA", colour="teal")
        facts: dict[str, object] = {
            "capability": Capability("Anchor", MachineModel("Lantern 220"), (tool,)),
            "state": MachineState.IDLE,
            "intake": Intake.OPEN,
        }
        return MachineStatus(**{**facts, **change})  # type: ignore[arg-type]

    def test_each_blocker_says_its_reason(self) -> None:
        cases: list[tuple[JobNeed, dict[str, object], str]] = [
            (JobNeed(Requirement(machine="Bezel")), {}, "for Bezel only"),
            (JobNeed(Requirement(model="Kiln 250")), {}, "needs a Kiln 250"),
            (JobNeed(Requirement(material="PETG")), {}, "has teal PLA loaded; the job needs PETG"),
            (JobNeed(Requirement(material="pla", colour="ochre")), {}, "needs ochre"),
            (JobNeed(Requirement(nozzle_mm=0.6)), {}, "has a 0.4 mm nozzle; the job needs 0.6 mm"),
            (JobNeed(Requirement(hardened=True)), {}, "hardened"),
            (JobNeed(Requirement(), refusals=("it is too tall",)), {}, "by the preflight: it is too tall"),
            (JobNeed(Requirement(), said_nozzle_mm=0.6), {}, "sliced for a 0.6 mm nozzle"),
            (JobNeed(Requirement(), said_material="PETG"), {}, "sliced for PETG"),
            (JobNeed(Requirement(), said_model="Kiln 250"), {}, "sliced for a Kiln 250"),
            (JobNeed(Requirement(), tools=(1,)), {}, "uses tool 1, which the machine has not"),
            (JobNeed(Requirement()), {"intake": Intake.CLOSED}, "takes no work"),
            (JobNeed(Requirement()), {"state": MachineState.UNCLEARED}, "bed to be cleared"),
            (JobNeed(Requirement()), {"reachable": False}, "tender is not connected"),
            (JobNeed(Requirement()), {"busy": True}, "has another build"),
        ]
        for need, change, words in cases:
            with self.subTest(words=words):
                self.assertIn(words, blocker(need, self.standing(**change)) or "")

    def test_a_job_that_fits_has_no_blocker_and_case_does_not_matter(self) -> None:
        need = JobNeed(
            Requirement(material="pla", colour="Teal", nozzle_mm=0.4), said_material="PETG", said_nozzle_mm=0.6
        )
        self.assertIsNone(blocker(need, self.standing()))

    def test_why_waiting_tells_a_busy_fleet_from_one_that_cannot(self) -> None:
        busy = self.standing(state=MachineState.BUILDING)
        fleet = {"Anchor": busy}
        text = why_waiting(lambda at: [JobNeed(Requirement())], "", fleet, ["Anchor"], ["Anchor"])
        self.assertEqual(text, "Anchor is building.")
        cannot = why_waiting(lambda at: [JobNeed(Requirement(material="PETG"))], "", fleet, [], ["Anchor"])
        self.assertTrue(cannot.startswith("No machine fits: Anchor has teal PLA"), cannot)
        self.assertIn("no machines yet", why_waiting(lambda at: [], "", {}, [], []))


if __name__ == "__main__":
    unittest.main()
