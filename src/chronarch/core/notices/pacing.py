"""How messages are paced, so that a bad hour is a few messages and not a thousand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from chronarch.core.notices.kinds import Gravity

WITHIN = timedelta(minutes=10)
"""Real time."""
FEW, APART = 4, timedelta(seconds=75)
"""So many messages within that time come at once; those after them so far apart."""
URGENT = 20
"""So many within that time are not held back for what is urgent."""
MOST_IN_ONE = 250
RETRIES = tuple(timedelta(seconds=s) for s in (2, 5, 15, 60, 180, 600, 1800))
GIVEN_UP_AFTER = timedelta(days=2)


@dataclass(frozen=True)
class Waiting:
    """Something that is due to be told over a channel."""

    id: int
    gravity: Gravity


def next_message(waiting: Sequence[Waiting], sent: Sequence[datetime], now: datetime) -> list[int]:
    """What the next message over a channel that people read is made of, in the order it came; empty when it has to
    wait. `waiting` is in that order; `sent` are the times of the messages before, in real time as `now`. When several
    wait they become one message, and after a few messages within a short time everything waits for the next one."""
    if not waiting:
        return []
    lately = [at for at in sent if at > now - WITHIN]
    urgent = any(one.gravity is Gravity.URGENT for one in waiting) and len(lately) < URGENT
    if len(lately) >= FEW and not urgent and now - max(lately) < APART:
        return []
    return [one.id for one in waiting[:MOST_IN_ONE]]


def tried_again_at(tries: int, now: datetime) -> datetime:
    """When a message that failed for the `tries`th time is sent again, real time."""
    return now + RETRIES[min(tries, len(RETRIES)) - 1]
