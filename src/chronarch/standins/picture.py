"""What cameras at a bed see: the bed, all that has been laid down so far, and the nozzle."""

from __future__ import annotations

import io
import math
import time
from typing import Literal

from PIL import Image, ImageDraw

WIDTH, HEIGHT = 640, 480
ABOVE = 4
Spot = tuple[float, float, float]
_BACK = (44, 46, 50)
_BED = (74, 77, 82)
_GRID = (86, 89, 95)
COLOURS = {
    "teal": (32, 150, 146),
    "ochre": (204, 146, 48),
    "slate": (112, 126, 144),
    "white": (224, 222, 214),
    "black": (38, 38, 40),
    "red": (190, 62, 54),
    "green": (84, 146, 76),
    "blue": (64, 104, 178),
}


View = Literal["front", "side"]
VIEWS: tuple[View, ...] = ("front", "side")
STAMP_BITS, STAMP_PX = 48, 12
"""The stamp: so many squares of so many pixels from the upper left corner on, most significant first, black for 1. They
are the time in ms since 1970, of 40 bits, and its remainder by 251, of 8."""


def stamp_of(ms: int) -> int:
    """The bits of a stamp."""
    low = ms % 2**40
    return low << 8 | low % 251


class _View:
    """One camera's canvas: the bed from the front or from the side, at a slant."""

    def __init__(self, volume_mm: tuple[float, float, float], view: View) -> None:
        self._side = view == "side"
        self._x_mm, self._y_mm = (volume_mm[1], volume_mm[0]) if self._side else (volume_mm[0], volume_mm[1])
        self._scale = min(590 / (self._x_mm + 0.45 * self._y_mm), 400 / (0.6 * self._y_mm + 40))
        self.clear()

    def at(self, spot: Spot) -> tuple[float, float]:
        """Where a spot of the bed (mm) is in the picture."""
        x, y, z = (spot[1], self._y_mm - spot[0], spot[2]) if self._side else spot
        s = self._scale
        left = (WIDTH - s * (self._x_mm + 0.45 * self._y_mm)) / 2
        return left + s * (x + 0.45 * y), HEIGHT - 52 - s * (0.6 * y + 1.2 * z)

    def clear(self) -> None:
        self.image = Image.new("RGB", (WIDTH, HEIGHT), _BACK)
        self.draw = draw = ImageDraw.Draw(self.image)
        wide, deep = (self._y_mm, self._x_mm) if self._side else (self._x_mm, self._y_mm)
        corners = [self.at((x, y, 0)) for x, y in ((0, 0), (wide, 0), (wide, deep), (0, deep))]
        draw.polygon(corners, fill=_BED)
        for mm in range(20, int(max(wide, deep)), 20):
            if mm < wide:
                draw.line([self.at((mm, 0, 0)), self.at((mm, deep, 0))], fill=_GRID)
            if mm < deep:
                draw.line([self.at((0, mm, 0)), self.at((wide, mm, 0))], fill=_GRID)


class CameraPicture:
    """Canvases on which each extruded segment is drawn once."""

    def __init__(
        self, volume_mm: tuple[float, float, float], colour: str, views: tuple[View, ...] = ("front",)
    ) -> None:
        self._x_mm, self._y_mm, _ = volume_mm
        self._colour = COLOURS.get(colour, (150, 150, 150))
        self._views = {view: _View(volume_mm, view) for view in views}
        self._laid: list[tuple[Spot, Spot]] = []
        self.segments = 0

    def clear(self) -> None:
        """The bed is empty again."""
        for view in self._views.values():
            view.clear()
        self._laid.clear()
        self.segments = 0

    def lay(self, a: Spot, b: Spot) -> None:
        """Draw one extruded segment, lit from the left."""
        angle = math.atan2(b[1] - a[1], b[0] - a[0])
        light = 0.72 + 0.2 * abs(math.sin(angle)) + 0.1 * math.sin(a[2] * 2.5)
        shade = tuple(min(255, int(c * light)) for c in self._colour)
        for view in self._views.values():
            view.draw.line([view.at(a), view.at(b)], fill=shade, width=2)
        self._laid.append((a, b))
        self.segments += 1

    def from_above(self) -> bytes:
        """All that was laid, seen from straight above, as a PNG: white on black, `ABOVE` pixels a mm."""
        size = round(self._x_mm * ABOVE), round(self._y_mm * ABOVE)
        image = Image.new("L", size, 0)
        draw = ImageDraw.Draw(image)
        for a, b in self._laid:
            ends = [(p[0] * ABOVE, size[1] - p[1] * ABOVE) for p in (a, b)]
            draw.line(ends, fill=255, width=2)
        out = io.BytesIO()
        image.save(out, "PNG")
        return out.getvalue()

    def seen(self, nozzle: Spot, view: View = "front") -> Image.Image:
        """The view now, with the nozzle at its place (mm)."""
        canvas = self._views.get(view) or self._views["front"]
        image = canvas.image.copy()
        draw = ImageDraw.Draw(image)
        x, y = canvas.at(nozzle)
        draw.polygon([(x, y), (x - 7, y - 14), (x + 7, y - 14)], fill=(196, 170, 120))
        draw.rectangle([x - 12, y - 46, x + 12, y - 14], fill=(120, 122, 126))
        return image

    def jpeg(self, nozzle: Spot, caption: str, view: View = "front", stamp: bool = False) -> bytes:
        """The same as a JPEG, with a caption; with the time of day stamped into it, if that is wanted."""
        image = self.seen(nozzle, view)
        draw = ImageDraw.Draw(image)
        draw.rectangle([0, HEIGHT - 26, WIDTH, HEIGHT], fill=(24, 25, 27))
        draw.text((12, HEIGHT - 20), caption, fill=(214, 212, 204))
        if stamp:
            bits = stamp_of(round(time.time() * 1000))
            for n in range(STAMP_BITS):
                fill = (0, 0, 0) if bits >> (STAMP_BITS - 1 - n) & 1 else (255, 255, 255)
                draw.rectangle([n * STAMP_PX, 0, (n + 1) * STAMP_PX - 1, STAMP_PX - 1], fill=fill)
        return as_jpeg(image)


def as_jpeg(image: Image.Image) -> bytes:
    out = io.BytesIO()
    image.save(out, "JPEG", quality=80)
    return out.getvalue()
