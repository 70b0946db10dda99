"""Counting a job's copies: the pieces that are wanted, however many of them one build yields."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from chronarch.core.orders.states import JobState


@dataclass(frozen=True)
class JobQuantities:
    """The copies of a job in pieces: wanted, judged good (or taken from stock), on a machine or not judged yet."""

    wanted: int
    good: int
    building: int
    scrap: int = 0
    """How many builds of it were judged scrap; their copies wait again."""

    @property
    def waiting(self) -> int:
        return max(0, self.wanted - self.good - self.building)

    @property
    def over(self) -> int:
        """Good pieces beyond what is wanted: they go to stock."""
        return max(0, self.good - self.wanted)

    def builds(self, pieces: int) -> int:
        """How many builds, each of so many pieces, the waiting copies take."""
        return -(-self.waiting // max(1, pieces))

    def state(self, *, held: bool, withdrawn: bool) -> JobState:
        """The job's state that follows from its copies and a person's wishes."""
        rules = (
            (self.good >= self.wanted, JobState.FINISHED),
            (withdrawn, JobState.WITHDRAWN),
            (self.building > 0, JobState.RUNNING),
            (held, JobState.HELD),
        )
        return next((state for holds, state in rules if holds), JobState.WAITING)


def next_copy(wanted: int, taken: Collection[int]) -> int | None:
    """The lowest copy number, from 1 to `wanted`, that no live build has; None when all are taken."""
    have = set(taken)
    return next((number for number in range(1, wanted + 1) if number not in have), None)
