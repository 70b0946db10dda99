"""What a tender keeps on its disk of a build under way, so that a tender that is started anew can go on with it.

It is written before anything that it describes goes to the machine. While the file is being fed, `at` is a count that
the machine has certainly reached or passed; while a sequence of the tender's own is sent, it is exact.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from chronarch.core.control.adjustments import BuildAdjustments
from chronarch.core.control.controlled_machine import BuildSpec, ControlledMachine
from chronarch.core.control.progress import Progress
from chronarch.core.gcode.modal import ModalState
from chronarch.core.machines.states import MachineState


@dataclass
class PauseRequest:
    """A pause that is wanted: why, whether nobody asked for it, and what becomes of the heaters."""

    reason: str
    by_itself: bool = False
    heaters_off: bool = False


@dataclass
class OwnProgram:
    """A sequence of the tender's own that is being sent: its commands and the number before its first."""

    commands: tuple[str, ...]
    base: int


@dataclass
class BuildCheckpoint:
    """One build as far as this tender has brought it; `phase` by its name in the controller."""

    build: int
    phase: str
    state: str
    sha256: str
    at: int = 0
    own: OwnProgram | None = None
    reason: str = ""
    modal: ModalState = field(default_factory=ModalState)
    settings: BuildAdjustments = field(default_factory=BuildAdjustments)
    pausing: PauseRequest | None = None
    pauses_before: tuple[int, ...] = ()
    passed_wait: int = -1
    parked: bool = False
    retracted: bool = False
    change: str = ""
    ending: tuple[str, str] = ("completed", "")
    laying_s: float = 0.0
    warming_s: float = 0.0
    laid_from_s: float | None = None
    unsure: bool = False
    waits: str = ""


def take_up(machine: ControlledMachine, spec: BuildSpec, kept: BuildCheckpoint) -> None:
    """Bring a machine to where an earlier tender had brought its build."""
    progress = Progress(spec.plan, spec.pace, max(0, kept.at), kept.laying_s, kept.warming_s, kept.laid_from_s)
    machine.spec, machine.progress = spec, progress
    machine.settings, machine.change = kept.settings, kept.change
    machine.state, machine.reason = MachineState(kept.state), kept.reason
