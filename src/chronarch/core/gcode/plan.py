"""The time plan of a file: which command lies at which planned second, and which layer it belongs to."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple


class Mark(NamedTuple):
    """After `command` commands, `planned_s` seconds have passed and `filament_mm` has been fed."""

    command: int
    planned_s: float
    filament_mm: float


@dataclass(frozen=True)
class TimePlan:
    """Command count -> planned seconds and filament, by straight lines between marks.

    `marks` rise in every column, from (0, 0, 0) to the whole file; `layers` holds the count of commands
    before each layer's first, rising.
    """

    marks: Sequence[Mark]
    layers: Sequence[int]

    @property
    def commands(self) -> int:
        return self.marks[-1].command

    @property
    def total_s(self) -> float:
        return self.marks[-1].planned_s

    def at(self, acknowledged: int) -> Mark:
        """Planned seconds and filament (mm) once `acknowledged` commands are done."""
        marks = self.marks
        i = bisect_right(marks, acknowledged, key=lambda m: m.command)
        if i >= len(marks):
            return marks[-1]
        if i == 0:
            return marks[0]
        a, b = marks[i - 1], marks[i]
        share = (acknowledged - a.command) / (b.command - a.command)
        return Mark(
            acknowledged,
            a.planned_s + share * (b.planned_s - a.planned_s),
            a.filament_mm + share * (b.filament_mm - a.filament_mm),
        )

    def layer_s(self, layer: int) -> float:
        """How long a layer is planned to take, s; layers are counted from 1."""
        ends = self.layers[layer] if layer < len(self.layers) else self.commands
        return self.at(ends).planned_s - self.at(self.layers[layer - 1]).planned_s

    def layer_at(self, acknowledged: int) -> int:
        """The layer being laid once `acknowledged` commands are done: 1 to the count of layers; 0 before the
        first."""
        return bisect_right(self.layers, acknowledged - 1) if acknowledged > 0 else 0
