"""Where a camera stands, from the four corners of the bed in one frame.

The camera is a pinhole whose centre is the middle of the picture, with square pixels and one radial term of distortion.
For a focal length f the pose follows from the corners (perspective-n-point); f itself is the one for which the four
corners fit best, and, where one is known, a point at a known height. Four corners alone tell f poorly when the camera
looks straight down, so an ordinary lens is preferred a little.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from chronarch.core.watching.opencv import cv2

Floats = np.ndarray[Any, np.dtype[np.float64]]
Image = np.ndarray[Any, np.dtype[Any]]
Spot = tuple[float, float]

USUAL_FOCAL, FOCAL_SPREAD, SURENESS = 0.85, 0.5, 12.0
"""Of the width of the picture: the focal length that is preferred, how far (as a logarithm) others usually are from it;
and how much a squared pixel of error counts against that, for clicks that are right to a pixel or so."""
FOCAL_RANGE = (0.4, 3.0)
LARGEST_BEND = 0.3
LARGEST_ERROR = 0.02
"""By how much of the picture's width a corner may miss before the four are not believed."""
EDGE_POINTS, EDGE_REACH = 48, 0.012


class PoseUnclear(ValueError):
    """The four corners cannot be those of the bed; the text says why and what to do."""


@dataclass(frozen=True)
class CameraPose:
    """`turn` (3 x 3) and `shift_mm` (3) bring the machine's coordinates to the camera's: right, down, ahead. `focal_px`
    and `size` (width, height) are pixels; `bend` is the radial term; `error_px` how far the corners miss (root mean
    square); `mirrored` whether the picture shows left and right swapped; `cut` what was cut off the picture's left and
    top, pixels."""

    focal_px: float
    turn: Floats
    shift_mm: Floats
    size: tuple[int, int]
    bend: float = 0.0
    error_px: float = 0.0
    mirrored: bool = False
    cut: tuple[int, int] = (0, 0)
    whole: tuple[int, int] | None = None

    @property
    def middle(self) -> Floats:
        """Where the lens's axis meets the picture, pixels."""
        return np.array(self.whole or self.size, np.float64) / 2 - self.cut

    def project(self, points: Floats, *, bent: bool = True) -> Floats:
        """Where points (n x 3, mm) are in the picture (n x 2, pixels); `bent` as the lens draws them."""
        seen = np.asarray(points, np.float64) @ self.turn.T + self.shift_mm
        flat: Floats = seen[:, :2] / np.maximum(seen[:, 2:], 1.0)
        if bent and self.bend:
            flat = flat * (1 + self.bend * (flat**2).sum(1, keepdims=True))
        if self.mirrored:
            flat = flat * (-1, 1)
        pixels: Floats = flat * self.focal_px + self.middle
        return pixels

    def plane(self, z_mm: float) -> Floats:
        """The homography (3 x 3) from the plane at a height (x, y in mm) to the picture without distortion."""
        k = np.array(
            [
                [self.focal_px * (-1 if self.mirrored else 1), 0, self.middle[0]],
                [0, self.focal_px, self.middle[1]],
                [0, 0, 1],
            ]
        )
        flat: Floats = k @ np.stack([self.turn[:, 0], self.turn[:, 1], self.turn[:, 2] * z_mm + self.shift_mm], 1)
        return flat

    def depth_row(self, z_mm: float) -> Floats:
        """What gives the distance along the view of (x, y, 1) in the plane at a height."""
        row: Floats = np.array([self.turn[2, 0], self.turn[2, 1], self.turn[2, 2] * z_mm + self.shift_mm[2]])
        return row

    @property
    def eye_mm(self) -> Floats:
        """Where the camera is."""
        eye: Floats = -self.turn.T @ self.shift_mm
        return eye

    def scaled(self, size: tuple[int, int]) -> CameraPose:
        """The same camera with pictures of another size."""
        return replace(
            self,
            focal_px=self.focal_px * size[0] / self.size[0],
            size=size,
            error_px=self.error_px * size[0] / self.size[0],
        )

    def cropped(self, box: tuple[int, int, int, int]) -> CameraPose:
        """The same camera of whose picture a part is looked at: left, top, width, height."""
        left, top, wide, high = box
        cut = self.cut[0] + left, self.cut[1] + top
        return replace(self, size=(wide, high), cut=cut, whole=self.whole or self.size)

    def straightening(self, times: float = 1.0) -> tuple[Image, Image] | None:
        """The maps (for cv2.remap) that take the distortion out of a picture that is so many times as large as this
        one; None where there is none."""
        if not self.bend:
            return None
        if times not in self._maps:
            self._maps.clear()
            self._maps[times] = self._make_maps(times)
        return self._maps[times]

    @cached_property
    def _maps(self) -> dict[float, tuple[Image, Image]]:
        return {}

    def _make_maps(self, times: float) -> tuple[Image, Image]:
        wide, high = self.size
        x, y = np.meshgrid(np.arange(wide), np.arange(high))
        flat = (np.stack([x, y], -1) - self.middle) / self.focal_px
        bent = flat * (1 + self.bend * (flat**2).sum(-1, keepdims=True)) * self.focal_px + self.middle
        bent = (bent + 0.5) * times - 0.5
        first, second = cv2.convertMaps(bent.astype(np.float32), None, cv2.CV_16SC2)
        return first, second


@dataclass(frozen=True)
class KnownPoint:
    """A point of the machine (mm) that was found in the picture (pixels)."""

    at_mm: tuple[float, float, float]
    seen_px: Spot


def find_pose(
    corners: Sequence[Spot], bed_mm: Spot, size: tuple[int, int], *, bend: float = 0.0, known: KnownPoint | None = None
) -> CameraPose:
    """The pose for corners in pixels: the bed's origin, along x, opposite, along y. Raises PoseUnclear."""
    seen = np.asarray(corners, np.float64)
    _check(seen, size)
    mirrored = _turns(seen) > 0  # y grows downwards: seen from above, the corners run counter-clockwise
    middle = np.array(size, np.float64) / 2
    x, y = bed_mm
    bed = np.array([[0, 0, 0], [x, 0, 0], [x, y, 0], [0, y, 0]], np.float64)
    points, pixels = bed, seen
    if known is not None:
        points, pixels = np.vstack([bed, known.at_mm]), np.vstack([seen, known.seen_px])

    def fitted(focal: float) -> tuple[float, CameraPose | None]:
        focal_px = focal * size[0]
        flat = (pixels - middle) / focal_px
        if mirrored:
            flat = flat * (-1, 1)
        flat = straight(flat, bend)
        done, turned, shift = cv2.solvePnP(
            points, flat[:, None], np.eye(3), None, flags=cv2.SOLVEPNP_IPPE if known is None else cv2.SOLVEPNP_SQPNP
        )
        if not done:
            return math.inf, None
        turn = np.asarray(cv2.Rodrigues(turned)[0], np.float64)
        pose = CameraPose(focal_px, turn, np.asarray(shift, np.float64).ravel(), size, bend, 0.0, mirrored)
        if not np.isfinite(pose.shift_mm).all() or pose.eye_mm[2] <= 0:
            return math.inf, None
        miss = pose.project(points) - pixels
        error = float(np.sqrt((miss**2).sum(1).mean()))
        return SURENESS * error**2 + (math.log(focal / USUAL_FOCAL) / FOCAL_SPREAD) ** 2, replace(pose, error_px=error)

    tried = np.geomspace(*FOCAL_RANGE, 40)
    costs = [fitted(f)[0] for f in tried]
    k = int(np.argmin(costs))
    fine = np.geomspace(tried[max(0, k - 1)], tried[min(39, k + 1)], 25)
    best = min((fitted(f) for f in fine), key=lambda found: found[0])[1]
    if best is None:
        raise PoseUnclear("No camera could see the bed's corners there; click the four corners in order again.")
    if best.error_px > LARGEST_ERROR * size[0]:
        if known is not None and find_pose(corners, bed_mm, size, bend=bend).error_px < best.error_px / 2:
            raise PoseUnclear("The nozzle's tip does not fit the corners: mark its very tip again, or leave it out.")
        raise PoseUnclear(
            f"The corners miss by {best.error_px:.0f} px: click the bed's four corners again, in order, and check that "
            f"the machine's bed is {x:g} x {y:g} mm."
        )
    return best


def straight(flat: Floats, bend: float) -> Floats:
    """Points as a lens without distortion would draw them: r_bent = r (1 + bend r²), solved for r by iteration."""
    found = flat
    for _ in range(8 if bend else 0):
        found = flat / (1 + bend * (found**2).sum(1, keepdims=True))
    return found


def _turns(seen: Floats) -> float:
    """Twice the area that the corners go around; above 0 clockwise as one sees them."""
    x, y = seen.T
    return float((x * np.roll(y, -1) - y * np.roll(x, -1)).sum())


def _check(seen: Floats, size: tuple[int, int]) -> None:
    if seen.shape != (4, 2) or not np.isfinite(seen).all():
        raise PoseUnclear(f"Four corners are wanted, each as x and y in pixels; there are {len(seen)}.")
    sides = np.roll(seen, -1, 0) - seen
    bends = sides[:, 0] * np.roll(sides[:, 1], -1) - sides[:, 1] * np.roll(sides[:, 0], -1)
    if not ((bends > 0).all() or (bends < 0).all()):
        raise PoseUnclear("The corners cross over: click them in order around the bed.")
    if abs(_turns(seen)) / 2 < 0.01 * size[0] * size[1]:
        raise PoseUnclear("The bed is too small in the picture: its corners cover less than 1 % of it.")
    if (np.abs(seen - np.array(size) / 2) > 1.5 * max(size)).any():
        raise PoseUnclear("A corner is far outside the picture.")


def find_bend(grey: Image, corners: Sequence[Spot], bed_mm: Spot) -> float:
    """The lens's radial term from the edges of the bed, which are straight: the one that makes them so. 0 where they
    cannot be seen."""
    size = (grey.shape[1], grey.shape[0])
    edges = [edge for edge in _edges(grey, np.asarray(corners, np.float64)) if edge is not None]
    if len(edges) < 2:
        return 0.0
    focal_px = find_pose(corners, bed_mm, size).focal_px
    middle = np.array(size) / 2

    def bowed(bend: float) -> float:
        total = 0.0
        for edge in edges:
            flat = straight((edge - middle) / focal_px, bend)
            along = flat[-1] - flat[0]
            across = np.array([-along[1], along[0]]) / np.linalg.norm(along)
            off = (flat - flat.mean(0)) @ across
            t = np.linspace(-1, 1, len(off))
            bow = float(np.polyfit(t, off, 2)[0]) * focal_px
            total += min(abs(bow), 4.0)
        return total

    tried = np.linspace(-LARGEST_BEND, LARGEST_BEND, 61)
    costs = [bowed(b) for b in tried]
    best = int(np.argmin(costs))
    return float(tried[best]) if costs[best] < bowed(0.0) - 0.4 else 0.0


def _edges(grey: Image, seen: Floats) -> list[Floats | None]:
    """Points along each side of the bed where the picture changes most across it; None where that is unclear."""
    smooth = cv2.GaussianBlur(grey.astype(np.float32), (0, 0), 1.2)
    reach = EDGE_REACH * grey.shape[1]
    steps = np.arange(-reach, reach + 0.5, 0.5)
    found: list[Floats | None] = []
    for a, b in zip(seen, np.roll(seen, -1, 0), strict=True):
        along = (b - a) / np.linalg.norm(b - a)
        across = np.array([-along[1], along[0]])
        base = a + np.linspace(0.06, 0.94, EDGE_POINTS)[:, None] * (b - a)
        places = (base[:, None] + steps[None, :, None] * across).astype(np.float32)
        lines = cv2.remap(smooth, places[..., 0], places[..., 1], cv2.INTER_LINEAR)
        slope = np.abs(lines[:, 2:] - lines[:, :-2])
        peak = slope.argmax(1)
        off = steps[1:-1][peak]
        t = np.linspace(-1, 1, EDGE_POINTS)
        good = slope.max(1) > 3.0 * np.median(slope)
        fit = np.zeros(3)
        for _ in range(4):
            if good.sum() < EDGE_POINTS // 2:
                break
            fit = np.polyfit(t[good], off[good], 2)
            good = (np.abs(off - np.polyval(fit, t)) < 1.5) & (slope.max(1) > 3.0 * np.median(slope))
        found.append(base + np.polyval(fit, t)[:, None] * across if good.sum() >= EDGE_POINTS // 2 else None)
    return found
