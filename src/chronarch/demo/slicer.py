"""A small generator of real toolpaths: layers, walls, infill, travel, several objects on a bed."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from chronarch.demo.shapes import Loop, Point, Slice, hatch

LAYER_MM = 0.24
WIDTH_MM = 0.45
FILAMENT_MM2 = math.pi / 4 * 1.75**2
WALL_S, FILL_S, TRAVEL_S, FIRST_S = 45, 70, 140, 22


@dataclass(frozen=True)
class Part:
    """A thing the demo shop makes. `section` gives the cross-section at a height (mm); `sparse` the spacing of infill
    (mm); `spots` where its objects stand on the bed (mm)."""

    name: str
    height_mm: float
    section: Callable[[float], Slice]
    spots: tuple[Point, ...]
    sparse: float = 3.0
    walls: int = 2
    nozzle_c: int = 205
    bed_c: int = 60


class _Writer:
    def __init__(self) -> None:
        self.e = 0.0
        self.at: Point = (0.0, 0.0)

    def travel(self, to: Point) -> Iterator[str]:
        far = math.dist(self.at, to) > 3
        if far:
            self.e -= 0.8
            yield f"G1 E{self.e:.5f} F2400"
        yield f"G0 X{to[0]:.3f} Y{to[1]:.3f} F{TRAVEL_S * 60}"
        if far:
            self.e += 0.8
            yield f"G1 E{self.e:.5f} F2400"
        self.at = to

    def extrude(self, to: Point, layer_mm: float, feed: int) -> str:
        self.e += math.dist(self.at, to) * layer_mm * WIDTH_MM / FILAMENT_MM2
        self.at = to
        return f"G1 X{to[0]:.3f} Y{to[1]:.3f} E{self.e:.5f} F{feed * 60}"


def slice_part(part: Part, nozzle_mm: float = 0.4, material: str = "PLA") -> Iterator[str]:
    """The part's G-code, a line at a time, without line ends."""
    layers = max(2, round(part.height_mm / LAYER_MM))
    yield f"; {part.name}: {len(part.spots)} on the bed, {layers} layers of {LAYER_MM} mm"
    yield f"; material {material}, nozzle {nozzle_mm} mm"
    yield from ("G21", "G90", "M82", f"M140 S{part.bed_c}", f"M104 S{part.nozzle_c}", "G28")
    yield from (f"M190 S{part.bed_c}", f"M109 S{part.nozzle_c}", "G92 E0")
    yield from (f"G1 Z{LAYER_MM} F600", "G1 X4 Y8 F6000", "G1 X4 Y70 E5 F1200 ; prime line", "G92 E0")
    w = _Writer()
    w.at = (4, 70)
    for n in range(layers):
        z = LAYER_MM * (n + 1)
        yield f"; layer {n + 1} of {layers}"
        yield f"G1 Z{z:.3f} F600"
        if n == 1:
            yield "M106 S200"
        solid = n < 3 or n >= layers - 3
        for spot in part.spots:
            yield from _object(w, part.section(z), spot, n, solid, part)
    yield from ("M107", f"G1 Z{LAYER_MM * layers + 10:.3f} F600", "M104 S0", "M140 S0", "G1 X5 Y200 F6000", "M84")


def _object(w: _Writer, section: Slice, spot: Point, n: int, solid: bool, part: Part) -> Iterator[str]:
    first = n == 0
    for wall in range(part.walls):
        for loop in section.walls(WIDTH_MM * (wall + 0.5)):
            yield from _loop(w, [(x + spot[0], y + spot[1]) for x, y in loop], FIRST_S if first else WALL_S)
    inner = section.walls(WIDTH_MM * (part.walls + 0.3))
    spacing = WIDTH_MM * 1.02 if solid else part.sparse
    for a, b in hatch(inner, spacing, math.pi / 4 * (1 if n % 2 else -1)):
        start, end = (a[0] + spot[0], a[1] + spot[1]), (b[0] + spot[0], b[1] + spot[1])
        yield from w.travel(start)
        yield w.extrude(end, LAYER_MM, FIRST_S if first else FILL_S)


def _loop(w: _Writer, points: Loop, feed: int) -> Iterator[str]:
    yield from w.travel(points[0])
    for point in [*points[1:], points[0]]:
        yield w.extrude(point, LAYER_MM, feed)
