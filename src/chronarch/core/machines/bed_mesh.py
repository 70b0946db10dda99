"""How level a bed is: reading the grid that a machine prints, and its figures."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from statistics import fmean, pstdev

_ROW = re.compile(r"^\s*(\d+)?\s*((?:\s*[-+]?\d*\.\d+){2,})\s*$")
_NUMBER = re.compile(r"[-+]?\d*\.\d+")
LARGEST = 64


@dataclass(frozen=True)
class BedMesh:
    """Heights in mm above the mean plane's zero: rows from front to back, each from left to right."""

    rows: tuple[tuple[float, ...], ...]

    @property
    def range_mm(self) -> float:
        """From the lowest to the highest point."""
        heights = [h for row in self.rows for h in row]
        return max(heights) - min(heights)

    @property
    def mean_mm(self) -> float:
        return fmean(h for row in self.rows for h in row)

    @property
    def deviation_mm(self) -> float:
        """The standard deviation of all heights."""
        return pstdev(h for row in self.rows for h in row)


FURTHEST_MM = 1000.0
"""No bed is this far from level; larger numbers are noise."""


def read_level_map(lines: Iterable[str]) -> BedMesh | None:
    """The grid in what a machine said; None when there is none, or its rows differ in length. A row may begin with its
    number; a line of column numbers is passed over. Rows come in the order of their numbers, y rising."""
    rows: list[tuple[int, tuple[float, ...]]] = []
    for line in lines:
        text = line.removeprefix("echo:").strip()
        found = _ROW.match(text)
        if found:
            number = int(found[1]) if found[1] else len(rows)
            rows.append((number, tuple(float(n) for n in _NUMBER.findall(found[2]))))
    rows.sort(key=lambda row: row[0])
    heights = tuple(row for _, row in rows)
    if any(not abs(h) < FURTHEST_MM for row in heights for h in row):
        return None
    if len(heights) < 2 or len({len(row) for row in heights}) != 1 or len(heights) > LARGEST:
        return None
    return BedMesh(heights)
