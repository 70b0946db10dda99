"""The states of the line protocol, and what it says happened."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum, auto
from typing import NamedTuple

from chronarch.core.control.responses import Response


class Acknowledged(NamedTuple):
    """The machine has taken `taken` commands of the program."""

    taken: int


@dataclass(frozen=True)
class Finished:
    """The last command of the program is taken. `count` is what the machine itself says it has taken."""

    count: int


@dataclass(frozen=True)
class Drained:
    """Held: nothing is outstanding. The machine itself says that it has taken `count` commands."""

    count: int


@dataclass(frozen=True)
class OutOfStep:
    """The machine wants a line this program does not have, or the same one again and again, or says nothing."""

    text: str


@dataclass(frozen=True)
class NextLineWanted:
    """The machine was asked, and this is the number of the line that it wants; None when it does not say."""

    wants: int | None


@dataclass(frozen=True)
class LostCount:
    """The machine wants a line before those that it has taken: it has restarted."""


@dataclass(frozen=True)
class DamagedWire:
    """Too many lines arrive damaged for the checksum to be trusted; `share` of the last ones."""

    share: float


@dataclass(frozen=True)
class SlowWire:
    """The wire takes so long to answer, in the mean; told once a connection."""

    round_trip_s: float


@dataclass(frozen=True)
class Overdue:
    """The machine has spent longer on a command than it plausibly can; told once a command."""

    command: str
    waited_s: float


@dataclass(frozen=True)
class Silent:
    """Nothing was heard for several waits: connect anew."""


ProtocolEvent = (
    Acknowledged
    | Finished
    | Drained
    | OutOfStep
    | NextLineWanted
    | LostCount
    | DamagedWire
    | SlowWire
    | Overdue
    | Silent
    | Response
)


class ProtocolState(Enum):
    AWAY = auto()
    RESTING = auto()
    COUNTING = auto()
    FEEDING = auto()
    RECOVERING = auto()
    CONFIRMING = auto()
    ASKING = auto()
