"""What a camera over the bed sees: the bed, all that has been laid down so far, and the nozzle."""

from __future__ import annotations

import io
import math

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


class CameraPicture:
    """A canvas on which each extruded segment is drawn once, seen from the front at a slant."""

    def __init__(self, volume_mm: tuple[float, float, float], colour: str) -> None:
        self._x_mm, self._y_mm, _ = volume_mm
        self._scale = min(590 / (self._x_mm + 0.45 * self._y_mm), 400 / (0.6 * self._y_mm + 40))
        self._colour = COLOURS.get(colour, (150, 150, 150))
        self._image = self._empty()
        self._draw = ImageDraw.Draw(self._image)
        self._laid: list[tuple[Spot, Spot]] = []
        self.segments = 0

    def _at(self, x: float, y: float, z: float) -> tuple[float, float]:
        s = self._scale
        left = (WIDTH - s * (self._x_mm + 0.45 * self._y_mm)) / 2
        return left + s * (x + 0.45 * y), HEIGHT - 52 - s * (0.6 * y + 1.2 * z)

    def _empty(self) -> Image.Image:
        image = Image.new("RGB", (WIDTH, HEIGHT), _BACK)
        draw = ImageDraw.Draw(image)
        corners = [self._at(x, y, 0) for x, y in ((0, 0), (self._x_mm, 0), (self._x_mm, self._y_mm), (0, self._y_mm))]
        draw.polygon(corners, fill=_BED)
        for mm in range(20, int(max(self._x_mm, self._y_mm)), 20):
            if mm < self._x_mm:
                draw.line([self._at(mm, 0, 0), self._at(mm, self._y_mm, 0)], fill=_GRID)
            if mm < self._y_mm:
                draw.line([self._at(0, mm, 0), self._at(self._x_mm, mm, 0)], fill=_GRID)
        return image

    def clear(self) -> None:
        """The bed is empty again."""
        self._image = self._empty()
        self._draw = ImageDraw.Draw(self._image)
        self._laid.clear()
        self.segments = 0

    def lay(self, a: tuple[float, float, float], b: tuple[float, float, float]) -> None:
        """Draw one extruded segment, lit from the left."""
        angle = math.atan2(b[1] - a[1], b[0] - a[0])
        light = 0.72 + 0.2 * abs(math.sin(angle)) + 0.1 * math.sin(a[2] * 2.5)
        shade = tuple(min(255, int(c * light)) for c in self._colour)
        self._draw.line([self._at(*a), self._at(*b)], fill=shade, width=2)
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

    def jpeg(self, nozzle: tuple[float, float, float], caption: str) -> bytes:
        """The view now, as a JPEG, with the nozzle at its place (mm)."""
        image = self._image.copy()
        draw = ImageDraw.Draw(image)
        x, y = self._at(*nozzle)
        draw.polygon([(x, y), (x - 7, y - 14), (x + 7, y - 14)], fill=(196, 170, 120))
        draw.rectangle([x - 12, y - 46, x + 12, y - 14], fill=(120, 122, 126))
        draw.rectangle([0, HEIGHT - 26, WIDTH, HEIGHT], fill=(24, 25, 27))
        draw.text((12, HEIGHT - 20), caption, fill=(214, 212, 204))
        out = io.BytesIO()
        image.save(out, "JPEG", quality=80)
        return out.getvalue()
