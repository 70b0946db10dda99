"""What cameras are told of the builds they look at: where each is, and the moments of which a frame is kept."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any

from chronarch.core.control.controlled_machine import ControlledMachine
from chronarch.core.control.controller import MachineController
from chronarch.core.control.events import ControlEvent
from chronarch.core.gcode.plan import TimePlan
from chronarch.core.machines.states import WORKING, MachineState
from chronarch.core.watching.frame_keeping import FrameReason

TOLD_EVERY = 10
"""Looks between two tellings of where a build is, while nothing happens; fewer where shop time runs faster."""


class FilmMoments:
    """When a frame is due for the film of one machine's build."""

    def __init__(self) -> None:
        self._build: int | None = None
        self._taken: object = None
        self._at: datetime | None = None

    def due(self, machine: ControlledMachine) -> bool:
        spec, progress = machine.spec, machine.progress
        if spec is None or progress is None or spec.film is None:
            return False
        if spec.build != self._build:
            self._build, self._taken, self._at = spec.build, machine.head_away, None
        film, now = spec.film, machine.now().shop
        if film.every_s:
            if self._at is not None and (now - self._at).total_seconds() < film.every_s:
                return False
            self._at = now
            return True
        place: object = machine.head_away
        if film.head_away is None:
            layer = spec.plan.layer_at(progress.acknowledged)
            place = layer, int(film.per_layer * _share(spec.plan, layer, progress.acknowledged))
        before, self._taken = self._taken, place
        return place != before


def _share(plan: TimePlan, layer: int, taken: int) -> float:
    """How much of a layer is laid, 0 to less than 1."""
    if not 1 <= layer <= len(plan.layers):
        return 0.0
    ends = plan.layers[layer] if layer < len(plan.layers) else plan.commands
    begins = plan.layers[layer - 1]
    return min(0.999, max(0, taken - begins) / max(1, ends - begins))


class CameraMoments:
    """`tell` takes a message to the camera process, and what one that is started anew is told in its place. `look` is
    called several times a second for each machine; `rate` is that of shop time."""

    def __init__(self, tell: Callable[[dict[str, Any], dict[str, Any]], None], rate: float = 1.0) -> None:
        self._tell, self._told_every = tell, max(1, round(TOLD_EVERY / rate))
        self._places: dict[str, tuple[int | None, int, bool]] = {}
        self._builds: dict[str, int] = {}
        self._looks: dict[str, int] = {}
        self._films: dict[str, FilmMoments] = {}

    def happened(self, machine: str, event: ControlEvent, controller: MachineController) -> None:
        """Something has happened at a machine."""
        why = _reason(event, self._places.get(machine))
        if why is not None:
            self._say(machine, controller, why)

    def look(self, machine: str, controller: MachineController) -> None:
        """See whether a build is at another layer than before."""
        build, layer, _, working = _place(controller)
        before = self._places.get(machine)
        self._looks[machine] = self._looks.get(machine, 0) + 1
        if before is None or before != (build, layer, working):
            new_layer = before is not None and build == before[0] and layer > before[1]
            self._say(machine, controller, FrameReason.LAYER if new_layer else None)
        elif working and self._looks[machine] % self._told_every == 0:
            self._say(machine, controller, None)
        if working and self._films.setdefault(machine, FilmMoments()).due(controller.machine):
            self._say(machine, controller, FrameReason.FILM)

    def _say(self, machine: str, controller: MachineController, why: FrameReason | None) -> None:
        build, layer, command, working = _place(controller)
        self._places[machine] = build, layer, working
        if why is FrameReason.VERDICT:
            build = self._builds.get(machine)  # it is over, and the frame is still its own
        elif build is not None:
            self._builds[machine] = build
        subject = controller.machine
        at = subject.reported_at or (subject.moment.shop if subject.moment else None)
        said = {
            "name": f"place {machine}", "machine": machine, "build": build, "layer": layer, "command": command,
            "working": working, "why": why, "at": at.isoformat() if at else "",
        }  # fmt: skip
        self._tell(said, {**said, "why": None})


def _place(controller: MachineController) -> tuple[int | None, int, int, bool]:
    """The build of a machine, its layer and command, and whether the machine works."""
    machine = controller.machine
    progress = machine.progress
    working = machine.shown_state in WORKING
    if machine.build is None or progress is None:
        return machine.build, 0, 0, working
    return machine.build, progress.plan.layer_at(progress.acknowledged), progress.acknowledged, working


def _reason(event: ControlEvent, before: tuple[int | None, int, bool] | None) -> FrameReason | None:
    """Why an event is worth a frame."""
    match event.kind:
        case "began":
            return FrameReason.START
        case "ended":
            return FrameReason.END
        case "paused":
            return FrameReason.PAUSE
        case "state":
            if event.state is MachineState.DOWN:
                return FrameReason.FAULT
            if event.state is MachineState.IDLE and before is not None and before[0] is not None:
                return FrameReason.VERDICT
    return None
