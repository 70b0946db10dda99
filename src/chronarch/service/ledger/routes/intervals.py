"""The ledger's intervals."""

from __future__ import annotations

from datetime import timedelta

from fastapi import APIRouter

from chronarch.core.bounds import Word
from chronarch.records.ledger import intervals
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.ledger.span import span
from chronarch.service.machines.fleet import TheFleet
from chronarch.wire.common import GivenTime
from chronarch.wire.ledger import LedgerEntry

router = APIRouter(tags=["ledger"], route_class=RetryingRoute)


@router.get("/ledger")
async def ledger(
    context: Context,
    fleet: TheFleet,
    begin: GivenTime | None = None,
    end: GivenTime | None = None,
    machine: Word | None = None,
) -> list[LedgerEntry]:
    """What the ledger recorded between two times (by default the last eight hours), of one machine or all."""
    begin, end = span(context, begin, end, timedelta(hours=8))
    names = {known.row.id: known.row.name for known in fleet.all()}
    only = fleet.find(machine).row.id if machine else None
    async with context.sessions() as db:
        rows = await intervals.ledger_between(db, begin, end)
    return [
        intervals.entry_wire(names[row.machine_id], row)
        for row in rows
        if row.machine_id in names and only in (None, row.machine_id)
    ]
