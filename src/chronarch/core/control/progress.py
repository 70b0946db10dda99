"""How far a build is and how long it still takes, from acknowledged lines and the pace so far."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime, timedelta

from chronarch.core.gcode.plan import TimePlan

PRIOR_S = 180.0
"""The plan counts as much as this many seconds of building at its own pace, so that slow or quick first layers do not
move the forecast much."""

SLOWEST, FASTEST = 4.0, 0.25


@dataclass
class Progress:
    """Follows one build. `acknowledged` commands of `plan` are done. Seconds are shop seconds spent laying material
    (`laying_s`) and warming (`warming_s`). `learned` is the pace of earlier builds on such machines."""

    plan: TimePlan
    learned: float = 1.0
    acknowledged: int = 0
    laying_s: float = 0.0
    warming_s: float = 0.0
    laid_from_s: float | None = field(default=None)

    def begin_laying(self) -> None:
        """The first layer begins: from here the pace is measured."""
        if self.laid_from_s is None:
            self.laid_from_s = self.plan.at(self.acknowledged).planned_s

    @property
    def share(self) -> float:
        """0 to 1, by planned time."""
        if self.plan.total_s <= 0:
            return self.acknowledged / max(self.plan.commands, 1)
        return self.plan.at(self.acknowledged).planned_s / self.plan.total_s

    @property
    def pace(self) -> float:
        """Real seconds a planned second takes: (learned x prior + seen) / (prior + planned), within bounds."""
        if self.laid_from_s is None:
            return self.learned
        planned = self.plan.at(self.acknowledged).planned_s - self.laid_from_s
        return min(SLOWEST, max(FASTEST, (PRIOR_S * self.learned + self.laying_s) / (PRIOR_S + planned)))

    @property
    def remaining_s(self) -> float:
        """Shop seconds still to go if nothing pauses the build. Until the first layer begins, the time planned for
        heating and homing runs down with the clock."""
        left = (self.plan.total_s - self.plan.at(self.acknowledged).planned_s) * self.pace
        if self.laid_from_s is not None:
            return left
        before = self.plan.at(self.plan.layers[0]).planned_s if self.plan.layers else 0.0
        return max(
            left - max(0.0, self.warming_s - self.plan.at(self.acknowledged).planned_s),
            (self.plan.total_s - before) * self.pace,
        )

    def expected_end(self, now: datetime) -> datetime:
        return now + timedelta(seconds=self.remaining_s)
