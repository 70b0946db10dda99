"""Where a build stands in its file, and what the file's commands up to there have left set at the machine."""

from __future__ import annotations

from chronarch.core.control.checkpoint import PauseRequest
from chronarch.core.control.controlled_machine import ControlledMachine
from chronarch.core.control.film_poses import FilmPoses
from chronarch.core.control.planned_pauses import PlannedPauses
from chronarch.core.gcode.modal import ModalState


class FilePlace:
    def __init__(self, machine: ControlledMachine, pauses: PlannedPauses, poses: FilmPoses) -> None:
        self._machine = machine
        self._pauses = pauses
        self._poses = poses
        self.on_file = False
        """Whether the link carries the file, rather than a sequence of the tender's own."""
        self.passed_wait = -1
        """The command at which the file last asked for a pause."""
        self.modal = ModalState()
        self.modal_at = 0

    def begin(self) -> None:
        self.modal, self.modal_at, self.passed_wait = ModalState(), 0, -1

    @property
    def here(self) -> int:
        """How many commands of the file the machine has taken."""
        return self._machine.the_progress().acknowledged

    def caught_up(self) -> ModalState:
        """Modes and position as the commands of the file up to here leave them. They are worked out when needed, so
        that feeding need not do it."""
        machine = self._machine
        if machine.spec is not None and machine.progress is not None:
            program, to = machine.spec.program, machine.progress.acknowledged
            for index in range(self.modal_at, min(to, len(program))):
                self.modal.apply(program.command(index))
            self.modal_at = max(self.modal_at, to)
        return self.modal

    def stand_at(self, count: int) -> None:
        """The build is after `count` commands of the file, whatever was believed before."""
        self._machine.the_progress().acknowledged = count
        if self.modal_at > count:
            self.modal, self.modal_at = ModalState(), 0

    def next_stop(self) -> int | None:
        """The next command before which the feeding stops: because a person asked for it, or the file did, or a frame
        is taken without the head."""
        here = self.here
        pose = self._poses.next(here)
        waits = (i for i in self._machine.the_spec().program.waits if i >= here and i > self.passed_wait)
        planned = (i for i in self._pauses.indexes() if i >= here)
        return min([*waits, *planned, *([] if pose is None else [pose])], default=None)

    def why_stop(self) -> PauseRequest | None:
        """Why the feeding stops here, if that was planned."""
        here = self.here
        layer = self._pauses.take(here, here)
        if layer is not None:
            return PauseRequest(f"asked for before layer {layer}")
        asked = self._machine.the_spec().program.waits.get(here)
        if asked is None or here <= self.passed_wait:
            return None
        self.passed_wait = here
        word, _, text = asked.decode("ascii", "replace").partition(" ")
        if word.upper() == "M600":
            self._machine.change = "wanted"
            return PauseRequest("the file asks for a change of filament", by_itself=True)
        return PauseRequest(f"the file asks for a pause{f': {text.strip()}' if text.strip() else ''}", by_itself=True)
