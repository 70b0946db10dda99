"""States of machines and builds."""

from __future__ import annotations

import unittest

from chronarch.core.machines.states import (
    BUILD,
    MACHINE,
    BuildEvent,
    BuildState,
    MachineEvent,
    MachineState,
    WrongState,
    after,
)


class States(unittest.TestCase):
    def test_every_machine_state_but_offline_can_be_reached_and_left(self) -> None:
        reached = {MachineState.IDLE}
        while True:
            more = {t for (s, _), t in MACHINE.items() if s in reached} | reached
            if more == reached:
                break
            reached = more
        self.assertEqual(reached, set(MachineState) - {MachineState.OFFLINE})
        self.assertEqual({s for s, _ in MACHINE}, reached)

    def test_an_ended_build_has_no_further_state(self) -> None:
        for event in BuildEvent:
            with self.assertRaises(WrongState):
                after(BUILD, BuildState.ENDED, event)

    def test_a_wrong_event_says_what_is_possible(self) -> None:
        with self.assertRaisesRegex(WrongState, "possible: .*start.*take_out"):
            after(MACHINE, MachineState.IDLE, MachineEvent.RESUME)


if __name__ == "__main__":
    unittest.main()
