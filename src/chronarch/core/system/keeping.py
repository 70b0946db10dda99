"""Which backups are kept as they age: the newest of each of the last days, weeks and months that have any."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable
from dataclasses import dataclass
from datetime import datetime, tzinfo

MOST_KEPT = 1000


@dataclass(frozen=True)
class KeepRule:
    """The newest backup of each of so many days, weeks (ISO 8601, from Monday) and months; the newest of all is kept
    whatever the rule says."""

    daily: int = 7
    weekly: int = 4
    monthly: int = 12

    def __post_init__(self) -> None:
        if min(self.daily, self.weekly, self.monthly) < 0 or max(self.daily, self.weekly, self.monthly) > MOST_KEPT:
            raise ValueError(f"days, weeks and months to keep backups of are numbers from 0 to {MOST_KEPT}")


def to_keep(backups: Iterable[datetime], rule: KeepRule, zone: tzinfo) -> set[datetime]:
    """Of backups that were taken at these times, those that are kept, as the calendar of a zone has it."""
    newest_first = sorted(set(backups), reverse=True)
    kept = set(newest_first[:1])
    periods: tuple[tuple[int, Callable[[datetime], Hashable]], ...] = (
        (rule.daily, lambda at: at.date()),
        (rule.weekly, lambda at: at.isocalendar()[:2]),
        (rule.monthly, lambda at: (at.year, at.month)),
    )
    for most, period_of in periods:
        newest_of: dict[Hashable, datetime] = {}
        for at in newest_first:
            newest_of.setdefault(period_of(at.astimezone(zone)), at)
        kept |= set(list(newest_of.values())[:most])
    return kept
