"""What the service and the watch's process say to each other."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from chronarch.core.errors import CoreError
from chronarch.core.machines.model import MachineModel
from chronarch.core.watching.suspicion import FailureMode, Suspicion

Spot = tuple[float, float]


class NotBegun(CoreError):
    """The process does not know the build: it was started anew, or the build was looked at long ago."""


@dataclass(frozen=True)
class WatchOrder:
    """A build to be watched: its file, the machine, and how the camera sees the bed: `corners` and the clear bed's
    frame (a JPEG). `left_out` names objects that are no longer built."""

    content: Path
    model: MachineModel
    clear: bytes
    corners: tuple[Spot, ...]
    moved: dict[FailureMode, float] = field(default_factory=dict)
    left_out: tuple[str, ...] = ()


@dataclass(frozen=True)
class Looked:
    """What a frame showed: why it was not judged (empty when it was), what is suspected now, the likeliest first, how
    many objects there are, and what it cost, s of the processor."""

    unjudged: str
    suspicions: tuple[Suspicion, ...]
    objects: int
    cost_s: float


@dataclass(frozen=True)
class BedGrid:
    """Where the bed's grid is in a picture of `size`: its `lines`, each a row of points in pixels; `error_px` how far
    the corners miss; `bend` what was found of the lens's distortion; `eye_mm` where the camera stands, mm from the
    bed's origin; `mirrored` whether it shows left and right swapped."""

    size: tuple[int, int]
    lines: list[list[Spot]]
    error_px: float
    bend: float
    eye_mm: tuple[float, float, float]
    mirrored: bool
