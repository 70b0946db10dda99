"""Takes the head out of a camera's picture between two layers, as one sequence of injected commands: the file's own
count is untouched, and a tender that is started anew sends the rest of it."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass
from math import hypot

from chronarch.core.control import command_sequences as programs
from chronarch.core.control.controlled_machine import BuildSpec, ControlledMachine
from chronarch.core.control.film_taking import HeadAway
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.pending_actions import PendingAction
from chronarch.core.gcode.modal import ModalState
from chronarch.core.gcode.plan import TimePlan
from chronarch.core.machines.model import MachineModel

TRAVEL_MM_S, LIFT_MM_S, RETRACT_MM_S = 100.0, 10.0, 40.0
SHUTTER_S = 1.0
"""How long the head stands still after it has settled, real seconds: the tender tells the cameras, and a slow one takes
its picture."""


def pose_indexes(plan: TimePlan, away: HeadAway) -> list[int]:
    """Before which commands the head is taken away: after each layer but those that are planned too short."""
    ends = list(plan.layers[1:])
    planned = [plan.at(index).planned_s for index in plan.layers]
    return [end for end, a, b in zip(ends, planned, planned[1:], strict=False) if b - a >= away.least_layer_s]


def pose_s(model: MachineModel, x: float, y: float, away: HeadAway, shutter_s: float = SHUTTER_S) -> float:
    """About how long one takes from a place on the bed and back, in s: the way at its speed, with one acceleration each
    way (v/a), the filament, and the time that it stands still."""
    way = hypot(model.park_mm[0] - x, model.park_mm[1] - y)
    travel = 2 * (way / TRAVEL_MM_S + TRAVEL_MM_S / model.acceleration_mm_s2)
    filament = (away.retract_mm + away.prime_mm) / RETRACT_MM_S
    return travel + 2 * model.lift_mm / LIFT_MM_S + filament + away.settle_s + shutter_s


@dataclass(frozen=True)
class Pose:
    """Where the head is taken away from, once a layer is laid (mm), and about how long that takes (s)."""

    layer: int
    x: float
    y: float
    z: float
    seconds: float


@dataclass(frozen=True)
class PoseRun:
    """What taking the head away comes to in a file: each time, how many layers are too short for it, where the head
    goes (mm), and what may become of the part, in words."""

    poses: tuple[Pose, ...]
    left_out: int
    park_mm: tuple[float, float]
    lift_mm: float
    adds_s: float
    risk: str


def dry_run(
    model: MachineModel, starts: Sequence[tuple[float, float, float]], layer_s: Sequence[float], away: HeadAway
) -> PoseRun:
    """What taking the head away would come to. `starts`: where the nozzle is when each layer begins; `layer_s`: the
    planned seconds of each."""
    found = [
        Pose(n + 1, x, y, z, pose_s(model, x, y, away))
        for n, ((x, y, z), seconds) in enumerate(zip(starts[1:], layer_s, strict=False))
        if seconds >= away.least_layer_s
    ]
    left_out = max(0, len(starts) - 1 - len(found))
    return PoseRun(
        tuple(found), left_out, model.park_mm, model.lift_mm, sum(pose.seconds for pose in found),
        _risk(len(found), found[0].seconds if found else 0.0, away),
    )  # fmt: skip


def _risk(many: int, seconds: float, away: HeadAway) -> str:
    if not many:
        return "Every layer is too short for it: the head stays in the picture."
    ooze = "may ooze" if away.retract_mm >= 1 else "will ooze, because less than 1 mm is pulled back,"
    return (
        f"The hot nozzle leaves the part {many} times for about {seconds:.0f} s and {ooze}: "
        "expect a mark where it comes back, and thin strings on the way. Try one part first."
    )


def pose_commands(
    model: MachineModel, modal: ModalState, away: HeadAway, stand_s: float
) -> tuple[Sequence[bytes], int]:
    """What is sent, and how many of the commands the machine has taken when the head stands still at its place."""
    there = programs.park(model, modal, lift=True, heaters_off=False, retract_mm=away.retract_mm).commands
    back = programs.go_back(modal, lifted=True, retracted=True, prime_mm=away.prime_mm).commands
    return (*there, b"G4 P%d" % round(stand_s * 1000), *back), len(there)


class FilmPoses:
    """Where in the build that is under way the head is taken out of the picture."""

    def __init__(self, machine: ControlledMachine) -> None:
        self._machine = machine
        self._of: BuildSpec | None = None
        self._indexes: list[int] = []
        self.passed = -1
        """The last command before which that was done, or left out because the build was paused there."""

    def next(self, here: int) -> int | None:
        """Before which command from `here` on the head is taken away next."""
        spec = self._machine.the_spec()
        if spec is not self._of:
            away = spec.film.head_away if spec.film else None
            self._of, self._indexes = spec, pose_indexes(spec.plan, away) if away else []
        at = bisect_left(self._indexes, max(here, self.passed + 1))
        return self._indexes[at] if at < len(self._indexes) else None

    def take(self, here: int, modal: ModalState) -> PendingAction | None:
        """What is sent now; None if the head is not to be taken away here."""
        spec = self._machine.the_spec()
        if self.next(here) != here or spec.film is None or spec.film.head_away is None:
            return None
        self.passed, away = here, spec.film.head_away
        commands, at = pose_commands(self._machine.model, modal, away, away.settle_s + spec.shutter_s)
        return PendingAction(InjectedCommands(tuple(commands)), at=at, reached=self._stands)

    def _stands(self) -> None:
        self._machine.head_away += 1
