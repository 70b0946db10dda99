"""Figures of a build that do not fit: a layer that takes another time than it should, heat that swings."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from statistics import median

from chronarch.core.control.progress import Progress

TIMES, LEAST_S, IN_A_ROW = 2.0, 60.0, 3
"""A layer is odd when it takes so many times as long as it should, or a so-manieth of that, and this much more or less
(shop seconds); it is told once so many in a row are odd in the same way."""
PRIOR, REMEMBERED = 3, 60
"""What machines like it have taken so far counts as much as so many layers; of so many the pace is known."""
FIRST = 2
"""The first layer that is looked at: how long the one below it takes depends on the bed and on who looks."""
TOLD_EVERY = timedelta(minutes=30)
AT_ONCE, AT_ONCE_S = 50, 600.0
"""How long layers took is told of so many at once, or of those of so long."""
WITHIN, SETTLES = timedelta(minutes=5), timedelta(minutes=2)
"""Over what time heat is looked at, and how long after it was near what is asked for."""
NEAR_C = 3.0


@dataclass
class LayerTimes:
    """How long the layers of one build take, beside the plan at the pace of most layers so far."""

    _layer: int = 0
    _next: int = 0
    """The count of commands with which another layer begins."""
    _begun_s: float | None = None
    """How long the build had been laying when the present layer began; None when that was not seen."""
    _paces: deque[float] = field(default_factory=lambda: deque(maxlen=REMEMBERED))
    """How many seconds a planned second took, of the newest layers."""
    _told_at_s: float = -TOLD_EVERY.total_seconds()
    _odd: list[tuple[float, float]] = field(default_factory=list)
    """How long the newest layers took and should take, as long as all are odd in the same way."""
    _laid: list[tuple[int, float]] = field(default_factory=list)
    """Layers that were seen from beginning to end, and how long each took, until somebody takes them."""
    _taken_at_s: float = 0.0

    def complete(self, progress: Progress) -> None:
        """The whole file is laid, its last layer too."""
        if self._begun_s is not None and self._layer == len(progress.plan.layers):
            self._laid.append((self._layer, progress.laying_s - self._begun_s))
        self._begun_s = None

    def take_laid(self, progress: Progress, *, all: bool = False) -> tuple[tuple[int, float], ...]:
        """Layers and how long each took, s, a handful at a time: whoever is told is not to be told of every layer."""
        due = len(self._laid) >= AT_ONCE or progress.laying_s - self._taken_at_s >= AT_ONCE_S
        if not self._laid or not (all or due):
            return ()
        found = tuple((layer, round(took_s, 2)) for layer, took_s in self._laid)
        self._laid, self._taken_at_s = [], progress.laying_s
        return found

    def look(self, progress: Progress, speed_pct: float = 100.0) -> str:
        """To be asked whenever the build has come further. Returns what is odd about the layers before, or nothing."""
        plan = progress.plan
        if progress.acknowledged < self._next or not plan.layers:
            return ""
        layer, before = plan.layer_at(progress.acknowledged), self._layer
        begun_s, follows = self._begun_s, layer == before + 1
        self._layer, self._begun_s = layer, progress.laying_s if follows else None
        self._next = plan.layers[layer] + 1 if layer < len(plan.layers) else plan.commands + 1
        if begun_s is None or not follows or before == 0:
            self._odd.clear()
            return ""
        took_s = progress.laying_s - begun_s
        self._laid.append((before, took_s))
        if before < FIRST:
            return ""
        planned_s = plan.layer_s(before) * 100 / speed_pct
        pace = median([*(progress.learned,) * PRIOR, *self._paces])
        if planned_s > 0:
            self._paces.append(took_s / planned_s)
        return self._weigh(before, progress.laying_s, took_s, planned_s * pace)

    def _weigh(self, layer: int, laying_s: float, took_s: float, should_s: float) -> str:
        odd = abs(took_s - should_s) > LEAST_S and not should_s / TIMES <= took_s <= should_s * TIMES
        if not odd or any((took > should) != (took_s > should_s) for took, should in self._odd):
            self._odd.clear()
        if odd:
            self._odd.append((took_s, should_s))
        if len(self._odd) < IN_A_ROW or laying_s - self._told_at_s < TOLD_EVERY.total_seconds():
            return ""
        took_s, should_s = (sum(values) for values in zip(*self._odd, strict=True))
        first = layer - len(self._odd) + 1
        self._told_at_s = laying_s
        self._odd.clear()
        return f"layers {first} to {layer} took {_span(took_s)} and should take {_span(should_s)}"


@dataclass
class HeatSwing:
    """One heater while a build is laid. `most_c` is how far its heat may go up and down."""

    name: str
    most_c: float
    _asked_c: float = 0.0
    _near_since: datetime | None = None
    _seen: deque[tuple[datetime, float]] = field(default_factory=deque)
    _told_at: datetime | None = None

    def take(self, at: datetime, measured_c: float | None, asked_c: float | None) -> str:
        """Returns what is odd, or nothing."""
        if measured_c is None or not asked_c or asked_c != self._asked_c:
            self._asked_c, self._near_since = asked_c or 0.0, None
            self._seen.clear()
            return ""
        if self._near_since is None:
            self._near_since = at if abs(measured_c - asked_c) <= NEAR_C else None
        if self._near_since is None or at - self._near_since < SETTLES:
            return ""
        self._seen.append((at, measured_c))
        while at - self._seen[0][0] > WITHIN:
            self._seen.popleft()
        swing_c = max(c for _, c in self._seen) - min(c for _, c in self._seen)
        if swing_c <= self.most_c or (self._told_at is not None and at - self._told_at < TOLD_EVERY):
            return ""
        self._told_at = at
        return f"the heat of the {self.name} swings by {swing_c:.0f} °C where {asked_c:.0f} °C are asked for"


def _span(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 120 else f"{seconds / 60:.0f} min"
