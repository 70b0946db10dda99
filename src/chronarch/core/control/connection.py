"""Whether a machine can be reached. A short cut heals unseen."""

from __future__ import annotations

from chronarch.core.control.controlled_machine import ControlledMachine
from chronarch.core.control.events import StateChanged
from chronarch.core.machines.states import MachineState

OFFLINE_AFTER_S = 10.0
"""Real seconds without a connection before the machine counts as offline."""


class Connection:
    def __init__(self, machine: ControlledMachine) -> None:
        self._machine = machine
        self._lost_at_s: float | None = None

    @property
    def is_lost(self) -> bool:
        return self._lost_at_s is not None

    def found(self) -> None:
        """The machine is connected again."""
        self._lost_at_s = None
        machine = self._machine
        if machine.offline:
            machine.offline = False
            machine.tell(StateChanged(machine.state, "the link is back", machine.build))

    def lost(self) -> None:
        if self._lost_at_s is None:
            self._lost_at_s = self._machine.now().real_s

    def tick(self) -> None:
        machine = self._machine
        if self._lost_at_s is None or machine.offline:
            return
        if machine.switched_off or machine.now().real_s - self._lost_at_s >= OFFLINE_AFTER_S:
            machine.offline, machine.asks_hands = True, ""
            why = "it is turned off" if machine.switched_off else "no link to the machine"
            machine.tell(StateChanged(MachineState.OFFLINE, why, machine.build))
