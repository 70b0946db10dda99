"""A bed that is not quite level: a plane that leans, a dent in the middle, and a probe that is a little noisy."""

from __future__ import annotations

import math
import random

POINTS = 5


class Level:
    """What the machine knows of its bed; measured anew it differs by the probe's noise."""

    def __init__(self, seed: int) -> None:
        self._random = random.Random(seed * 7919)
        self._lean = (self._random.uniform(-0.12, 0.12), self._random.uniform(-0.12, 0.12))
        self._dent = self._random.uniform(0.02, 0.09)
        self.rows: list[list[float]] = []

    def measure(self) -> None:
        """Probe every point; the bed has settled a little since the last time."""
        self._lean = (self._lean[0] + self._random.gauss(0, 0.01), self._lean[1] + self._random.gauss(0, 0.01))
        self.rows = [[self._height(x, y) for x in range(POINTS)] for y in range(POINTS)]

    def _height(self, x: int, y: int) -> float:
        u, v = 2 * x / (POINTS - 1) - 1, 2 * y / (POINTS - 1) - 1
        dent = self._dent * math.exp(-(u * u + v * v) * 2)
        return self._lean[0] * u + self._lean[1] * v - dent + self._random.gauss(0, 0.004)

    def printed(self) -> list[str]:
        """The grid as the machine prints it: column numbers, then rows, each with its number."""
        if not self.rows:
            return ["echo:no level grid is known"]
        head = "      " + "".join(f"{x:8d}" for x in range(POINTS))
        return [
            "Bed level grid:",
            head,
            *(f" {y} " + "".join(f" {h:+.3f}" for h in row) for y, row in enumerate(self.rows)),
        ]
