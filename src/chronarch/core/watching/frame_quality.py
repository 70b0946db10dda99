"""Whether a frame can be judged: it cannot if the camera was moved, is covered, out of focus or in the dark, or if
somebody is at work on the bed."""

from __future__ import annotations

from enum import StrEnum
from typing import Any

import numpy as np

from chronarch.core.watching.opencv import cv2

Image = np.ndarray[Any, np.dtype[Any]]


class Unjudged(StrEnum):
    """Why a frame is not judged."""

    DARK = "dark"
    BLURRED = "blurred"
    COVERED = "covered"
    KNOCKED = "knocked"
    HANDS = "hands"
    HEAD = "head"


WORDS: dict[Unjudged, str] = {
    Unjudged.DARK: "It is too dark to see the bed. Turn a light on.",
    Unjudged.BLURRED: "The picture is out of focus. Clean the lens or set its focus.",
    Unjudged.COVERED: "Something covers the camera. Clear its view.",
    Unjudged.KNOCKED: "The camera has been moved. Mark the bed's corners again.",
    Unjudged.HANDS: "Something is in front of the bed. The watch goes on when it is gone.",
    Unjudged.HEAD: "The head hides most of the bed. Move it up, or aside.",
}

DARK_LEVEL, DARK_GAIN = 5.0, 0.1
"""Grey levels, and the share of the clear frame's brightness."""
SHARP_SHARE = 0.3
"""Of the detail that the clear frame has."""
FITS, MOVED_FITS, GAIN = 0.5, 0.4, 0.2
"""How well edges must lie where they did (a correlation); or, moved, how well and by how much better there."""
MOVED_PX, SEARCH = 2, 24
"""At half the width: what counts as moved, and how far is looked."""
STRONG_SHARE = 0.06
FOUND, LEFT_OF_IT, LEARNS = 0.5, 0.3, 0.25
"""An edge that is found less often than this does not count; of one that is found so much is left; and how quickly
that is learned."""
FOREIGN_SHARE = 0.045


class ClearView:
    """What the clear frame shows that does not change: where its edges are, and how sharp they are. Edges that are not
    found again in frames that can be judged, such as those of the head where it was then, are left out in time."""

    def __init__(self, image: Image) -> None:
        grey = cv2.cvtColor(image, cv2.COLOR_BGR2GRAY)
        self.level = float(grey.mean())
        self._edges, self._rough = _edges(grey), _rough(grey)
        size = np.abs(self._edges)
        self._strong = size >= max(0.015, float(np.quantile(size, 1 - STRONG_SHARE)))
        self._steep = _steepness(grey, self._strong.shape)
        self._found: Image = np.ones(size.shape, np.float32)
        """How often each edge was found again, of late: 0 to 1."""

    def unjudged(self, image: Image, hidden: Image) -> Unjudged | None:
        """Why a frame (blue, green, red) cannot be judged, by its looks as a whole; None where it can. `hidden` is what
        the head and the build may hide (above 0)."""
        grey = cv2.cvtColor(image, cv2.COLOR_BGR2GRAY)
        level = float(grey.mean())
        if level < DARK_LEVEL or level < DARK_GAIN * self.level:
            return Unjudged.DARK
        small = cv2.resize(hidden, (self._edges.shape[1], self._edges.shape[0]), interpolation=cv2.INTER_NEAREST)
        strong = self._strong & (small == 0) & (self._found > FOUND)
        if strong.sum() < 60:
            return None
        now = _edges(grey)
        there = now * self._edges > 0
        near = cv2.dilate((strong & there).astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
        blurred = _sharpness(_steepness(grey, strong.shape), near) < SHARP_SHARE * _sharpness(self._steep, near)
        fits = _fit(self._edges[strong], now[strong])
        if fits >= FITS and not blurred:
            shown = self._strong & (small == 0)
            same = (there & (np.abs(now) > LEFT_OF_IT * np.abs(self._edges))).astype(np.float32)
            self._found[shown] += LEARNS * (same[shown] - self._found[shown])
        if fits >= FITS:
            return Unjudged.BLURRED if blurred else None
        moved, better = _moved(self._edges * strong, now)
        if moved >= MOVED_PX and better > max(MOVED_FITS, fits + GAIN):
            return Unjudged.KNOCKED
        if blurred:
            return Unjudged.BLURRED if _fit(self._rough, _rough(grey)) > FITS else Unjudged.COVERED
        return Unjudged.COVERED if fits < FITS / 2 else None


def _edges(grey: Image) -> Image:
    """The edges of a picture at half its size and even contrast: a difference of two blurs of its logarithm, so that
    light does not matter."""
    small = cv2.resize(grey, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA).astype(np.float32)
    logs = cv2.log(cv2.add(small, (8.0, 0, 0, 0)))
    fine = cv2.GaussianBlur(logs, (0, 0), 1.2)
    edges: Image = np.clip(fine - cv2.GaussianBlur(logs, (0, 0), 5.0), -0.25, 0.25)
    return edges


def _rough(grey: Image) -> Image:
    """What is left of a picture that is far out of focus: light and dark areas."""
    small = cv2.resize(grey, (32, 18), interpolation=cv2.INTER_AREA).astype(np.float32)
    found: Image = small - small.mean()
    return found


def _steepness(grey: Image, shape: tuple[int, ...]) -> Image:
    """How steep a picture is everywhere at a size, for its brightness."""
    small = cv2.resize(grey, (shape[1], shape[0]), interpolation=cv2.INTER_NEAREST).astype(np.float32)
    steep = cv2.Laplacian(cv2.GaussianBlur(small, (0, 0), 0.8), cv2.CV_32F)
    found: Image = np.abs(steep) / (float(grey.mean()) + 4)
    return found


def _sharpness(steep: Image, near: Image) -> float:
    """How steep the edges in some places are; the same places are compared, because the head hides others each time."""
    return float(np.percentile(steep[near], 75))


def _fit(a: Image, b: Image) -> float:
    """The correlation of two pictures, -1 to 1."""
    return float((a * b).sum() / max(1e-6, float(np.sqrt((a * a).sum() * (b * b).sum()))))


def _moved(clear: Image, now: Image) -> tuple[int, float]:
    """By how many pixels the edges have moved, and how well they fit there."""
    inner = np.ascontiguousarray(clear[SEARCH:-SEARCH, SEARCH:-SEARCH])
    fits = cv2.matchTemplate(now, inner, cv2.TM_CCORR)
    strong = (inner != 0).astype(np.float32)
    power = cv2.matchTemplate(now * now, strong, cv2.TM_CCORR)
    fits = fits / np.sqrt(np.maximum(power, 1e-6) * max(1e-6, float((inner * inner).sum())))
    _, best, _, (u, v) = cv2.minMaxLoc(fits)
    return max(abs(u - SEARCH), abs(v - SEARCH)), float(best)
