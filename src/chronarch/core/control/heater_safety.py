"""Heaters: reports that show a fault, heaters that were left on with nothing to do, and a bed that is cool enough."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from chronarch.core.control.controlled_machine import ControlledMachine
from chronarch.core.control.events import Noticed
from chronarch.core.control.responses import Temperatures
from chronarch.core.machines.states import MachineEvent, MachineState
from chronarch.core.machines.thermal_protection import BED, NOZZLE, HeaterWatch


class HeaterSafety:
    """`turn_off` has the machine turn all its heaters off."""

    def __init__(self, machine: ControlledMachine, turn_off: Callable[[], object]) -> None:
        self._machine = machine
        self._turn_off = turn_off
        self._watches = (HeaterWatch(NOZZLE), HeaterWatch(BED))
        self.touched_at: datetime | None = None
        """When somebody last had the machine do something while no build was under way."""

    def take(self, heat: Temperatures) -> str:
        """Keep a heat report. Returns what is wrong with a heater, or nothing."""
        machine = self._machine
        machine.heat = heat
        readings = ((heat.nozzle_c, heat.nozzle_asked_c), (heat.bed_c, heat.bed_asked_c))
        for watch, (measured, asked) in zip(self._watches, readings, strict=True):
            alarm = "" if measured is None else watch.take(machine.now().shop, measured, asked or 0.0)
            if alarm:
                return alarm
        machine.mind_heat()
        return ""

    def tick(self, *, resting: bool) -> None:
        """A machine that has ended its build is ready to be cleared once its bed is cool."""
        machine = self._machine
        if not resting:
            self.touched_at = None  # the time of heaters that a build has used counts from its end
        cool = machine.heat.bed_c is None or machine.heat.bed_c <= machine.model.release_c
        if machine.state is MachineState.COOLING and resting and cool and not machine.offline:
            machine.move(MachineEvent.COOLED)

    def idle(self) -> None:
        """Turn heaters off that nobody has touched for long while there is nothing to do."""
        machine, now = self._machine, self._machine.now().shop
        hot = (machine.heat.nozzle_asked_c or 0) > 0 or (machine.heat.bed_asked_c or 0) > 0
        if not hot or not machine.model.idle_off_s:
            self.touched_at = now if not hot else self.touched_at
            return
        self.touched_at = self.touched_at or now
        if (now - self.touched_at).total_seconds() >= machine.model.idle_off_s:
            self.touched_at = now
            self._turn_off()
            minutes = machine.model.idle_off_s / 60
            text = f"the heaters were on for {minutes:.0f} min with nothing to do, and were turned off"
            machine.tell(Noticed(text, about="heaters"))
