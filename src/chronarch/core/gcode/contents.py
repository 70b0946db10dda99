"""What a file holds, as plain values: its layers, its pauses and the objects it lays."""

from __future__ import annotations

from dataclasses import dataclass

Ring = tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Layer:
    """One layer: z of its material over the bed and its height (mm), its first line (from 1), the commands before it,
    where it begins (bytes), its planned seconds, its filament (mm)."""

    z_mm: float
    height_mm: float
    first_line: int
    first_command: int
    offset: int
    seconds: float
    filament_mm: float


@dataclass(frozen=True)
class FilePause:
    """The file asks the machine to wait for a person."""

    line: int
    layer: int
    command: int
    word: str
    meaning: str


@dataclass(frozen=True)
class PrintedObject:
    """One thing on the bed: its outline on the first layers (convex, mm, machine coordinates), and, where the slicer
    marked it, its filament (mm) and its share of the planned time (s); None where only its footprint is known."""

    name: str
    outline: Ring
    filament_mm: float | None = None
    seconds: float | None = None
    marked: bool = False
