"""What the ledger says: intervals, utilisation, turnaround, history."""

from __future__ import annotations

from chronarch.core.ledger.turnaround import TurnaroundSummary
from chronarch.core.machines.states import MachineState
from chronarch.wire.common import Time, Wire, as_is

as_is(TurnaroundSummary)


class LedgerEntry(Wire):
    """One machine in one state; `end` is None while it lasts."""

    machine: str
    state: MachineState
    begin: Time
    end: Time | None
    build: int | None = None


class ModelPace(Wire):
    """How long builds on a model really take, as a factor on the planned time, learned from this many builds."""

    model: str
    pace: float
    builds: int


# history -----------------------------------------------------------------------------------------------------------


class ModelHistory(Wire):
    """What became of a file's or part's builds on one model. `real_s` and `planned_s` are of completed builds."""

    model: str
    builds: int
    good: int
    scrap: int
    completed: int
    planned_s: float
    real_s: float


class History(Wire):
    builds: int
    good: int
    scrap: int
    unjudged: int
    machines: dict[str, int]
    models: list[ModelHistory]


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
