"""How a task stands at a machine."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from chronarch.core.machines.materials import Materials
from chronarch.core.machines.upkeep_calls import Blocks, UpkeepCall
from chronarch.core.upkeep.due import DueRules, DueStanding, Use
from chronarch.core.upkeep.odometer import Odometer
from chronarch.records import tables as t
from chronarch.records.upkeep.odometers import TaskMark


@dataclass(frozen=True)
class Standing:
    """A task at a machine: how much was used, whether it is due, and in how many days it will be."""

    mark: TaskMark
    use: Use
    due: DueStanding
    days_left: float
    out: str
    """What the last value says, if it is out of tolerance."""

    @property
    def call(self) -> UpkeepCall | None:
        """What it asks of its machine now; None where nothing."""
        task, check = self.mark.task, self.mark.task.nominal is not None
        if not self.due.due and not self.out:
            return None
        return UpkeepCall(task.id, task.name, self.out or self.due.text, task.minutes, Blocks(task.blocks), check)


def rules_of(task: t.UpkeepTask) -> DueRules:
    return DueRules(**{**task.rules, "faults": tuple(task.rules.get("faults") or ())})


def use_of(mark: TaskMark, whole: Odometer, at: datetime, materials: Materials) -> Use:
    """What a machine did since a task was done there."""
    more = whole.since(mark.odometer)
    return Use(more.hours, more.builds, more.metres(materials), (at - mark.since) / timedelta(days=1), mark.faults)
