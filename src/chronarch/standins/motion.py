"""Where the tool head goes and how long it takes: modes, position, and a bounded buffer of moves."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass, field

BUFFER = 16
ACCELERATION = 1500.0

Point = tuple[float, float, float]


@dataclass
class Motion:
    """Times are shop seconds. `pace` makes this machine slower (above 1) or quicker than its figures."""

    limits: tuple[float, float, float] = (300.0, 300.0, 12.0)
    pace: float = 1.0
    position: Point = (0.0, 0.0, 0.0)
    e: float = 0.0
    absolute: bool = True
    absolute_e: bool = True
    feed_mm_s: float = 25.0
    homed: bool = False
    speed_pct: float = 100.0
    ends: deque[float] = field(default_factory=deque)
    _heading: Point = (0.0, 0.0, 0.0)
    _speed: float = 0.0

    def reset(self) -> None:
        """As after power on."""
        self.position, self.e = (0.0, 0.0, 0.0), 0.0
        self.absolute = self.absolute_e = True
        self.homed = False
        self.feed_mm_s, self._speed = 25.0, 0.0
        self.ends.clear()

    def free_at(self, now: float) -> float:
        """When the buffer has room for one more move."""
        while self.ends and self.ends[0] <= now:
            self.ends.popleft()
        return now if len(self.ends) < BUFFER else self.ends[0]

    def done_at(self, now: float) -> float:
        """When all buffered moves are over."""
        return max(now, self.ends[-1]) if self.ends else now

    def move(self, words: dict[str, float], now: float) -> tuple[Point, Point, float]:
        """Buffer one move; returns its start, its end and the filament it feeds (mm)."""
        start = self.position
        x, y, z = (
            p if axis not in words else (words[axis] if self.absolute else p + words[axis])
            for p, axis in zip(start, "XYZ", strict=True)
        )
        end = (x, y, z)
        fed = 0.0
        if "E" in words:
            fed = words["E"] - self.e if self.absolute_e else words["E"]
            self.e += fed
        if words.get("F", 0) > 0:
            self.feed_mm_s = words["F"] / 60
        self.position = end
        self.ends.append(self.done_at(now) + self._seconds(start, end, fed) * self.pace * 100 / self.speed_pct)
        return start, end, fed

    def wait(self, seconds: float, now: float) -> None:
        """Buffer a pause of the head."""
        self.ends.append(self.done_at(now) + seconds)
        self._speed = 0.0

    def _seconds(self, a: Point, b: Point, fed: float) -> float:
        d = math.dist(a, b)
        if d == 0:
            self._speed = 0.0
            return abs(fed) / self.feed_mm_s
        heading = ((b[0] - a[0]) / d, (b[1] - a[1]) / d, (b[2] - a[2]) / d)
        v = min([self.feed_mm_s, *(m / abs(h) for m, h in zip(self.limits, heading, strict=True) if abs(h) > 1e-9)])
        along = sum(p * q for p, q in zip(self._heading, heading, strict=True))
        entry = max(0.0, along) * min(self._speed, v)
        self._heading, self._speed = heading, v
        return d / v + min((v - entry) ** 2 / (ACCELERATION * v), 2 * math.sqrt(d / ACCELERATION))
