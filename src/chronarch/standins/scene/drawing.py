"""A picture of a bed, what lies on it and the head, as one camera sees it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from chronarch.standins.scene.lens import Floats, Lens, Point
from chronarch.standins.scene.matter import Matter
from chronarch.standins.scene.opencv import cv2

Image = np.ndarray[Any, np.dtype[Any]]
Colour = tuple[int, int, int]
SHIFT = 4
"""cv2 draws at sixteenths of a pixel."""
BANDS = 6
"""Lines are drawn in so many tones, by the way they run."""


@dataclass(frozen=True)
class Surroundings:
    """What a machine looks like. Colours are red, green, blue; lengths mm."""

    bed_mm: tuple[float, float] = (220.0, 220.0)
    bed: Colour = (74, 77, 82)
    marks: str = "grid"
    """What is on the bed: `grid`, `speckle` or `plain`."""
    wall: Colour = (52, 54, 58)
    frame: Colour = (96, 98, 102)
    head: Colour = (46, 48, 52)
    head_mm: tuple[float, float, float] = (46.0, 40.0, 52.0)
    nozzle: Colour = (196, 160, 96)
    light_from: Point = (-0.5, -0.35, 1.0)
    """Towards the lamp."""
    seed: int = 1


class BedView:
    """Draws what `matter` holds. What only grows is drawn once; what has moved is drawn anew."""

    def __init__(self, lens: Lens, look: Surroundings, filament: Colour, matter: Matter) -> None:
        self.lens, self.look, self.filament, self.matter = lens, look, filament, matter
        wide, high = lens.size
        self._empty = self._draw_empty()
        self._material: Image = np.zeros((high, wide, 3), np.uint8)
        self._mask: Image = np.zeros((high, wide), np.uint8)
        self._shadow: Image = np.zeros((high // 2, wide // 2), np.uint8)
        self.version = matter.version
        """Up to which change of `matter` all is drawn; later ones are drawn with the next picture."""
        self._things: list[tuple[Floats, Colour]] = []

    # The empty machine -----------------------------------------------------------------------------------------

    def _px(self, points: object) -> Image:
        at = self.lens.project(np.asarray(points, np.float64).reshape(-1, 3))
        return np.round(np.clip(at, -4000, 4000) * (1 << SHIFT)).astype(np.int32)

    def _area(self, image: Image, points: object, colour: Colour) -> None:
        cv2.fillPoly(image, [self._px(points)], colour, cv2.LINE_AA, SHIFT)

    def _edge(self, a: Point, b: Point, steps: int = 24) -> Floats:
        """Points along a straight edge, which a lens may bend."""
        return np.linspace(a, b, steps)

    def _outline(self, corners: list[Point]) -> Floats:
        return np.concatenate([self._edge(a, b) for a, b in zip(corners, [*corners[1:], corners[0]], strict=True)])

    def _draw_empty(self) -> Image:
        look, (x, y) = self.look, self.look.bed_mm
        wide, high = self.lens.size
        image = np.full((high, wide, 3), look.wall, np.uint8)
        lot = np.random.default_rng(look.seed)
        floor: Colour = tuple(int(c * 0.7) for c in look.wall)  # type: ignore[assignment]
        self._area(
            image,
            self._outline([(-160, -200, -30), (x + 160, -200, -30), (x + 160, y + 60, -30), (-160, y + 60, -30)]),
            floor,
        )
        for left in (-70.0, x + 40.0):
            post = [(left, y + 55, -30), (left + 30, y + 55, -30), (left + 30, y + 55, 330), (left, y + 55, 330)]
            self._area(image, self._outline(post), look.frame)  # type: ignore[arg-type]
        dark: Colour = tuple(int(c * 0.55) for c in look.bed)  # type: ignore[assignment]
        self._area(image, self._outline([(-3, -3, -5), (x + 3, -3, -5), (x + 3, y + 3, -5), (-3, y + 3, -5)]), dark)
        self._area(image, self._outline([(0, 0, 0), (x, 0, 0), (x, y, 0), (0, y, 0)]), look.bed)
        bed_mask = np.zeros((high, wide), np.uint8)
        cv2.fillPoly(bed_mask, [self._px(self._outline([(0, 0, 0), (x, 0, 0), (x, y, 0), (0, y, 0)]))], 255, 0, SHIFT)
        if look.marks == "speckle":
            rough = cv2.GaussianBlur(lot.normal(0, 26, (high, wide)).astype(np.float32), (0, 0), 1.2)
            image = np.where(bed_mask[..., None] > 0, np.clip(image + rough[..., None], 0, 255), image).astype(np.uint8)
        if look.marks == "grid":
            light: Colour = tuple(min(255, int(c * 1.18) + 4) for c in look.bed)  # type: ignore[assignment]
            for mm in range(20, int(max(x, y)), 20):
                for a, b in (((mm, 0, 0), (mm, y, 0)), ((0, mm, 0), (x, mm, 0))):
                    if mm < (x if a[0] else y):
                        cv2.polylines(image, [self._px(self._edge(a, b))], False, light, 1, cv2.LINE_AA, SHIFT)
        for at in (0.18, 0.82):
            clip = [(x * at - 8, -4, 1), (x * at + 8, -4, 1), (x * at + 8, 5, 1), (x * at - 8, 5, 1)]
            self._area(image, clip, look.frame)
        return image

    # What was laid -----------------------------------------------------------------------------------------------

    def add_thing(self, corners: Floats, colour: Colour) -> None:
        """Something that is not printed lies on the bed: a flat thing with these corners (n x 3)."""
        self._things.append((corners, colour))

    def draw(self, lines: Floats, wide_mm: float = 0.62) -> None:
        """Draw lines (n x 6, mm) over what is there."""
        if not len(lines):
            return
        a, b = self._px(lines[:, :3]), self._px(lines[:, 3:])
        middle = tuple(lines.reshape(-1, 3).mean(0).tolist())
        scale = self.lens.px_per_mm(middle)
        thick = max(1, round(wide_mm * scale))
        below = lines - np.array([0, 0, 0.3, 0, 0, 0.3])
        c, d = self._px(below[:, :3]), self._px(below[:, 3:])
        way = lines[:, 3:5] - lines[:, :2]
        angle = np.arctan2(way[:, 1], way[:, 0])
        lamp = np.arctan2(self.look.light_from[1], self.look.light_from[0])
        across = np.abs(np.sin(angle - lamp))
        band = np.minimum((across * BANDS).astype(int), BANDS - 1)
        layer = 0.05 * np.sin(lines[0, 2] * 9.0)
        for k in range(BANDS):
            mine = band == k
            if not mine.any():
                continue
            tone = 0.84 + 0.2 * k / (BANDS - 1) + layer
            for p, q, shade in ((c, d, 0.68), (a, b, 1.0)):
                colour = tuple(int(min(255, v * tone * shade)) for v in self.filament)
                ways = list(np.stack([p[mine], q[mine]], 1))
                cv2.polylines(self._material, ways, False, colour, thick, cv2.LINE_AA, SHIFT)
                cv2.polylines(self._mask, ways, False, 255, thick, cv2.LINE_AA, SHIFT)
        self._cast(lines, thick)

    def _cast(self, lines: Floats, thick: int) -> None:
        """The shadow of lines on the bed."""
        lx, ly, lz = self.look.light_from
        some = lines[:: max(1, len(lines) // 400)]
        ends = some.reshape(-1, 3).copy()
        ends[:, 0] -= ends[:, 2] * lx / lz
        ends[:, 1] -= ends[:, 2] * ly / lz
        ends[:, 2] = 0
        at = (self._px(ends) // 2).reshape(-1, 2, 2)
        cv2.polylines(self._shadow, list(at), False, 255, max(1, thick), cv2.LINE_8, SHIFT)

    def clear(self) -> None:
        """`matter` has been cleared: nothing lies on the bed."""
        for canvas in (self._material, self._mask, self._shadow):
            canvas[:] = 0
        self._things.clear()
        self.version = self.matter.version

    def _renew(self) -> None:
        """Draw everything again, the far before the near."""
        for canvas in (self._material, self._mask, self._shadow):
            canvas[:] = 0
        whole = [body.all() for body in self.matter.bodies.values()]
        middles = [lines.reshape(-1, 3).mean(0) if len(lines) else np.zeros(3) for lines in whole]
        for n in sorted(range(len(whole)), key=lambda n: -float(self.lens.depth(middles[n][None])[0])):
            lines = whole[n]
            order = np.argsort(-self.lens.depth(lines[:, :3]) - lines[:, 2] * 1.5, kind="stable")
            for piece in np.array_split(lines[order], max(1, len(lines) // 600)):
                self.draw(piece)
        for lines in self.matter.strings:
            self.draw(lines, 0.5)
        self.version = self.matter.version

    # The picture ---------------------------------------------------------------------------------------------------

    def picture(self, head: Point | None) -> Image:
        """What is there now (height x width x 3, red, green, blue), with the nozzle's tip at a place."""
        if self.matter.version != self.version:
            self._renew()
        wide, high = self.lens.size
        image = self._empty.copy()
        for corners, colour in self._things:
            self._area(image, corners, colour)
        if self.matter.bodies or self.matter.strings:
            soft = cv2.GaussianBlur(self._shadow, (0, 0), 3.0)
            soft = cv2.resize(soft, (wide, high), interpolation=cv2.INTER_LINEAR)
            left = cv2.merge([cv2.subtract(255, cv2.multiply(soft, 0.42))] * 3)
            image = cv2.multiply(image, left, scale=1 / 255)
            cv2.copyTo(self._material, self._mask, image)
        if head is not None:
            self._draw_head(image, head)
        return image

    def _box(self, image: Image, low: Point, high: Point, colour: Colour) -> None:
        """A box, its faces lit from above: the outline of all, then the faces towards the camera."""
        (a, b, c), (d, e, f) = low, high
        eye = self.lens.eye_mm
        front = b if eye[1] < b else e
        side = a if eye[0] < (a + d) / 2 else d
        faces = [
            ([(a, front, c), (d, front, c), (d, front, f), (a, front, f)], 1.0),
            ([(side, b, c), (side, e, c), (side, e, f), (side, b, f)], 0.78),
            ([(a, b, f if eye[2] > f else c), (d, b, f if eye[2] > f else c), (d, e, f if eye[2] > f else c), (a, e, f if eye[2] > f else c)], 1.25 if eye[2] > f else 0.5),  # noqa: E501
        ]  # fmt: skip
        for points, light in sorted(faces, key=lambda face: -float(self.lens.depth(np.array(face[0])).mean())):
            self._area(image, points, tuple(min(255, int(v * light)) for v in colour))  # type: ignore[arg-type]

    def _draw_head(self, image: Image, at: Point) -> None:
        x, y, z = at
        wide, deep, tall = self.look.head_mm
        bed_x = self.look.bed_mm[0]
        self._box(image, (-60, y + deep / 2, z + 34), (bed_x + 60, y + deep / 2 + 22, z + 58), self.look.frame)
        self._box(
            image, (x - wide / 2, y - deep / 2, z + 12), (x + wide / 2, y + deep / 2, z + 12 + tall), self.look.head
        )
        self._box(image, (x - 10, y - 9, z + 4), (x + 10, y + 9, z + 13), (150, 150, 152))
        tip = [(x - 0.5, y, z), (x + 0.5, y, z), (x + 3.5, y, z + 4), (x - 3.5, y, z + 4)]
        self._area(image, tip, self.look.nozzle)
        if self.matter.blob_mm3 > 3:
            radius = (self.matter.blob_mm3 * 0.239) ** (1 / 3) * 1.15
            centre = self._px([(x, y, z + radius * 0.5)])[0]
            scale = self.lens.px_per_mm(at)
            for share, tone in ((1.0, 0.66), (0.8, 0.85), (0.5, 1.05)):
                colour = tuple(min(255, int(v * tone)) for v in self.filament)
                r = int(radius * share * scale * (1 << SHIFT))
                middle = (int(centre[0] - (1 - share) * r * 0.5), int(centre[1] - (1 - share) * r * 0.5))
                cv2.circle(image, middle, r, colour, -1, cv2.LINE_AA, SHIFT)
