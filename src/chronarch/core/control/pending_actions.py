"""Actions by hand that are on their way to a machine, and what they change once the machine has done them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from chronarch.core.control.action_wording import adjustment
from chronarch.core.control.actions import Action, Adjust, Filament, MeasureBed, ReadSettings, SendLine, offset_step
from chronarch.core.control.controlled_machine import ControlledMachine
from chronarch.core.control.events import Adjusted, Levelled, SettingsTold
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.machine_settings import read_settings
from chronarch.core.machines.bed_mesh import read_level_map


@dataclass
class PendingAction:
    """Commands on their way, for an action of a person's or of the tender's own; `then` takes what the machine said.
    `reached` is called once the machine has taken the first `at` of them."""

    injected: InjectedCommands
    action: Action | None = None
    by: str = ""
    then: Callable[[InjectedCommands], None] | None = None
    at: int = 0
    reached: Callable[[], None] | None = None

    def taken(self, count: int) -> None:
        """The machine has taken so many of the commands."""
        if self.reached is not None and count >= self.at:
            self.reached()
            self.reached = None


def adjustments(pending: Iterable[PendingAction]) -> list[Adjust]:
    """The adjustments among them, oldest first."""
    return [p.action for p in pending if isinstance(p.action, Adjust)]


def offset_steps(action: Action, pending: Iterable[PendingAction], machine: ControlledMachine) -> list[bytes]:
    """What moves the z offset to what an action asks, counted from where it will be once all else is done."""
    if not isinstance(action, Adjust) or action.z_offset_mm is None:
        return []
    asked = [a.z_offset_mm for a in adjustments(pending) if a.z_offset_mm is not None]
    step_mm = action.z_offset_mm - (asked[-1] if asked else machine.settings.z_offset_mm)
    return [offset_step(step_mm)] if abs(step_mm) > 1e-6 else []


def take_effect(machine: ControlledMachine, done: PendingAction, *, building: bool) -> bool:
    """The machine has taken the commands of an action. Returns whether the action took effect: not when the machine
    does not know its words."""
    action, injected = done.action, done.injected
    if action is not None and not isinstance(action, SendLine) and injected.unknown:
        injected.failed = f"the machine does not know this ({injected.unknown})"
        return False
    if isinstance(action, Adjust):
        machine.settings = machine.settings.with_(action)
    elif isinstance(action, Filament):
        machine.change = action.step
    elif isinstance(action, MeasureBed):
        found = read_level_map(injected.said)
        if found is None:
            injected.failed = "the machine printed no level map"
        else:
            machine.tell(Levelled(found.rows))
    elif isinstance(action, ReadSettings):
        values = read_settings(injected.said)
        if values:
            machine.tell(SettingsTold(values))
        else:
            injected.failed = "the machine told no settings"
    if building and action is not None:
        machine.changed = True
        machine.tell(Adjusted(machine.the_spec().build, adjustment(action), done.by))
    return True
