"""What becomes of the material that a machine lays: it grows into bodies, or goes as it does when a build fails."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

Floats = np.ndarray[Any, np.dtype[np.float64]]
FailureKind = Literal["loose", "tangle", "shifted", "not-growing", "blob", "fallen"]
FAILURES: tuple[FailureKind, ...] = ("loose", "tangle", "shifted", "not-growing", "blob", "fallen")
CURL_MM, STRING_SHARE = (2.5, 7.0), 0.35
"""The radius of the curls of loose string; the share of it that can be seen apart in a tangle."""
FILAMENT_MM2 = 2.405


@dataclass
class Failure:
    """How a build fails: what befalls which object (-1: all), and how strongly. `drift_mm` is how a layer shift moves
    what follows, or where a loose part is dragged to over time."""

    kind: FailureKind
    thing: int = -1
    drift_mm: tuple[float, float] = (0.0, 0.0)
    turn_rad: float = 0.0
    slow: float = 600.0
    """Until a loose part has been dragged all its way, seconds."""
    seed: int = 1


@dataclass
class Body:
    """One thing on the bed: its lines (n x 6, mm) in the order in which they were laid, and how it was moved since."""

    lines: list[Floats] = field(default_factory=list)
    turn: Floats = field(default_factory=lambda: np.eye(3))
    about: Floats = field(default_factory=lambda: np.zeros(3))
    by: Floats = field(default_factory=lambda: np.zeros(3))

    @property
    def moved(self) -> bool:
        return bool(np.any(self.by) or np.any(self.turn != np.eye(3)))

    def placed(self, lines: Floats) -> Floats:
        """Lines where the body has been moved to."""
        if not self.moved:
            return lines
        ends = (lines.reshape(-1, 3) - self.about) @ self.turn.T + self.about + self.by
        return ends.reshape(-1, 6)

    def all(self) -> Floats:
        whole: Floats = self.placed(np.concatenate(self.lines)) if self.lines else np.zeros((0, 6))
        return whole


class Matter:
    """All that lies on a bed. `lay` is told what the machine was commanded; `fail` makes it go wrong from now on."""

    def __init__(self) -> None:
        self.clear()

    def clear(self) -> None:
        self.bodies: dict[int, Body] = {}
        self.strings: list[Floats] = []
        self.blob_mm3 = 0.0
        self.failure: Failure | None = None
        self.version = 0
        """Rises when what was there before has changed its place."""
        self._lot = np.random.default_rng(1)
        self._failed_s = 0.0
        self._heap = np.zeros(3)
        self._heap_mm = 0.0

    def fail(self, failure: Failure) -> None:
        """From now on the build goes wrong."""
        self.failure, self._failed_s = failure, 0.0
        self._lot = np.random.default_rng(failure.seed)
        body = self.bodies.get(failure.thing)
        if body is None or not body.lines:
            return
        lines = np.concatenate(body.lines)
        low, high = lines.reshape(-1, 3).min(0), lines.reshape(-1, 3).max(0)
        self._heap = np.array([*((low + high) / 2)[:2], high[2]])
        body.about = np.array([*((low + high) / 2)[:2], 0.0])
        if failure.kind == "fallen":
            self._topple(body, low, high, failure)
            self.version += 1

    @staticmethod
    def _topple(body: Body, low: Floats, high: Floats, failure: Failure) -> None:
        """Over one of its lower edges, by a quarter turn."""
        dx, dy = failure.drift_mm
        if abs(dx) >= abs(dy):
            s = math.copysign(1, dx)
            body.turn = np.array([[0, 0, s], [0, 1, 0], [-s, 0, 0]], np.float64)
            body.about = np.array([high[0] if s > 0 else low[0], 0, 0])
        else:
            s = math.copysign(1, dy)
            body.turn = np.array([[1, 0, 0], [0, 0, s], [0, -s, 0]], np.float64)
            body.about = np.array([0, high[1] if s > 0 else low[1], 0])

    def lay(self, lines: Floats, thing: int, seconds: float, filament_mm: float) -> tuple[Floats, Floats]:
        """The machine was made to lay lines (n x 6, mm) for a thing, which took so long. Returns the lines that now
        lie in bodies and those that lie about as string."""
        failure = self.failure
        hit = failure is not None and failure.thing in (-1, thing)
        nothing = np.zeros((0, 6))
        if failure is not None:
            self._failed_s += seconds
            if failure.kind == "loose":
                self._drag(failure)
        if failure is None or not (hit or failure.kind in ("shifted", "not-growing", "blob")):
            return self.grow(lines, thing), nothing
        match failure.kind:
            case "shifted":
                return self.grow(lines + np.array([*failure.drift_mm, 0.0] * 2), thing), nothing
            case "not-growing":
                return nothing, nothing
            case "blob":
                self.blob_mm3 += 0.8 * filament_mm * FILAMENT_MM2
                return nothing, nothing
            case "tangle":
                return nothing, self._tangle(lines)
            case _:
                return nothing, self._droop(lines)

    def grow(self, lines: Floats, thing: int) -> Floats:
        body = self.bodies.setdefault(thing, Body())
        body.lines.append(lines)
        return lines

    def _drag(self, failure: Failure) -> None:
        body = self.bodies.get(failure.thing)
        if body is None:
            return
        share = min(1.0, 0.25 + 0.75 * self._failed_s / failure.slow)
        turn = failure.turn_rad * share
        c, s = math.cos(turn), math.sin(turn)
        body.turn = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
        body.by = np.array([failure.drift_mm[0] * share, failure.drift_mm[1] * share, 0.0])
        self.version += 1

    def curls(self, length_mm: float, middle: Floats, spread: Floats) -> Floats:
        """String of a length, in curls about a place."""
        n = int(min(1500, max(8, length_mm / 1.6)))
        radius = self._lot.uniform(*CURL_MM)
        turning = np.cumsum(self._lot.normal(1.6 / radius, 0.25, n))
        steps = np.stack([np.cos(turning), np.sin(turning), 0.5 * np.sin(0.37 * turning)], 1) * 1.6
        way = np.cumsum(steps, 0)
        way -= way.mean(0)
        size = np.maximum(np.abs(way).max(0), 1e-3)
        way *= np.minimum(1.0, spread / size)
        way += middle + self._lot.normal(0, 0.35, 3) * spread
        way[:, 2] = np.maximum(way[:, 2], 0.3)
        lines = np.concatenate([way[:-1], way[1:]], 1)
        self.strings.append(lines)
        return lines

    def _tangle(self, lines: Floats) -> Floats:
        if not len(lines):
            return lines
        if not self._heap_mm:
            self._heap = np.array([*lines[0, :2], lines[0, 2]])
        length = float(np.linalg.norm(lines[:, 3:] - lines[:, :3], axis=1).sum()) * STRING_SHARE
        self._heap_mm += length
        reach = min(38.0, 5.0 + 0.55 * math.sqrt(self._heap_mm))
        spread = np.array([reach, reach, min(0.5 * reach, 6 + self._heap[2])])
        middle = self._heap.copy()
        middle[2] = max(0.6 * spread[2], middle[2] - 0.4 * reach)
        return self.curls(length, middle, spread)

    def _droop(self, lines: Floats) -> Floats:
        """Lines laid where nothing carries them: they sag and wander."""
        if not len(lines):
            return lines
        some = lines[:: max(1, len(lines) // 160)]
        n = len(some)
        wander = np.cumsum(self._lot.normal(0, 1.0, (n, 3)), 0)
        wander -= np.linspace(0, 1, n)[:, None] * wander[-1]
        points = some[:, :3] + np.clip(wander, -7, 7)
        points[:, 2] = np.maximum(0.3, points[:, 2] * self._lot.uniform(0.2, 0.9))
        found: Floats = np.concatenate([points[:-1], points[1:]], 1)
        found = found[np.linalg.norm(found[:, 3:] - found[:, :3], axis=1) < 40]
        self.strings.append(found)
        return found
