"""What hands must do next, at the machine itself: on its own display (M117), and by the light that its model names for
it."""

from __future__ import annotations

from chronarch.core.control.actions import check_lines
from chronarch.core.control.controlled_machine import ControlledMachine
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState


def asking(model: MachineModel, text: str) -> tuple[bytes, ...]:
    """The commands that show it. `text` is plain ASCII, and no longer than the display."""
    return (*_words(model, text), *_light(model, on=True))


def put_back(machine: ControlledMachine) -> tuple[bytes, ...]:
    """The commands that put back what the display and the light showed before they asked for hands; none when they do
    not ask."""
    if not machine.asks_hands:
        return ()
    under_way = machine.spec is not None and machine.state is not MachineState.UNCLEARED
    before = machine.words if under_way else "Ready" if machine.state is MachineState.IDLE else ""
    return (*_words(machine.model, before), *_light(machine.model, on=False))


def _words(model: MachineModel, text: str) -> tuple[bytes, ...]:
    return (f"M117 {text}".strip().encode("ascii", "replace"),) if model.display_chars else ()


def _light(model: MachineModel, *, on: bool) -> tuple[bytes, ...]:
    for switch in model.switches:
        if switch.name == model.hands_light:
            return tuple(check_lines(switch.on if on else switch.off, switch.name))
    return ()
