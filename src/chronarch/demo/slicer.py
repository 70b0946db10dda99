"""A small generator of real toolpaths: layers, walls, infill, travel, several objects on a bed, each marked."""

from __future__ import annotations

import base64
import io
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from PIL import Image, ImageDraw

from chronarch.demo.shapes import Loop, Point, Slice, hatch

LAYER_MM = 0.24
WIDTH_MM = 0.45
FILAMENT_MM2 = math.pi / 4 * 1.75**2
WALL_S, FILL_S, TRAVEL_S, FIRST_S = 45, 70, 140, 22


@dataclass(frozen=True)
class DemoPart:
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
        self.kind = ""
        self.seconds = 0.0

    def feature(self, kind: str) -> Iterator[str]:
        if kind != self.kind:
            self.kind = kind
            yield f";TYPE:{kind}"

    def travel(self, to: Point) -> Iterator[str]:
        far = math.dist(self.at, to) > 3
        if far:
            self.e -= 0.8
            yield f"G1 E{self.e:.5f} F2400"
        yield f"G0 X{to[0]:.3f} Y{to[1]:.3f} F{TRAVEL_S * 60}"
        if far:
            self.e += 0.8
            yield f"G1 E{self.e:.5f} F2400"
        self.seconds += math.dist(self.at, to) / TRAVEL_S
        self.at = to

    def extrude(self, to: Point, layer_mm: float, feed: int) -> str:
        self.e += math.dist(self.at, to) * layer_mm * WIDTH_MM / FILAMENT_MM2
        self.seconds += math.dist(self.at, to) / feed
        self.at = to
        return f"G1 X{to[0]:.3f} Y{to[1]:.3f} E{self.e:.5f} F{feed * 60}"


def slice_part(part: DemoPart, nozzle_mm: float = 0.4, material: str = "PLA", model: str = "") -> Iterator[str]:
    """The part's G-code, a line at a time, without line ends; `model` is written into it as what it was sliced for."""
    layers = max(2, round(part.height_mm / LAYER_MM))
    yield f"; {part.name}: {len(part.spots)} on the bed, {layers} layers of {LAYER_MM} mm"
    yield from (f"; material = {material}", f"; nozzle diameter = {nozzle_mm}", f"; layer height = {LAYER_MM}")
    if model:
        yield f"; machine model = {model}"
    yield from _picture(part)
    yield f"M486 T{len(part.spots)}"
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
        for number, spot in enumerate(part.spots):
            yield f"M486 S{number}"
            if n == 0:
                yield f'M486 A"{part.name} {number + 1}"'
            yield from _object(w, part.section(z), spot, n, solid, part)
        yield "M486 S-1"
    yield from ("M107", f"G1 Z{LAYER_MM * layers + 10:.3f} F600", "M104 S0", "M140 S0", "G1 X5 Y200 F6000", "M84")
    yield f"; estimated printing time = {w.seconds // 60:.0f}m {w.seconds % 60:.0f}s"


def _object(w: _Writer, section: Slice, spot: Point, n: int, solid: bool, part: DemoPart) -> Iterator[str]:
    first = n == 0
    yield from w.feature("wall")
    for wall in range(part.walls):
        for loop in section.walls(WIDTH_MM * (wall + 0.5)):
            yield from _loop(w, [(x + spot[0], y + spot[1]) for x, y in loop], FIRST_S if first else WALL_S)
    inner = section.walls(WIDTH_MM * (part.walls + 0.3))
    spacing = WIDTH_MM * 1.02 if solid else part.sparse
    yield from w.feature("solid infill" if solid else "infill")
    for a, b in hatch(inner, spacing, math.pi / 4 * (1 if n % 2 else -1)):
        start, end = (a[0] + spot[0], a[1] + spot[1]), (b[0] + spot[0], b[1] + spot[1])
        yield from w.travel(start)
        yield w.extrude(end, LAYER_MM, FIRST_S if first else FILL_S)


def _loop(w: _Writer, points: Loop, feed: int) -> Iterator[str]:
    yield from w.travel(points[0])
    for point in [*points[1:], points[0]]:
        yield w.extrude(point, LAYER_MM, feed)


PICTURE_PX = 160


def _picture(part: DemoPart) -> Iterator[str]:
    """The part from above as a PNG in base64 comments: its sections, low ones dark, high ones light."""
    outlines = [part.section(part.height_mm * k / 6).walls(0) for k in range(7)]
    reach = max(max(abs(x), abs(y)) for loops in outlines for loop in loops for x, y in loop) * 1.15
    image = Image.new("RGBA", (PICTURE_PX * 2, PICTURE_PX * 2), (0, 0, 0, 0))
    draw = ImageDraw.Draw(image)

    def pixels(loop: Loop) -> list[Point]:
        return [(PICTURE_PX * (1 + x / reach), PICTURE_PX * (1 - y / reach)) for x, y in loop]

    for k, (outer, *holes) in enumerate(outlines):
        tone = 96 + 18 * k
        draw.polygon(pixels(outer), fill=(tone - 30, tone, tone - 8, 255), outline=(40, 60, 54, 255))
        for hole in holes:
            draw.polygon(pixels(hole), fill=(0, 0, 0, 0), outline=(40, 60, 54, 255))
    data = io.BytesIO()
    image.resize((PICTURE_PX, PICTURE_PX), Image.Resampling.LANCZOS).save(data, "PNG", optimize=True)
    text = base64.b64encode(data.getvalue()).decode()
    yield f"; thumbnail begin {PICTURE_PX}x{PICTURE_PX} {len(text)}"
    yield from (f"; {text[at : at + 76]}" for at in range(0, len(text), 76))
    yield "; thumbnail end"
