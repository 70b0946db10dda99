"""What the service and the watch's process say to each other."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from chronarch.core.errors import CoreError
from chronarch.core.machines.model import MachineModel
from chronarch.core.watching.camera_pose import KnownPoint
from chronarch.core.watching.suspicion import FailureMode, Suspicion

Spot = tuple[float, float]
Place = tuple[float, float, float]


class NotBegun(CoreError):
    """The process does not know the build: it was started anew, or the build was looked at long ago."""


@dataclass(frozen=True)
class WatchOrder:
    """A build to be watched: its file, the machine, and how the camera sees the bed: `corners`, perhaps a point at a
    known height, and the clear bed's frame (a JPEG). `left_out` names objects that are no longer built."""

    content: Path
    model: MachineModel
    clear: bytes
    corners: tuple[Spot, ...]
    moved: dict[FailureMode, float] = field(default_factory=dict)
    left_out: tuple[str, ...] = ()
    known: KnownPoint | None = None


@dataclass(frozen=True)
class BedOrder:
    """A bed to be looked at before a start, as its camera sees it; `head_mm` is where the head's nozzle is in the clear
    bed's frame."""

    clear: bytes
    corners: tuple[Spot, ...]
    bed_mm: Spot
    head_mm: Place
    moved: dict[FailureMode, float] = field(default_factory=dict)
    known: KnownPoint | None = None


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
    """Where the bed's grid is in a picture of `size`: its `lines`, each a row of points in pixels, the last one up to
    the point at a known height if there is one; `error_px` how far the corners, and that point, miss; `bend` what was
    found of the lens's distortion; `eye_mm` where the camera stands, mm from the bed's origin; `mirrored` whether it
    shows left and right swapped."""

    size: tuple[int, int]
    lines: list[list[Spot]]
    error_px: float
    bend: float
    eye_mm: tuple[float, float, float]
    mirrored: bool
