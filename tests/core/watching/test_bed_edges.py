"""The bed's corners are found by its edges, and nothing is found where there is none."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

from chronarch.core.watching.bed_edges import offered_corners
from chronarch.core.watching.opencv import cv2

BED_MM = (220.0, 220.0)
SEEN = [(160.0, 520.0), (700.0, 560.0), (620.0, 300.0), (260.0, 285.0)]
"""Low on the left first, then around."""


def picture(bed: int, around: int, *, grain: float = 2.0, grid: bool = True) -> Any:
    image = np.full((600, 800, 3), around, np.uint8)
    cv2.rectangle(image, (120, 20), (690, 240), (around + 30,) * 3, -1)  # a window in the wall behind
    flat = np.full((440, 440, 3), bed, np.uint8)
    for at in range(0, 440, 44) if grid else ():
        cv2.line(flat, (at, 0), (at, 440), (bed + 25,) * 3, 2)
        cv2.line(flat, (0, at), (440, at), (bed + 25,) * 3, 2)
    corners = np.array([(0, 440), (440, 440), (440, 0), (0, 0)], np.float32)
    turn = cv2.getPerspectiveTransform(corners, np.array(SEEN, np.float32))
    there = cv2.warpPerspective(np.full((440, 440), 255, np.uint8), turn, (800, 600))
    image = np.where(there[..., None] > 127, cv2.warpPerspective(flat, turn, (800, 600)), image)
    noise = np.random.default_rng(1).normal(0, grain, image.shape)
    return np.clip(image + noise, 0, 255).astype(np.uint8)


class Offered(unittest.TestCase):
    def test_a_bed_is_found_light_or_dark_plain_or_grainy(self) -> None:
        for image in (picture(120, 50), picture(40, 140), picture(150, 90, grain=12, grid=False)):
            found = offered_corners(image, BED_MM)
            assert found is not None
            for (u, v), (x, y) in zip(found, SEEN, strict=True):
                self.assertLess(max(abs(u - x), abs(v - y)), 8)

    def test_nothing_is_offered_where_nothing_is_like_a_bed(self) -> None:
        noise = np.random.default_rng(2).integers(0, 255, (480, 640, 3), np.uint8)
        dot = np.full((480, 640, 3), 90, np.uint8)
        cv2.circle(dot, (320, 240), 150, (200, 200, 200), -1)
        for image in (noise, np.zeros((480, 640, 3), np.uint8), dot):
            self.assertIsNone(offered_corners(image, BED_MM))


if __name__ == "__main__":
    unittest.main()
