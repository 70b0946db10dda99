"""Reports from the ledger."""

from __future__ import annotations

from chronarch.core.states import MachineState
from chronarch.wire.common import Time, Wire


class UsageRow(Wire):
    """One machine, or the fleet, over the report's span."""

    name: str
    seconds: dict[MachineState, float]
    recorded_s: float
    """Seconds of the span the ledger covers for this row."""
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
