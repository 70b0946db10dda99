"""Pauses that people want before layers of the build under way."""

from __future__ import annotations

from chronarch.core.control.controlled_machine import ControlledMachine
from chronarch.core.machines.states import WrongState


class PlannedPauses:
    def __init__(self, machine: ControlledMachine) -> None:
        self._machine = machine
        self.layers: set[int] = set()

    def add(self, layer: int, reached: int) -> None:
        """Plan a pause before a layer of which no command is among the `reached` first ones of the file; 0 means once
        the present layer is laid. Raises WrongState."""
        machine = self._machine
        layer = layer or machine.the_spec().plan.layer_at(reached) + 1
        if machine.layer_index(layer) < reached:
            raise WrongState(f"Layer {layer} has begun already; choose a later one.")
        self.layers.add(layer)
        machine.changed = True

    def drop(self, layer: int) -> None:
        """Take back a pause. Raises WrongState."""
        if layer not in self.layers:
            raise WrongState(f"No pause before layer {layer} is planned.")
        self.layers.discard(layer)
        self._machine.changed = True

    def indexes(self) -> dict[int, int]:
        """Each planned pause: before which command of the file, and before which layer."""
        machine = self._machine
        known = len(machine.the_spec().plan.layers)
        return {machine.layer_index(layer): layer for layer in sorted(self.layers) if layer <= known}

    def take(self, first: int, last: int) -> int | None:
        """The earliest layer that is due before the commands `first` to `last`, if any. What is due is planned no
        more."""
        due = [layer for index, layer in self.indexes().items() if first <= index <= last]
        self.layers -= set(due)
        return due[0] if due else None
