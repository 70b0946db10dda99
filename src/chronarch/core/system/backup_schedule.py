"""When backups are due, and when one is to be tried."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, time, timedelta, tzinfo

DAY = timedelta(days=1)


@dataclass(frozen=True)
class BackupTimes:
    """Each day at a time of the shop's zone; and on one day of the week (0: Monday) the newest is tried afterwards."""

    at: time = time(2, 30)
    try_on: int = 6

    def __post_init__(self) -> None:
        if not 0 <= self.try_on <= 6:
            raise ValueError(f"a day of the week is 0 (Monday) to 6 (Sunday), not {self.try_on}")


def last_due(times: BackupTimes, now: datetime, zone: tzinfo) -> datetime:
    """When a backup was due last."""
    day = now.astimezone(zone).date()
    due = datetime.combine(day, times.at, zone)
    return due if due <= now else datetime.combine(day - DAY, times.at, zone)


def next_due(times: BackupTimes, now: datetime, zone: tzinfo) -> datetime:
    """When the next backup is due."""
    day = now.astimezone(zone).date()
    due = datetime.combine(day, times.at, zone)
    return due if due > now else datetime.combine(day + DAY, times.at, zone)


def last_trial_due(times: BackupTimes, now: datetime, zone: tzinfo) -> datetime:
    """When a trial was due last: with the backup of that day of the week."""
    due = last_due(times, now, zone)
    days = (due.weekday() - times.try_on) % 7
    return datetime.combine(due.date() - days * DAY, times.at, zone)
