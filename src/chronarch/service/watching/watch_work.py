"""What the watch's own process does: hold what each watched build has shown so far, and look at frames. Only it loads
OpenCV and the compiled kernel."""

from __future__ import annotations

import mmap
import os
import time
from collections import OrderedDict
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from chronarch.core.gcode.analysis import Analysis, analyse
from chronarch.core.gcode.kernel_layout import Bytes
from chronarch.core.gcode.reader import as_bytes
from chronarch.core.machines.model import MachineModel
from chronarch.core.watching.bed_check import BedCheck
from chronarch.core.watching.bed_edges import offered_corners
from chronarch.core.watching.build_watch import BuildWatch, CameraView, decode
from chronarch.core.watching.camera_pose import CameraPose, Floats, KnownPoint, Spot, find_bend, find_pose
from chronarch.core.watching.frame_quality import WORDS
from chronarch.core.watching.judgement import Judge
from chronarch.core.watching.learned import LEARNED
from chronarch.service.watching.watch_messages import BedGrid, BedOrder, Looked, NotBegun, Place, WatchOrder

MOST = 200
"""Builds that are held at once; the one that was looked at longest ago goes first."""
MOST_FILES = 40
STEPS = 10
"""The grid that is drawn over a picture has so many fields along each side of the bed."""
AFTER_OTHERS = 10
"""Its nice value: lines, pictures and people come first, and it does not starve."""


@dataclass
class _Held:
    watch: BuildWatch
    left_out: tuple[str, ...]


_held: OrderedDict[str, _Held] = OrderedDict()
_beds: OrderedDict[str, BedCheck] = OrderedDict()
_read: OrderedDict[tuple[Path, MachineModel], tuple[Bytes, Analysis]] = OrderedDict()


def enter() -> None:
    """Called when the process starts: most else on this computer comes first."""
    os.nice(AFTER_OTHERS)


def begin(key: str, order: WatchOrder) -> None:
    """Begin to watch a build. Raises PoseUnclear, ValueError, NotGcode, OSError."""
    x, y, _ = order.model.volume_mm
    view = CameraView.of(order.clear, order.corners, (x, y), known=order.known)
    data, analysis = _file(order.content, order.model)
    watch = BuildWatch(view, data, analysis, order.model, Judge(LEARNED, order.moved))
    _held[key] = _Held(watch, order.left_out)
    _held.move_to_end(key)
    while len(_held) > MOST:
        _held.popitem(last=False)


def _file(path: Path, model: MachineModel) -> tuple[Bytes, Analysis]:
    found = _read.get((path, model))
    if found is None:
        with path.open("rb") as source:
            data = as_bytes(memoryview(mmap.mmap(source.fileno(), 0, access=mmap.ACCESS_READ)))
        found = _read[path, model] = data, analyse(data, model)
        while len(_read) > MOST_FILES:
            _read.popitem(last=False)
    return found


def look(key: str, jpeg: bytes, taken: int, at_s: float) -> Looked:
    """Look at one frame of a build, taken at a time (s, rising), when the machine had taken so many commands. Raises
    NotBegun, and ValueError for a frame that cannot be read."""
    held = _held.get(key)
    if held is None:
        raise NotBegun(f"{key} is not watched")
    _held.move_to_end(key)
    begin_s = time.process_time()
    seen = held.watch.look(jpeg, taken, at_s)
    cost_s = time.process_time() - begin_s
    found = tuple(one for one in seen.suspicions if one.object not in held.left_out)
    return Looked(WORDS[seen.unjudged] if seen.unjudged else "", found, len(held.watch.names), cost_s)


def begin_bed(key: str, order: BedOrder) -> None:
    """Begin to look at a bed before a start. Raises PoseUnclear, ValueError."""
    view = CameraView.of(order.clear, order.corners, order.bed_mm, known=order.known)
    _beds[key] = BedCheck(view, order.head_mm, Judge(LEARNED, order.moved))
    while len(_beds) > MOST:
        _beds.popitem(last=False)


def look_at_bed(key: str, jpeg: bytes, head_mm: Place) -> Looked:
    """Look at one frame of a bed, with the head's nozzle at a place. Raises NotBegun, and ValueError for a frame that
    cannot be read."""
    check = _beds.get(key)
    if check is None:
        raise NotBegun(f"{key} is not looked at")
    begin_s = time.process_time()
    seen = check.look(jpeg, head_mm)
    unjudged = WORDS[seen.unjudged] if seen.unjudged else ""
    return Looked(unjudged, seen.suspicions, 0, time.process_time() - begin_s)


def end(key: str) -> None:
    """The build, or the looking at a bed, is over."""
    _held.pop(key, None)
    _beds.pop(key, None)


def grid(jpeg: bytes, corners: tuple[Spot, ...], bed_mm: Spot, known: KnownPoint | None) -> BedGrid:
    """Check corners in a picture, and perhaps a point at a known height. Raises PoseUnclear, ValueError."""
    image = decode(jpeg)
    size = image.shape[1], image.shape[0]
    bend = find_bend(image[..., 1], corners, bed_mm)
    pose = find_pose(corners, bed_mm, size, bend=bend, known=known)
    x, y, z = pose.eye_mm.tolist()
    lines = _lines(pose, bed_mm)
    if known is not None:
        lines.append(_drawn(pose, np.array([(*known.at_mm[:2], 0.0), known.at_mm])))
    return BedGrid(size, lines, pose.error_px, bend, (x, y, z), pose.mirrored)


def offer(jpeg: bytes, bed_mm: Spot) -> list[Spot] | None:
    """Where the bed's corners may be in a picture. Raises ValueError."""
    return offered_corners(decode(jpeg), bed_mm)


def _lines(pose: CameraPose, bed_mm: Spot) -> list[list[Spot]]:
    x, y = bed_mm
    along = np.linspace(0, 1, 2 * STEPS + 1)
    ways = []
    for k in np.linspace(0, 1, STEPS + 1):
        ways.append(np.stack([np.full_like(along, k * x), along * y, 0 * along], 1))
        ways.append(np.stack([along * x, np.full_like(along, k * y), 0 * along], 1))
    return [_drawn(pose, way) for way in ways]


def _drawn(pose: CameraPose, way: Floats) -> list[Spot]:
    return [(round(float(u), 1), round(float(v), 1)) for u, v in pose.project(way)]
