"""How a frame differs from the clear bed's frame, in a colour space that light does not upset.

Each pixel is three logarithms: brightness, and two ratios of colours. Light multiplies what a surface gives back, so in
this space it only adds: one number a channel for the lamp, and a slow field for where it stands. Both are taken from
what should be bare bed, and taken off. What is left is noise, shadow (darker, same colour), or something that was not
there.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from chronarch.core.watching.opencv import cv2

Image = np.ndarray[Any, np.dtype[Any]]
Floats = np.ndarray[Any, np.dtype[np.float64]]

FLOOR = 6.0
"""Grey levels added before the logarithm, so that black is not minus infinity."""
LIGHTER, DARKER, COLOURED = 0.10, 0.24, 0.035
"""How far a bare surface may be from what is expected of it, as logarithms: shadows make it darker."""
SHADED, TINTED = 0.30, 0.06
"""How far material may be from its usual brightness and colour: its faces have many tones."""
SLOPE_CLIP = 0.3
MOST = 30.0
ORDINARY = 6.0
"""What one in twenty of the bare surface exceeds (chi-square, two degrees); where it exceeds more, as in coarse JPEGs
of a dark room, everything counts less."""
MOST_OVER = 3.0
SMOOTH_EVERY = 8
FINE_PX, TEXTURED, FINER = 11, 0.1, 1.5
"""What changes within so many pixels is texture; a bed that has some keeps it less exactly by this share; and so much
less than by its colour a surface is told by it."""


def channels(image: Image) -> Image:
    """Brightness and two colour ratios (height x width x 3, float32) of a picture (blue, green, red, 8 bit)."""
    logs = cv2.log(cv2.add(image.astype(np.float32), (FLOOR, FLOOR, FLOOR, 0)))
    blue, green, red = cv2.split(logs)
    ratios = (cv2.blur(red - green, (5, 5)), cv2.blur(blue - green, (5, 5)))  # JPEG keeps colour at half the detail
    found: Image = cv2.merge([(blue + green + red) / 3, *ratios])
    return found


def noise_of(image: Image) -> float:
    """The noise of a picture (8 bit) in grey levels: the median absolute deviation of what a median filter takes
    away."""
    green = image[..., 1]
    off = green.astype(np.int16) - cv2.medianBlur(green, 3)
    return max(0.6, 1.48 * float(np.median(np.abs(off))) + 0.35 * float(np.abs(off).mean()))


@dataclass
class MaterialLook:
    """What the laid material looks like under the clear frame's light: its mean in the three channels; `sure` is how
    many frames it was learned from."""

    mean: Floats
    sure: float = 0.0

    def learn(self, seen: Floats) -> None:
        """Take in what it looks like in one more frame."""
        share = 1 / min(12.0, self.sure + 1)
        self.mean = self.mean + share * (seen - self.mean)
        self.sure += 1


@dataclass(frozen=True)
class Lit:
    """A frame under the clear frame's light, per pixel: its `channels`; the variance of its noise in them, `grain`; and
    `bare`, the squared distance from the bare surface in standard deviations (0 to MOST), by colour; `fine` the same
    where texture counts too, which tells a surface of the bed's colour and, less surely, the edge of a shadow."""

    channels: Image
    grain: Image
    bare: Image
    fine: Image

    def like(self, material: MaterialLook) -> Image:
        """The squared distance from the material in standard deviations, 0 to MOST."""
        m = material.mean.astype(np.float32)
        light, *colours = cv2.split(self.channels)
        found: Image = cv2.divide((light - m[0]) ** 2, SHADED**2 + self.grain)
        far = (colours[0] - m[1]) ** 2 + (colours[1] - m[2]) ** 2
        found += cv2.divide(far, TINTED**2 + 3 * self.grain)
        return np.minimum(found, MOST, out=found)


@dataclass(frozen=True)
class Compared:
    """A frame against the clear bed and the material, per pixel: squared distances from the `bare` surface and from
    what is `like` the material; and `material`, how much rather material than bare surface, as a logarithm of odds, -4
    to 4."""

    bare: Image
    like: Image
    material: Image

    @classmethod
    def of(cls, lit: Lit, material: MaterialLook | None, *, faint: bool = False) -> Compared:
        """`faint`: the material has nearly the bed's colour."""
        bare = lit.fine if faint else lit.bare
        like = np.full_like(bare, MOST) if material is None else lit.like(material)
        return cls(bare, like, np.clip((bare - like) / 2, -4, 4))


class ClearBed:
    """The frame of the clear bed, which others are compared with."""

    def __init__(self, image: Image) -> None:
        self.channels = channels(cv2.GaussianBlur(image, (3, 3), 0))
        self._level = image.astype(np.float32).mean(2) + FLOOR
        self._texture = _texture(self.channels[..., 0])
        self.noise = noise_of(image)

    def lit(self, image: Image, ground: Image, *, textured: bool) -> Lit:
        """A frame (blue, green, red) brought to the clear frame's light. `ground` is 255 where nothing should have
        changed; `textured` whether texture is looked at, which takes a while."""
        now = channels(cv2.GaussianBlur(image, (3, 3), 0))
        off = cv2.subtract(now, self.channels)
        spots = off[::4, ::4][ground[::4, ::4] > 0]
        middle = np.median(spots, 0) if len(spots) > 20 else np.zeros(3)
        off = cv2.subtract(off, (*(float(v) for v in middle), 0.0))
        small = off[::SMOOTH_EVERY, ::SMOOTH_EVERY]
        weight = (ground[::SMOOTH_EVERY, ::SMOOTH_EVERY] > 0).astype(np.float32)
        weight *= (np.abs(small[..., 0]) < SLOPE_CLIP).astype(np.float32)
        field = _spread(small, weight)
        off = cv2.subtract(off, cv2.resize(field, (off.shape[1], off.shape[0]), interpolation=cv2.INTER_LINEAR))
        level = np.maximum(self._level * np.float32(np.exp(middle[0])), np.float32(FLOOR))
        grain = (np.float32(max(self.noise, noise_of(image)) * 0.7) / level) ** 2
        light, red, blue = cv2.split(off)
        allowed = np.where(light < 0, np.float32(DARKER**2), np.float32(LIGHTER**2)) + grain
        bare = cv2.divide(light * light, allowed) + cv2.divide(red * red + blue * blue, COLOURED**2 + 3 * grain)
        ordinary = bare[::3, ::3][ground[::3, ::3] > 0]
        over = float(np.quantile(ordinary, 0.95)) / ORDINARY if len(ordinary) > 50 else 1.0
        over = min(over, MOST_OVER)  # more is no noise: something covers the bed
        bare = np.minimum(bare / np.float32(max(1.0, over)), MOST)
        if not textured:
            return Lit(cv2.add(self.channels, off), grain, bare, bare)
        fine = cv2.divide(_texture(light), self._texture * TEXTURED + float(np.median(grain)))
        usual = fine[::3, ::3][ground[::3, ::3] > 0]
        if len(usual) > 50:
            fine *= np.float32(ORDINARY / FINER / max(float(np.quantile(usual, 0.95)), 1e-6))
        return Lit(cv2.add(self.channels, off), grain, bare, np.minimum(np.maximum(bare, fine), MOST))

    def contrast(self, material: MaterialLook, bed: Image) -> float:
        """How well a material can be told from the clear bed (255 in `bed`): the median of the squared distance from
        the bare surface that it would have, 0 to MOST."""
        spots = self.channels[::4, ::4][bed[::4, ::4] > 0]
        level = self._level[::4, ::4][bed[::4, ::4] > 0]
        if not len(spots):
            return 0.0
        light, red, blue = (material.mean.astype(np.float32) - spots).T
        grain = (self.noise * 0.7 / level) ** 2
        allowed = np.where(light < 0, DARKER**2, LIGHTER**2) + grain
        far = light**2 / allowed + (red**2 + blue**2) / (COLOURED**2 + 3 * grain)
        return float(np.median(np.minimum(far, MOST)))


def _texture(light: Image) -> Image:
    """How much brightness changes within a few pixels: the mean square of what a wider mean leaves."""
    left = light - cv2.blur(light, (FINE_PX, FINE_PX))
    found: Image = cv2.blur(left * left, (5, 5))
    return found


def _spread(values: Image, weight: Image) -> Image:
    """Values where they are known, spread smoothly over where they are not."""
    sigma = max(2.0, values.shape[1] / 9)
    whole = cv2.GaussianBlur(weight, (0, 0), sigma)
    found: Image = cv2.GaussianBlur(values * weight[..., None], (0, 0), sigma)
    found *= ((whole > 1e-2) / np.maximum(whole, 1e-3))[..., None]
    return found
