"""When upkeep is due: by hours of work, builds, metres of filament, days, or after a fault; whichever comes first."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from math import inf


@dataclass(frozen=True)
class DueRules:
    """After how much of what a task is due; None where that does not matter. `faults` are words of reasons why a
    machine went down: after one of these it is due at once."""

    hours: float | None = None
    builds: int | None = None
    metres: float | None = None
    days: float | None = None
    faults: tuple[str, ...] = ()


@dataclass(frozen=True)
class Use:
    """What a machine did since a task was done last: hours of warming and building, builds that ended, metres of
    filament (abrasive metres count more), days gone by, and faults that one of the task's words names."""

    hours: float = 0.0
    builds: float = 0.0
    metres: float = 0.0
    days: float = 0.0
    faults: int = 0


UNITS: Mapping[str, str] = {"hours": "h", "builds": "builds", "metres": "m", "days": "days"}
_OF_RULE: Mapping[str, Callable[[DueRules], float | None]] = {
    "hours": lambda rules: rules.hours,
    "builds": lambda rules: rules.builds,
    "metres": lambda rules: rules.metres,
    "days": lambda rules: rules.days,
}
ABRASIVE = ("CF", "GF", "carbon", "glass", "glow", "wood", "metal")
"""Words in a material's name that say that it wears nozzles."""
ABRASIVE_COUNTS = 8.0
"""How many metres of plain filament a metre of abrasive counts for."""


@dataclass(frozen=True)
class DueStanding:
    """`share` of what a task allows that is used (1 and more: due), by the rule that is nearest; `text` says it."""

    share: float
    rule: str
    text: str

    @property
    def due(self) -> bool:
        return self.share >= 1


def standing(rules: DueRules, use: Use) -> DueStanding:
    """How near a task is to being due.

    >>> standing(DueRules(hours=400, days=90), Use(hours=290, days=30)).text
    '290 of 400 h'
    """
    if rules.faults and use.faults:
        return DueStanding(inf, "fault", "after a fault" if use.faults == 1 else f"after {use.faults} faults")
    found = DueStanding(0.0, "", "")
    for rule, limit_of in _OF_RULE.items():
        limit, used = limit_of(rules), getattr(use, rule)
        if limit is not None and limit > 0 and (share := used / limit) >= found.share:
            found = DueStanding(share, rule, f"{used:,.0f} of {limit:,.0f} {UNITS[rule]}")
    return found


def days_left(rules: DueRules, use: Use, a_day: Use) -> float:
    """How many days until a task is due if a machine goes on as it did: `a_day` is what it does in one. Below 0 since
    when it is overdue; infinite where nothing brings it nearer."""
    if rules.faults and use.faults:
        return 0.0
    found = inf
    for rule, limit_of in _OF_RULE.items():
        limit, pace = limit_of(rules), 1.0 if rule == "days" else getattr(a_day, rule)
        if limit is not None and pace > 0:
            found = min(found, (limit - getattr(use, rule)) / pace)
    return found


def weight_of(material: str) -> float:
    """How much a metre of a material counts.

    >>> weight_of("PLA"), weight_of("PA-CF")
    (1.0, 8.0)
    """
    words = material.replace("-", " ").replace("_", " ").split()
    abrasive = any(word.casefold() == one.casefold() for word in words for one in ABRASIVE)
    return ABRASIVE_COUNTS if abrasive else 1.0
