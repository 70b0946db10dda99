"""What cameras at a bed see: the bed, all that has been laid down so far and what became of it, and the head."""

from __future__ import annotations

import io
import threading
import time
from functools import cache
from typing import Any, Literal, get_args

import numpy as np
from PIL import Image, ImageDraw

from chronarch.standins.scene.drawing import BedView, Surroundings
from chronarch.standins.scene.exposure import Exposure, expose
from chronarch.standins.scene.lens import Floats, Lens
from chronarch.standins.scene.matter import Failure, FailureKind, Matter

WIDTH, HEIGHT = 640, 480
ABOVE = 4
AT_ONCE = 4000
"""So many lines are drawn at once, at the latest."""
GAP_MM, SPEED_MM_S = 5.0, 45.0
"""What is nearer than this to a thing on the bed belongs to it; how fast lines are laid, about."""
Spot = tuple[float, float, float]
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
VIEWS: tuple[View, ...] = get_args(View)
STAMP_BITS, STAMP_PX = 48, 12
"""The stamp: so many squares of so many pixels from the upper left corner on, most significant first, black for 1. They
are the time in ms since 1970, of 40 bits, and its remainder by 251, of 8."""


def stamp_of(ms: int) -> int:
    """The bits of a stamp."""
    low = ms % 2**40
    return low << 8 | low % 251


@cache
def lens_of(bed_mm: tuple[float, float], view: View) -> Lens:
    """The camera that looks at a bed from the front, or from its left side."""
    x, y = bed_mm
    m = max(x, y)
    eye = (0.5 * x, -1.1 * m, 1.0 * m) if view == "front" else (-1.1 * m, 0.35 * y, 0.95 * m)
    return Lens(eye, (0.5 * x, 0.5 * y, 0.04 * m), 1.02, -0.05, (WIDTH, HEIGHT))


class CameraPicture:
    """What lies on one bed, as its cameras see it. Lines are drawn once, when somebody looks."""

    def __init__(
        self, volume_mm: tuple[float, float, float], colour: str, views: tuple[View, ...] = ("front",)
    ) -> None:
        x, y, _ = volume_mm
        self._bed_mm = x, y
        self._matter = Matter()
        look = Surroundings(bed_mm=(x, y))
        filament = COLOURS.get(colour, (150, 150, 150))
        self._views: dict[View, BedView] = {
            view: BedView(lens_of((x, y), view), look, filament, self._matter) for view in views
        }
        self._things: list[tuple[float, float, float, float]] = []
        """What is on the bed, each as its left, front, right and back, mm."""
        self._waiting: list[tuple[float, ...]] = []
        """Lines that are not drawn yet: two ends, mm, and mm of filament."""
        self._lock = threading.Lock()
        self._frames = 0
        self.segments = 0

    def clear(self) -> None:
        """The bed is empty again, and what went wrong is over."""
        with self._lock:
            self._matter.clear()
            for view in self._views.values():
                view.clear()
            self._waiting.clear()
            self._things.clear()
            self.segments = 0

    @property
    def failing(self) -> str:
        """How what lies on the bed has failed; empty when it has not."""
        return self._matter.failure.kind if self._matter.failure is not None else ""

    def fail(self, kind: FailureKind, drift_mm: tuple[float, float] = (14.0, 6.0), slow_s: float = 600.0) -> None:
        """From now on the build goes wrong: what is largest on the bed, or all of it, as the kind has it."""
        with self._lock:
            self._draw()
            whole = {thing: sum(map(len, body.lines)) for thing, body in self._matter.bodies.items()}
            one = max(whole, key=whole.__getitem__, default=-1) if kind in ("loose", "tangle", "fallen") else -1
            self._matter.fail(Failure(kind, one, drift_mm, 0.4, slow_s))

    def lay(self, a: Spot, b: Spot, filament_mm: float = 0.05) -> None:
        """The machine was made to lay one line with so much filament."""
        with self._lock:
            self._waiting.append((*a, *b, filament_mm))
            self.segments += 1
            if len(self._waiting) >= AT_ONCE:
                self._draw()

    def _thing(self, line: tuple[float, ...]) -> int:
        """Which thing on the bed a line belongs to."""
        a, c = sorted((line[0], line[3]))
        b, d = sorted((line[1], line[4]))
        for n, (left, front, right, back) in enumerate(self._things):
            if left - GAP_MM <= c and a <= right + GAP_MM and front - GAP_MM <= d and b <= back + GAP_MM:
                self._things[n] = min(left, a), min(front, b), max(right, c), max(back, d)
                return n
        self._things.append((a, b, c, d))
        return len(self._things) - 1

    def _draw(self) -> None:
        """Lay what waits, layer by layer and thing by thing."""
        waiting, self._waiting = self._waiting, []
        if not waiting:
            return
        keys = np.array([(line[2], self._thing(line)) for line in waiting])
        lines = np.array(waiting)
        for piece in np.split(np.arange(len(lines)), np.flatnonzero(np.any(np.diff(keys, axis=0), 1)) + 1):
            mine: Floats = lines[piece, :6]
            seconds = float(np.linalg.norm(mine[:, 3:] - mine[:, :3], axis=1).sum()) / SPEED_MM_S
            laid = self._matter.lay(mine, int(keys[piece[0], 1]), seconds, float(lines[piece, 6].sum()))
            for view in self._views.values():
                for fresh, wide in zip(laid, (0.62, 0.5), strict=True):
                    if view.version == self._matter.version:
                        view.draw(fresh, wide)

    def from_above(self) -> bytes:
        """All that lies on the bed, seen from straight above, as a PNG: white on black, `ABOVE` pixels a mm."""
        with self._lock:
            self._draw()
            lines = [body.all() for body in self._matter.bodies.values()] + self._matter.strings
        size = round(self._bed_mm[0] * ABOVE), round(self._bed_mm[1] * ABOVE)
        image = Image.new("L", size, 0)
        draw = ImageDraw.Draw(image)
        for a, b, _, c, d, _ in np.concatenate(lines).tolist() if lines else ():
            draw.line([(a * ABOVE, size[1] - b * ABOVE), (c * ABOVE, size[1] - d * ABOVE)], fill=255, width=2)
        out = io.BytesIO()
        image.save(out, "PNG")
        return out.getvalue()

    def seen(self, nozzle: Spot, view: View = "front") -> Image.Image:
        """The view now, with the nozzle at its place (mm)."""
        with self._lock:
            self._draw()
            canvas = self._views.get(view) or self._views["front"]
            picture: np.ndarray[Any, Any] = canvas.picture(nozzle)
            self._frames += 1
            return Image.fromarray(expose(picture, Exposure(noise=1.2, blur=0.0, seed=self._frames)))

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
