"""Beds that want a person at about the same time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from chronarch.core.planning.forecast import Forecast
    from chronarch.core.planning.snapshot import Snapshot

TOGETHER = timedelta(minutes=6)
"""Beds that are ready within this time need a person at once."""
AHEAD = timedelta(days=1)


@dataclass(frozen=True)
class BedsTogether:
    """Beds that will be ready soon or at once, the time of the first, and that in words."""

    at: datetime
    machines: tuple[str, ...]
    text: str


def conflicts(snapshot: Snapshot, f: Forecast, words: Callable[[datetime], str]) -> list[BedsTogether]:
    """Where so many beds of a site end minutes apart, within the next day, that two are left once each person has one.
    `words` says a time."""
    sites = {m.name: m.site for m in snapshot.machines}
    ready = [(r.likely, name) for name, r in f.ends.items()]
    ready += f.builds.ends_within(AHEAD)
    found: list[BedsTogether] = []
    for site in sorted(set(sites.values())):
        people = snapshot.hands.get(site, snapshot.hands.get("", ((), 1)))[1]
        mine = sorted((at, name) for at, name in ready if sites[name] == site and at < f.at + AHEAD)
        start = 0
        while start < len(mine):
            end = start
            while end + 1 < len(mine) and mine[end + 1][0] - mine[start][0] <= TOGETHER:
                end += 1
            names = tuple(name for _, name in mine[start : end + 1])
            if len(names) >= 2 + people:
                at = mine[start][0]
                found.append(BedsTogether(at, names, f"{len(names)} beds end around {words(at)}: {', '.join(names)}"))
            start = end + 1
    return sorted(found, key=lambda c: c.at)
