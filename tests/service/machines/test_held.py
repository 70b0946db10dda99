"""What keeps a machine from work though it is idle."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime
from types import SimpleNamespace
from typing import Any, cast

from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import Intake, MachineState
from chronarch.service.changes import Changes
from chronarch.service.machines.fleet import Fleet, FleetMachine

NOON = datetime(2026, 10, 19, 12, tzinfo=UTC)


class Held(unittest.TestCase):
    def held(self, state: MachineState, **more: Any) -> str:
        """Why a machine in a state takes no work, when the watch looks at all beds."""
        row = SimpleNamespace(
            name="Anchor", state=state, tools=[], pools=[], tags=[], intake=Intake.OPEN, reason="", since=NOON
        )
        fleet = Fleet(Changes())
        fleet.must_see = lambda known: True
        return fleet.standing(FleetMachine(cast(Any, row), MachineModel(name="Lantern"), "tender", **more)).held

    def test_an_idle_machine_waits_until_its_bed_was_looked_at(self) -> None:
        self.assertIn("until the watch has seen its bed", self.held(MachineState.IDLE))
        self.assertIn("perhaps not clear", self.held(MachineState.IDLE, on_bed="its bed is perhaps not clear"))
        self.assertEqual(self.held(MachineState.IDLE, bed_seen=True), "")

    def test_a_machine_that_is_turned_off_is_woken_first(self) -> None:
        self.assertEqual(self.held(MachineState.OFFLINE), "")


if __name__ == "__main__":
    unittest.main()
