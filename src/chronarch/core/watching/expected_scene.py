"""What a camera must see of a build: each object's laid material, layer by layer, projected into the picture."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from chronarch.core.gcode.analysis import Analysis
from chronarch.core.gcode.drawing import AROUND_MM
from chronarch.core.gcode.kernel_layout import EXTRUDE, Bytes
from chronarch.core.gcode.layers import layer_moves
from chronarch.core.machines.model import MachineModel
from chronarch.core.watching.camera_pose import CameraPose, Floats
from chronarch.core.watching.opencv import cv2

Image = np.ndarray[Any, np.dtype[Any]]
CELL_MM = 0.5
ROUND_MM = 12.0
"""The grid on which layers are drawn reaches this far around the bed."""
LINE_MM, GAP_MM = 0.6, 5.0
"""How wide a laid line is drawn; gaps up to this, as sparse infill leaves them, count as material."""
OTHER = 255
"""The owner of what belongs to no object: skirts, brims apart, priming lines."""
MOST_OBJECTS = 200
BEAM_END_MM = 60.0
HeadBox = tuple[tuple[float, float], tuple[float, float], tuple[float, float]]
HEAD_BOXES_MM: tuple[HeadBox, ...] = (
    ((-28, 28), (-28, 28), (11, 75)),
    ((-14, 14), (-14, 14), (3, 12)),
    ((-4, 4), (-4, 4), (0, 4)),
)
BEAM_BOX_MM: HeadBox = ((-1000, 1000), (4, 44), (28, 62))
BEAM = 128
"""What a head may fill about its nozzle's tip, in x, y and z: its body, the hot end, the nozzle; and the beam that
carries it, which ends `BEAM_END_MM` beside the bed. `BEAM` is the beam's value in a mask."""
CORE_MM: HeadBox = ((-14, 14), (-12, 12), (12, 50))
"""What of that is surely full."""
STEP_MM = 8.0
"""Places of the head that are nearer than this are taken for one."""
BUFFERED = 16
"""So many moves that the machine has taken it may not have made yet."""


@dataclass(frozen=True)
class Sight:
    """A picture's size and pose that all is projected into."""

    pose: CameraPose
    bed_mm: tuple[float, float]

    @property
    def shape(self) -> tuple[int, int]:
        wide, high = self.pose.size
        return high, wide

    def from_grid(self, z_mm: float) -> Floats:
        """The homography from cells of the grid at a height to pixels."""
        to_mm = np.array([[CELL_MM, 0, CELL_MM / 2 - ROUND_MM], [0, CELL_MM, CELL_MM / 2 - ROUND_MM], [0, 0, 1]])
        found: Floats = self.pose.plane(z_mm) @ to_mm
        return found

    def grid(self) -> tuple[int, int]:
        """The grid's rows and columns."""
        x, y = self.bed_mm
        return round((y + 2 * ROUND_MM) / CELL_MM), round((x + 2 * ROUND_MM) / CELL_MM)

    def hull(self, points: Floats) -> Image:
        """The pixels within the outline of points (n x 3, mm), 255 inside."""
        mask = np.zeros(self.shape, np.uint8)
        at = np.clip(self.pose.project(points, bent=False), -30000, 30000)
        cv2.fillConvexPoly(mask, cv2.convexHull(np.round(at).astype(np.int32)), 255)
        return mask

    def box(self, low: Sequence[float], high: Sequence[float]) -> Image:
        """The pixels that a box may cover, 255 inside."""
        mask = np.zeros(self.shape, np.uint8)
        self.fill(mask, low, high)
        return mask

    def fill(self, mask: Image, low: Sequence[float], high: Sequence[float]) -> None:
        """Set the pixels that a box may cover to 255."""
        (a, b, c), (d, e, f) = low, high
        corners = np.array([(x, y, z) for x in (a, d) for y in (b, e) for z in (c, f)], np.float64)
        at = np.clip(self.pose.project(corners, bent=False), -30000, 30000)
        cv2.fillConvexPoly(mask, cv2.convexHull(np.round(at).astype(np.int32)), 255)

    def fill_head(self, mask: Image, nozzle: Floats, box: HeadBox) -> None:
        """Set the pixels that a box about the nozzle's tip (mm) may cover to 255; beside the bed it ends."""
        (left, right), (near, far), (below, above) = box
        x, y, z = nozzle.tolist()
        low, high = max(x + left, -BEAM_END_MM), min(x + right, self.bed_mm[0] + BEAM_END_MM)
        self.fill(mask, (low, y + near, z + below), (high, y + far, z + above))

    def heads(self, nozzles: Floats) -> Image:
        """What a head at any of these places (n x 3, mm) may hide, 255, and the beam that carries it, BEAM; 0
        elsewhere."""
        mask, beam = np.zeros(self.shape, np.uint8), np.zeros(self.shape, np.uint8)
        for nozzle in nozzles:
            self.fill_head(beam, nozzle, BEAM_BOX_MM)
            for box in HEAD_BOXES_MM:
                self.fill_head(mask, nozzle, box)
        mask[(beam > 0) & (mask == 0)] = BEAM
        return mask

    def mm2_per_px(self, u: float, v: float) -> float:
        """How much of the bed's plane a pixel shows."""
        back = np.linalg.inv(self.pose.plane(0.0))
        spots = back @ np.array([[u, v, 1], [u + 1, v, 1], [u, v + 1, 1]], np.float64).T
        (ax, ay), (bx, by), (cx, cy) = (spots[:2] / spots[2]).T
        return float(abs((bx - ax) * (cy - ay) - (cx - ax) * (by - ay)))


class ExpectedScene:
    """What is laid once so many commands are taken. `advance` goes on from where it was.

    `owner` (height x width) is whose material each pixel shows: 1 and up an object of the analysis, OTHER, 0 none;
    `first` the layer with which a pixel became material, 0 for none; `top` the layer that it shows now.
    """

    def __init__(self, data: Bytes, analysis: Analysis, model: MachineModel, sight: Sight) -> None:
        self.sight, self.analysis = sight, analysis
        self._data, self._model = data, model
        self.owner: Image = np.zeros(sight.shape, np.uint8)
        self.first: Image = np.zeros(sight.shape, np.int32)
        self.top: Image = np.zeros(sight.shape, np.int32)
        self._near: Image = np.full(sight.shape, np.inf, np.float32)
        self.layer = 0
        """The layer that is being laid, or the last one."""
        self.z_mm = 0.0
        self.plans: dict[int, Image] = {}
        """By layer: the owners of the grid's cells, of the last layers."""
        self._drawn = 0
        self._path: Floats = np.zeros((0, 3))
        self._commands: Image = np.zeros(0, np.int64)
        self._rings = None if analysis.spans.names else self._footprints()

    def _footprints(self) -> Image:
        """Where a file names no objects: whose footprint each cell belongs to."""
        grid = np.zeros(self.sight.grid(), np.uint8)
        for n, one in enumerate(self.analysis.objects[:MOST_OBJECTS], 1):
            if len(one.outline) > 2:
                cells = np.round((np.array(one.outline) + ROUND_MM) / CELL_MM).astype(np.int32)
                cv2.fillPoly(grid, [cells], n)
        size = 2 * round(AROUND_MM / CELL_MM) + 1
        reached: Image = cv2.dilate(grid, np.ones((size, size), np.uint8))
        return reached

    @property
    def objects(self) -> int:
        return min(len(self.analysis.spans.names) or len(self.analysis.objects), MOST_OBJECTS)

    def name(self, number: int) -> str:
        """What an object is called; its number counts from 1."""
        names = self.analysis.spans.names or tuple(o.name for o in self.analysis.objects)
        return names[number - 1] if 0 < number <= len(names) else ""

    def advance(self, taken: int) -> None:
        """So many commands are taken now. Fewer than before changes nothing."""
        layer = self.analysis.plan.layer_at(taken)
        while self._drawn < layer:
            self._drawn += 1
            self._lay(self._drawn)
        self.layer = max(self.layer, layer)
        if self.analysis.layers and self.layer:
            self.z_mm = self.analysis.layers[self.layer - 1].z_mm

    def _lay(self, number: int) -> None:
        found = layer_moves(self._data, self.analysis.index, number, self._model)
        moves = found.moves
        ends = np.stack([moves["x"], moves["y"], moves["z"]], 1).astype(np.float64)
        begins = np.concatenate([[found.start], ends[:-1]]) if len(ends) else ends
        laid = moves["kind"] == EXTRUDE
        owners = self.analysis.spans.of_lines(moves["line"].astype(np.int64)) + 1
        self._path, self._commands = (
            np.concatenate([self._path[-BUFFERED:], ends]),
            np.concatenate([self._commands[-BUFFERED:], moves["command"].astype(np.int64)]),
        )
        if not laid.any():
            return
        z = self.analysis.layers[number - 1].z_mm
        self._project(self._cells(begins[laid], ends[laid], owners[laid]), z, number)

    def _cells(self, begins: Floats, ends: Floats, owners: Image) -> Image:
        """One layer on the grid: the owner of each cell."""
        grid = np.zeros(self.sight.grid(), np.uint8)
        wide = max(1, round(LINE_MM / CELL_MM))
        gap = max(3, round(GAP_MM / CELL_MM) | 1)
        closing = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (gap, gap))
        limit = grid.shape[0] + grid.shape[1]
        both = np.clip((np.stack([begins[:, :2], ends[:, :2]], 1) + ROUND_MM) / CELL_MM, -limit, 2 * limit)
        lines = np.round(both * 16 - 8).astype(np.int32)
        for owner in np.unique(owners):
            mine = lines[owners == owner]
            low = np.maximum(mine.reshape(-1, 2).min(0) // 16 - gap - wide, 0)
            high = np.minimum(mine.reshape(-1, 2).max(0) // 16 + gap + wide + 2, grid.shape[::-1])
            if (high - low < 1).any():
                continue
            drawn = np.zeros((high - low)[::-1], np.uint8)
            cv2.polylines(drawn, list(mine - low * 16), False, 1, wide, cv2.LINE_8, 4)
            if owner or self._rings is not None:
                drawn = cv2.morphologyEx(drawn, cv2.MORPH_CLOSE, closing)
            number = OTHER if owner == 0 or owner > MOST_OBJECTS else int(owner)
            grid[low[1] : high[1], low[0] : high[0]][drawn > 0] = number
        if self._rings is not None:
            grid[(grid > 0) & (self._rings > 0)] = self._rings[(grid > 0) & (self._rings > 0)]
        return grid

    def _project(self, cells: Image, z: float, number: int) -> None:
        self.plans[number] = cells
        for old in [n for n in self.plans if n < number - 3]:
            del self.plans[old]
        wide, high = self.sight.pose.size
        mapped = self.sight.from_grid(z)
        seen = cv2.warpPerspective(cells, mapped, (wide, high), flags=cv2.INTER_NEAREST)
        rows, columns = np.nonzero(seen)
        if not len(rows):
            return
        back = np.linalg.inv(self.sight.pose.plane(z)) @ np.stack([columns, rows, np.ones(len(rows))])
        far = self.sight.pose.depth_row(z) @ np.stack([back[0] / back[2], back[1] / back[2], np.ones(len(rows))])
        nearer = far <= self._near[rows, columns] + 0.01
        rows, columns, far = rows[nearer], columns[nearer], far[nearer]
        self._near[rows, columns] = far
        self.owner[rows, columns] = seen[rows, columns]
        self.top[rows, columns] = number
        fresh = self.first[rows, columns] == 0
        self.first[rows[fresh], columns[fresh]] = number

    # The head ----------------------------------------------------------------------------------------------------

    def head_places(self, taken: int) -> Floats:
        """Where the nozzle may be (n x 3, mm): the moves that the machine may be making."""
        k = int(np.searchsorted(self._commands, taken, "right"))
        return self._path[max(0, k - BUFFERED) : max(1, k + 1)]

    def head(self, taken: int, unlike: Image | None = None) -> Image:
        """What the head and its nozzle may hide, 255, and what the beam that carries them may, BEAM; 0 elsewhere. With
        `unlike` (above 0 where a frame is unlike the clear bed) only those places count at which most of a head is
        seen."""
        places = self.head_places(taken)
        if not len(places):
            return np.zeros(self.sight.shape, np.uint8)
        some = _apart(places)
        if unlike is not None and len(some) > 1:
            some = some[self._seems_there(some, unlike)]
        return self.sight.heads(some)

    def _seems_there(self, places: Floats, unlike: Image) -> Image:
        """At which places a head seems to be: where what is unlike the bed, and no material, fills its outline."""
        seen = ((unlike > 0) & (self.first == 0)).astype(np.uint8)
        could = (self.first == 0).astype(np.uint8)
        shares = np.zeros(len(places))
        for k, place in enumerate(places):
            mask = np.zeros(self.sight.shape, np.uint8)
            self.sight.fill_head(mask, place, CORE_MM)
            shares[k] = float((mask & (seen * 255) > 0).sum()) / max(1, int((mask & (could * 255) > 0).sum()))
        best = shares.max()
        return shares >= max(0.8 * best, best - 0.15) if best > 0.5 else np.ones(len(places), bool)

    def zone(self) -> Image:
        """Where in the picture what the machine lays can be: over the bed, up to a little above the nozzle."""
        x, y = self.sight.bed_mm
        return self.sight.box((0, 0, 0), (x, y, self.z_mm + 6))


def _apart(places: Floats) -> Floats:
    """Places along a path that are some way apart, and its ends; between far ones, places on the way."""
    found = [places[0]]
    for a, b in pairwise(places):
        far = float(np.linalg.norm(b - a))
        if far > STEP_MM:
            n = min(8, int(far / (2 * STEP_MM)) + 1)
            found += [a + (b - a) * k / n for k in range(1, n + 1)]
        elif np.linalg.norm(b - found[-1]) > STEP_MM:
            found.append(b)
    return np.array([*found, places[-1]])
