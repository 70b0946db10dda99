"""What the ledger says: intervals, utilisation, turnaround, history."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from pydantic import Field

from chronarch.core.ledger.intervals import OPEN_END, Interval
from chronarch.core.ledger.learning import History, ModelHistory, ModelPace
from chronarch.core.ledger.turnaround import TurnaroundSummary
from chronarch.core.machines.states import MachineState
from chronarch.wire.common import Time, Wire, as_is

as_is(TurnaroundSummary, ModelPace, ModelHistory, History)


class LedgerEntry(Wire):
    """One machine in one state; `end` is None while it lasts."""

    machine: str
    state: MachineState
    begin: Time
    end: Time | None
    build: int | None = None
    reason: str = ""
    """Why it came to that state, if there was something to say."""

    @classmethod
    def of(cls, machine: str, i: Interval) -> LedgerEntry:
        end = None if i.end == OPEN_END else i.end
        return cls(machine=machine, state=i.state, begin=i.begin, end=end, build=i.build, reason=i.reason)


class BuildLife(Wire):
    """A build's life as the ledger has it, and the builds of its machine before and after it."""

    intervals: list[LedgerEntry]
    before: int | None
    after: int | None


class BuildLayers(Wire):
    """How long each layer was planned to take, and took, s; layers are counted from 1. What was not seen from beginning
    to end is null. `pace` is how many seconds a planned one took, over the layers that are known."""

    planned_s: list[float]
    took_s: list[float | None]
    pace: float | None


class RollUp(Wire):
    """What is to be rolled up into days."""

    before: Annotated[date, Field(ge=date(1970, 1, 1), le=date(9000, 1, 1))]
    """Everything before this day (UTC)."""
    do: bool = False
    """Do it; otherwise only say what it would come to."""


class RollUpFigures(Wire):
    """What rolling up came to, or would: intervals, and hours in each state, of all that lies before the day."""

    before: date
    done: bool
    machines: int
    intervals_were: int
    intervals_are: int
    hours_were: dict[MachineState, float]
    hours_are: dict[MachineState, float]


class LedgerFault(Wire):
    """Something that the ledger of a machine has wrong."""

    machine: str
    text: str
    at: Time | None = None
    """When it happened, if that can be said."""


class LedgerProof(Wire):
    """Whether the ledger is whole: of every machine, intervals cover all time with no gap and no overlap, builds lie
    within theirs, days add up, and grams and Wh are counted once."""

    at: Time
    """Shop time."""
    took_s: float
    machines: int
    intervals: int
    builds: int
    grams: float
    wh: float
    found: int
    """How many faults there are."""
    faults: list[LedgerFault]
    """The first thousand of them."""


class TurnaroundReport(Wire):
    begin: Time
    end: Time
    machines: list[TurnaroundSummary]
    fleet: list[TurnaroundSummary]


class UsageRow(Wire):
    """One machine, or the fleet, over the report's span."""

    name: str
    seconds: dict[MachineState, float]
    recorded_s: float
    """Seconds of the span that the ledger covers for this row."""
    utilisation: float
    """Share of recorded time spent warming and building, 0 to 1."""
    printing_h: float
    good: int
    scrap: int
    unjudged: int
    grams: float


class Utilisation(Wire):
    begin: Time
    end: Time
    machines: list[UsageRow]
    fleet: UsageRow
