"""Pictures of a file: one layer on its bed seen from above, or the whole part seen from a corner; as SVG or PNG."""

from __future__ import annotations

import io
import math
from dataclasses import dataclass
from html import escape

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from chronarch.core.gcode import kernel_layout as s
from chronarch.core.gcode.contents import PrintedObject
from chronarch.core.gcode.kernel_layout import Bytes, Floats
from chronarch.core.gcode.layers import Index, LayerMoves, layer_moves
from chronarch.core.machines.model import MachineModel

PAPER, SHEET, RULE, INK, FADED = "#f6f3ea", "#fdfbf5", "#dcd5c3", "#1e2226", "#5d6064"
LAID, LAID_LIGHT, TRAVEL = "#23715f", "#8fc3b3", "#c9b98d"
MOST_LINES = 60_000
MARGIN = 26
AROUND_MM = 8.0
"""Material that overhangs an object's first layers by less than this is drawn with it."""


@dataclass(frozen=True)
class Strokes:
    """Lines (n x 4: x0, y0, x1, y1, in pixels) of one colour and width."""

    lines: Floats
    colour: str
    width: float


@dataclass(frozen=True)
class Scene:
    """A drawing in pixels: filled outlines below, strokes over them, then text."""

    width: int
    height: int
    fills: tuple[tuple[Floats, str, str], ...]
    strokes: tuple[Strokes, ...]
    texts: tuple[tuple[float, float, str, str], ...]

    def svg(self) -> str:
        """As an SVG 1.1 document."""
        out = [
            f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {self.width} {self.height}" '
            f'width="{self.width}" height="{self.height}" font-family="sans-serif" font-size="13">',
            f'<rect width="{self.width}" height="{self.height}" fill="{PAPER}"/>',
        ]
        for points, fill, edge in self.fills:
            corners = " ".join(f"{x:.1f},{y:.1f}" for x, y in points.tolist())
            out.append(f'<polygon points="{corners}" fill="{fill}" stroke="{edge}"/>')
        for stroke in self.strokes:
            way = _path(stroke.lines)
            look = f'fill="none" stroke="{stroke.colour}" stroke-width="{stroke.width:g}" stroke-linecap="round"'
            out.append(f'<path d="{way}" {look}/>')
        for x, y, colour, words in self.texts:
            out.append(f'<text x="{x:.0f}" y="{y:.0f}" fill="{colour}">{escape(words)}</text>')
        return "\n".join([*out, "</svg>\n"])

    def png(self) -> bytes:
        """As a PNG, drawn at twice its size and brought down."""
        image = Image.new("RGB", (self.width * 2, self.height * 2), PAPER)
        draw = ImageDraw.Draw(image)
        for points, fill, edge in self.fills:
            draw.polygon(
                [(x * 2, y * 2) for x, y in points.tolist()],
                fill=None if fill == "none" else fill,
                outline=edge,
                width=2,
            )
        for stroke in self.strokes:
            width = max(1, round(stroke.width * 2))
            for x0, y0, x1, y1 in (stroke.lines * 2).tolist():
                draw.line((x0, y0, x1, y1), fill=stroke.colour, width=width)
        font = ImageFont.load_default(26)
        for x, y, colour, words in self.texts:
            draw.text((x * 2, y * 2 - 24), words, fill=colour, font=font)
        data = io.BytesIO()
        image.resize((self.width, self.height), Image.Resampling.LANCZOS).save(data, "PNG", optimize=True)
        return data.getvalue()


def _path(lines: Floats) -> str:
    parts = []
    end: tuple[float, float] | None = None
    for x0, y0, x1, y1 in np.round(lines, 1).tolist():
        if (x0, y0) != end:
            parts.append(f"M{x0:g} {y0:g}")
        parts.append(f"L{x1:g} {y1:g}")
        end = (x1, y1)
    return "".join(parts)


def laid_lines(found: LayerMoves, kind: int = s.EXTRUDE) -> Floats:
    """The lines of one kind of move in a layer: n x 6, both ends in mm."""
    moves = found.moves
    ends = np.stack([moves["x"], moves["y"], moves["z"]], 1).astype(np.float64)
    begins = np.concatenate([[found.start], ends[:-1]]) if len(ends) else ends
    lines: Floats = np.concatenate([begins, ends], 1)[moves["kind"] == kind]
    return lines


def layer_scene(
    found: LayerMoves, model: MachineModel, objects: tuple[PrintedObject, ...], title: str, width: int = 900
) -> Scene:
    """One layer from above, the machine's front at the bottom."""
    wide, deep = model.volume_mm[0], model.volume_mm[1]
    scale = (width - 2 * MARGIN) / wide
    height = round(deep * scale) + 2 * MARGIN + 30

    def at(points: Floats) -> Floats:
        flat = points.reshape(-1, 2)
        return np.stack([MARGIN + flat[:, 0] * scale, MARGIN + (deep - flat[:, 1]) * scale], 1)

    bed = at(np.array([[0, 0], [wide, 0], [wide, deep], [0, deep]], np.float64))
    grid = [[x, 0, x, deep] for x in np.arange(50, wide, 50)] + [[0, y, wide, y] for y in np.arange(50, deep, 50)]
    outlines = tuple((at(np.array(o.outline)), "none", FADED) for o in objects if len(o.outline) > 2)

    def drawn(kind: int) -> Floats:
        lines = laid_lines(found, kind)[:, [0, 1, 3, 4]]
        return at(lines).reshape(-1, 4)

    texts = (
        (MARGIN, height - 14.0, INK, title),
        (width - MARGIN - 200.0, height - 14.0, FADED, f"bed {wide:g} x {deep:g} mm, grid 50 mm"),
    )
    return Scene(
        width,
        height,
        ((bed, SHEET, RULE), *outlines),
        (
            Strokes(at(np.array(grid, np.float64)).reshape(-1, 4) if grid else np.zeros((0, 4)), RULE, 0.5),
            Strokes(drawn(s.TRAVEL)[:MOST_LINES], TRAVEL, 0.6),
            Strokes(drawn(s.EXTRUDE)[:MOST_LINES], LAID, max(0.8, 0.4 * scale)),
        ),
        texts,
    )


def sampled_lines(data: Bytes, index: Index, model: MachineModel, most: int) -> tuple[Floats, Floats]:
    """What is laid, as lines (n x 6, mm) with the number of their layer: every layer, or
    every second, third and so on when all would be more than about `most` lines."""
    step = max(1, math.ceil(len(data) / 34 / most))
    layers = sorted({*range(1, index.layers + 1, step), index.layers}) if index.layers else []
    lines, numbers = [], []
    for layer in layers:
        found = laid_lines(layer_moves(data, index, layer, model))
        lines.append(found)
        numbers.append(np.full(len(found), layer, np.float64))
    if not lines:
        return np.zeros((0, 6)), np.zeros(0)
    return np.concatenate(lines), np.concatenate(numbers)


def part_scene(
    data: Bytes,
    index: Index,
    model: MachineModel,
    title: str,
    objects: tuple[PrintedObject, ...] = (),
    width: int = 900,
    height: int = 640,
) -> Scene:
    """What is laid of the objects (all of it without any), seen from the front right corner at 30°, low layers dark."""
    lines, numbers = sampled_lines(data, index, model, MOST_LINES)
    corners = np.array([p for o in objects for p in o.outline])
    if len(corners) and len(lines):
        low, high = corners.min(0) - AROUND_MM, corners.max(0) + AROUND_MM
        near = ((lines[:, :2] >= low) & (lines[:, :2] <= high) & (lines[:, 3:5] >= low) & (lines[:, 3:5] <= high)).all(
            1
        )
        lines, numbers = lines[near], numbers[near]
    if not len(lines):
        return Scene(width, height, (), (), ((MARGIN, 40.0, FADED, "Nothing is laid."),))
    rise, turn = math.radians(30), math.radians(-35)
    c, si = math.cos(turn), math.sin(turn)

    def flat(points: Floats) -> Floats:
        x, y, z = points[:, 0], points[:, 1], points[:, 2]
        across, away = x * c - y * si, x * si + y * c
        return np.stack([across, -(z * math.cos(rise) + away * math.sin(rise))], 1)

    both = flat(lines.reshape(-1, 3))
    low, high = both.min(0), both.max(0)
    scale = min((width - 2 * MARGIN) / max(high[0] - low[0], 1), (height - 2 * MARGIN - 30) / max(high[1] - low[1], 1))
    middle = (low + high) / 2
    pixels = ((both - middle) * scale + np.array([width / 2, (height - 30) / 2])).reshape(-1, 4)
    share = numbers / max(numbers.max(), 1)
    bands = 16
    strokes = tuple(
        Strokes(pixels[(share > k / bands) & (share <= (k + 1) / bands)], _mix(k / (bands - 1)), max(0.7, 0.4 * scale))
        for k in range(bands)
    )
    return Scene(width, height, (), strokes, ((MARGIN, height - 14.0, INK, title),))


def _mix(share: float) -> str:
    """From the dark tone of what is laid to the light one."""
    a, b = (np.array([int(tone[k : k + 2], 16) for k in (1, 3, 5)]) for tone in ("#17493e", LAID_LIGHT))
    return "#" + "".join(f"{round(v):02x}" for v in (a + (b - a) * share).tolist())
