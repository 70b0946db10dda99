"""Where a camera stands and how its lens draws."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

Floats = np.ndarray[Any, np.dtype[np.float64]]
Point = tuple[float, float, float]


@dataclass(frozen=True)
class Lens:
    """A camera at `eye_mm` that looks at `aim_mm`, upright. `focal` is its focal length in widths of the picture;
    `bend` the first radial term of its lens (r grows by bend times r³, r in focal lengths; below 0 is a barrel)."""

    eye_mm: Point
    aim_mm: Point
    focal: float = 0.9
    bend: float = 0.0
    size: tuple[int, int] = (1280, 720)

    @cached_property
    def _turn(self) -> Floats:
        """Rows: to the right, downwards, into the picture."""
        ahead = np.subtract(self.aim_mm, self.eye_mm)
        ahead = ahead / np.linalg.norm(ahead)
        right = np.cross(ahead, (0.0, 0.0, 1.0))
        right /= np.linalg.norm(right)
        return np.stack([right, np.cross(ahead, right), ahead])

    def project(self, points: Floats) -> Floats:
        """Where points (n x 3, mm) are in the picture (n x 2, pixels)."""
        seen = (np.asarray(points, np.float64) - self.eye_mm) @ self._turn.T
        flat = seen[:, :2] / np.maximum(seen[:, 2:], 1.0)
        flat *= 1 + self.bend * (flat**2).sum(1, keepdims=True)
        wide, high = self.size
        pixels: Floats = flat * self.focal * wide + (wide / 2, high / 2)
        return pixels

    def depth(self, points: Floats) -> Floats:
        """How far points (n x 3) are from the camera along its view, mm."""
        far: Floats = (np.asarray(points, np.float64) - self.eye_mm) @ self._turn[2]
        return far

    def px_per_mm(self, point: Point) -> float:
        """How many pixels a mm across the view takes at a point."""
        return self.focal * self.size[0] / float(self.depth(np.array([point]))[0])

    def corners(self, bed_mm: tuple[float, float]) -> list[tuple[float, float]]:
        """The bed's corners in the picture: origin, along x, the one opposite, along y."""
        x, y = bed_mm
        at = self.project(np.array([[0, 0, 0], [x, 0, 0], [x, y, 0], [0, y, 0]], np.float64))
        return [(round(float(u), 2), round(float(v), 2)) for u, v in at]
