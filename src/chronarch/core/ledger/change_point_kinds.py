"""Where changes are looked for: each kind is one row of a table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum


class ChangePointKind(StrEnum):
    SCRAP = "scrap"
    SUCCESS = "success"
    PACE = "pace"
    TURNAROUND = "turnaround"
    POWER = "power"


@dataclass(frozen=True)
class ChangePointFacts:
    """What one kind is of (`of`: a part that figures are asked by), what is looked at, and the `least` change that is
    worth telling: a difference of shares, or a share of what was. `daily`: a day's median is one observation, because
    what happens on one day hangs together. `unit` is of the levels."""

    of: str
    title: str
    share: bool
    least: float
    unit: str
    daily: bool = False


CHANGE_POINTS: dict[ChangePointKind, ChangePointFacts] = {
    ChangePointKind.SCRAP: ChangePointFacts("machine", "scrap", True, 0.05, "share"),
    ChangePointKind.SUCCESS: ChangePointFacts("part", "good builds", True, 0.05, "share"),
    ChangePointKind.PACE: ChangePointFacts("model", "time against plan", False, 0.03, "times", daily=True),
    ChangePointKind.TURNAROUND: ChangePointFacts("site", "turnaround", False, 0.1, "min", daily=True),
    ChangePointKind.POWER: ChangePointFacts("machine", "power while building", False, 0.05, "W"),
}
"""Scrap of a machine is seen beside that of its files on all machines, and a part's success beside its machines';
time against plan and power beside the file's median. Of turnaround only what began while somebody was there counts."""
WRITTEN: dict[str, Callable[[float], str]] = {
    "share": lambda value: f"{100 * value:.1f} %",
    "times": lambda value: f"{value:.2f} ×",
    "min": lambda value: f"{value:.0f} min",
    "W": lambda value: f"{value:.0f} W",
}


def sentence(kind: ChangePointKind, subject: str, before: float, after: float) -> str:
    """For people: what has changed, of what, from how much to how much."""
    facts = CHANGE_POINTS[kind]
    written, moved = WRITTEN[facts.unit], "rose" if after > before else "fell"
    of = f"{subject}: " if subject else ""
    return f"{of}{facts.title} {moved} from {written(before)} to {written(after)}"
