"""From what is there to a frame: the light of the moment, the sensor's noise, blur, a hand in the way, JPEG."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from chronarch.standins.scene.opencv import cv2

Image = np.ndarray[Any, np.dtype[Any]]


@dataclass(frozen=True)
class Exposure:
    """`gain` of the light for red, green, blue; `slope` how much brighter the side of the lamp is (-1 to 1 across and
    down); `band` the depth of the stripes of a flickering lamp; `noise` in grey levels; `blur` in pixels; `hand` where
    a hand reaches in (share of the width and height), None without one; `covered` how much of the lens something
    covers; `knocked` how the camera was moved since its corners were marked: pixels across and down, degrees."""

    gain: tuple[float, float, float] = (1.0, 1.0, 1.0)
    slope: tuple[float, float] = (0.0, 0.0)
    band: float = 0.0
    phase: float = 0.0
    noise: float = 2.0
    blur: float = 0.6
    quality: int = 82
    hand: tuple[float, float] | None = None
    covered: float = 0.0
    knocked: tuple[float, float, float] = (0.0, 0.0, 0.0)
    seed: int = 1


_tiles: dict[int, Image] = {}


def _noise(size: tuple[int, int], seed: int) -> Image:
    """Noise of one grey level; made once, shifted for each frame."""
    if not _tiles:
        lot = np.random.default_rng(7)
        _tiles[0] = lot.normal(0, 1, (1100, 1700, 3)).astype(np.float32)
    lot = np.random.default_rng(seed)
    wide, high = size
    top, left = int(lot.integers(0, 1100 - high)), int(lot.integers(0, 1700 - wide))
    return _tiles[0][top : top + high, left : left + wide]


def expose(image: Image, how: Exposure) -> Image:
    """The frame (height x width x 3, red, green, blue) as the sensor gives it."""
    high, wide = image.shape[:2]
    if any(how.knocked):
        across, down, turned = how.knocked
        move = cv2.getRotationMatrix2D((wide / 2, high / 2), turned, 1.0)
        move[:, 2] += (across, down)
        image = cv2.warpAffine(image, move, (wide, high), borderMode=cv2.BORDER_REPLICATE)
    if how.hand is not None:
        image = _with_hand(image, how.hand)
    if how.covered:
        image = image.copy()
        reach = int(how.covered * (wide + high * 0.4))
        cv2.fillPoly(image, [np.array([(0, 0), (reach, 0), (reach - int(high * 0.4), high), (0, high)])], (58, 46, 44))
    x, y = np.linspace(-1, 1, 16), np.linspace(-1, 1, 45)
    rows = how.band * np.sin(y * 9 + how.phase)
    field = 1 + how.slope[0] * x[None, :] + how.slope[1] * y[:, None] + rows[:, None]
    light = np.clip(field, 0.02, 4)[..., None] * np.array(how.gain)
    light = cv2.resize(light.astype(np.float32), (wide, high), interpolation=cv2.INTER_LINEAR)
    lit = cv2.multiply(image, light, dtype=cv2.CV_32F)
    if how.blur > 0.3:
        lit = cv2.GaussianBlur(lit, (0, 0), how.blur)
    lit = cv2.scaleAdd(_noise((wide, high), how.seed), how.noise, lit)
    frame: Image = cv2.convertScaleAbs(np.maximum(lit, 0))
    return frame


def _with_hand(image: Image, at: tuple[float, float]) -> Image:
    """A hand and its arm, from the nearest side of the picture."""
    image = image.copy()
    high, wide = image.shape[:2]
    x, y = int(at[0] * wide), int(at[1] * high)
    size = wide // 11
    cv2.line(image, (x, y), (x + (wide if at[0] > 0.5 else -wide), y + high // 2), (92, 108, 136), size, cv2.LINE_AA)
    cv2.ellipse(image, (x, y), (size, int(size * 0.7)), 25, 0, 360, (206, 160, 132), -1, cv2.LINE_AA)
    for k in range(4):
        end = (x + int(size * (1.2 - 2.2 * (at[0] > 0.5)) * 0.9), y + (k - 2) * size // 3)
        cv2.line(image, (x, y + (k - 2) * size // 4), end, (200, 152, 124), max(3, size // 5), cv2.LINE_AA)
    return image


def as_jpeg(image: Image, quality: int = 82) -> bytes:
    """A picture (red, green, blue) as a JPEG."""
    done, data = cv2.imencode(".jpg", cv2.cvtColor(image, cv2.COLOR_RGB2BGR), [cv2.IMWRITE_JPEG_QUALITY, quality])
    assert done
    return data.tobytes()
