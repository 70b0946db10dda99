"""Outlines of small parts, and the toolpaths that fill them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

Point = tuple[float, float]
Loop = list[Point]


class Outline(Protocol):
    """A closed curve around the origin that can be drawn smaller or larger; mm."""

    def loop(self, inset: float) -> Loop: ...


@dataclass(frozen=True)
class Ellipse:
    """Half axes a and b."""

    a: float
    b: float

    def loop(self, inset: float) -> Loop:
        a, b = max(self.a - inset, 0.05), max(self.b - inset, 0.05)
        n = max(16, int(2 * math.pi * max(a, b) / 2.0))
        return [(a * math.cos(2 * math.pi * i / n), b * math.sin(2 * math.pi * i / n)) for i in range(n)]


@dataclass(frozen=True)
class RoundedBox:
    """Width w, depth h, corner radius r."""

    w: float
    h: float
    r: float

    def loop(self, inset: float) -> Loop:
        w, h, r = self.w / 2 - inset, self.h / 2 - inset, max(self.r - inset, 0.2)
        corners = ((w - r, h - r, 0), (r - w, h - r, 1), (r - w, r - h, 2), (w - r, r - h, 3))
        points: Loop = []
        for cx, cy, quarter in corners:
            for i in range(5):
                angle = math.pi / 2 * (quarter + i / 4)
                points.append((cx + r * math.cos(angle), cy + r * math.sin(angle)))
        return points


@dataclass(frozen=True)
class Slice:
    """A part's cross-section: an outer outline and holes, each at an offset from the middle."""

    outer: Outline
    holes: Sequence[tuple[Point, Outline]] = ()

    def walls(self, inset: float) -> list[Loop]:
        """The outlines, drawn `inset` mm inside the material."""
        moved = [[(x + dx, y + dy) for x, y in hole.loop(-inset)] for (dx, dy), hole in self.holes]
        return [self.outer.loop(inset), *moved]


def hatch(loops: list[Loop], spacing: float, angle: float) -> list[tuple[Point, Point]]:
    """Parallel lines inside loops (even-odd rule), `spacing` mm apart, turned by `angle` rad, end to end."""
    c, s = math.cos(-angle), math.sin(-angle)
    turned = [[(x * c - y * s, x * s + y * c) for x, y in loop] for loop in loops]
    ys = [y for loop in turned for _, y in loop]
    lines: list[tuple[Point, Point]] = []
    y, flip = min(ys) + spacing / 2, False
    while y < max(ys):
        crossings = sorted(
            x1 + (y - y1) * (x2 - x1) / (y2 - y1)
            for loop in turned
            for (x1, y1), (x2, y2) in zip(loop, loop[1:] + loop[:1], strict=True)
            if (y1 <= y) != (y2 <= y)
        )
        pairs = list(zip(crossings[::2], crossings[1::2], strict=False))
        for left, right in reversed(pairs) if flip else pairs:
            if right - left > 0.4:
                a, b = ((right, y), (left, y)) if flip else ((left, y), (right, y))
                lines.append((_turn(a, angle), _turn(b, angle)))
        y, flip = y + spacing, not flip
    return lines


def _turn(p: Point, angle: float) -> Point:
    c, s = math.cos(angle), math.sin(angle)
    return p[0] * c - p[1] * s, p[0] * s + p[1] * c
