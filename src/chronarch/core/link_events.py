"""What a line link says happened, and the states it has."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum, auto
from typing import NamedTuple

from chronarch.core.answers import Answer


class Acknowledged(NamedTuple):
    """`taken` commands of the program are the machine's now."""

    taken: int


@dataclass(frozen=True)
class Finished:
    """The program's last command has been taken. `count` is the machine's own word: so many of its commands."""

    count: int


@dataclass(frozen=True)
class Drained:
    """Held: nothing is outstanding any more; `count` commands were taken, by the machine's own word."""

    count: int


@dataclass(frozen=True)
class OutOfStep:
    """The machine wants a line this program does not have, or the same one again and again, or says nothing."""

    text: str


@dataclass(frozen=True)
class Stands:
    """The machine was asked where it stands: the number of the line it wants, None when it does not say."""

    wants: int | None


@dataclass(frozen=True)
class LostCount:
    """The machine wants less than it has taken: it has restarted."""


@dataclass(frozen=True)
class BadWire:
    """Too many lines arrive damaged for the checksum to be trusted; `share` of the last ones."""

    share: float


@dataclass(frozen=True)
class SlowWire:
    """The wire takes so long to answer, in the mean; told once a connection."""

    round_trip_s: float


@dataclass(frozen=True)
class Overdue:
    """The machine has been at a command for longer than it may plausibly take; told once a command."""

    command: str
    waited_s: float


@dataclass(frozen=True)
class Silent:
    """Nothing has been heard for several waits: the connection should be made anew."""


LinkEvent = (
    Acknowledged | Finished | Drained | OutOfStep | Stands | LostCount | BadWire | SlowWire | Overdue | Silent | Answer
)


class LinkState(Enum):
    AWAY = auto()
    RESTING = auto()
    COUNTING = auto()
    FEEDING = auto()
    RECOVERING = auto()
    CONFIRMING = auto()
    ASKING = auto()
