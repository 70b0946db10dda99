"""What the ledger says: intervals, utilisation, turnaround, history."""

from __future__ import annotations

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
