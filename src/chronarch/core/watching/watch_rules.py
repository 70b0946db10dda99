"""What follows when the watch suspects something: decided for the shop, a machine or a job; the most particular rule
that there is holds."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from typing import Annotated

from annotated_types import Len

from chronarch.core.watching.suspicion import OF_OBJECT, FailureMode


class WatchScope(StrEnum):
    """What a rule is for; the most particular one first."""

    JOB = "job"
    MACHINE = "machine"
    SHOP = "shop"


class Follow(StrEnum):
    """What follows of a suspicion."""

    NOTHING = "nothing"
    TELL = "tell"
    LEAVE_OUT = "leave-out"
    PAUSE = "pause"


@dataclass(frozen=True)
class WatchRule:
    """`follow` says for each kind what follows; a kind that is not named is told, and a bed that is not clear takes no
    work. `reason` is why the watch is off, if it is and somebody said so."""

    on: bool = True
    reason: Annotated[str, Len(0, 200)] = ""
    follow: Annotated[dict[FailureMode, Follow], Len(0, len(FailureMode))] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for mode, follow in self.follow.items():
            if follow is Follow.LEAVE_OUT and mode not in OF_OBJECT:
                raise ValueError(f"{mode} befalls a whole build; no one object can be left out for it")

    def follows(self, mode: FailureMode) -> Follow:
        usual = Follow.PAUSE if mode is FailureMode.NOT_CLEAR else Follow.TELL
        return self.follow.get(mode, usual) if self.on else Follow.NOTHING


def what_is_done(follow: Follow, object_: str, others: int) -> Follow:
    """What is really done: an object is left out where it has a name and others go on, else the build is paused."""
    if follow is Follow.LEAVE_OUT and not (object_ and others):
        return Follow.PAUSE
    return follow
