"""The ledger's intervals, and its days."""

from __future__ import annotations

from datetime import timedelta
from functools import partial

from fastapi import APIRouter, Request, Response
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Word
from chronarch.core.ledger.intervals import OPEN_END
from chronarch.records import tables as t
from chronarch.records.ledger import intervals
from chronarch.records.paging import moment, number
from chronarch.service.background import TheBackground
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import ManyPaged
from chronarch.service.http.views import TheViews
from chronarch.service.ledger.span import span
from chronarch.service.machines.fleet import TheFleet
from chronarch.wire.common import GivenTime, RequestDone
from chronarch.wire.ledger import LedgerEntry

router = APIRouter(tags=["ledger"], route_class=RetryingRoute)
PLACE = (number(t.Ledger.machine_id), moment(t.Ledger.begin_at))


@router.get("/ledger", response_model=list[LedgerEntry])
async def ledger(
    request: Request,
    page: ManyPaged,
    context: Context,
    fleet: TheFleet,
    views: TheViews,
    begin: GivenTime | None = None,
    end: GivenTime | None = None,
    machine: Word | None = None,
) -> Response:
    """What the ledger recorded between two times (by default the last eight hours), of one machine or all."""
    first, last = span(context, begin, end, timedelta(hours=8))
    names = {known.row.id: known.row.name for known in (fleet.all() if not machine else [fleet.find(machine)])}
    after = page.place(PLACE)

    async def work(db: AsyncSession) -> list[LedgerEntry]:
        rows = await intervals.ledger_between(db, list(names), first, last, after, page.limit + 1)
        return [
            LedgerEntry(
                machine=names[machine], state=i.state, begin=i.begin, end=None if i.end == OPEN_END else i.end,
                build=i.build,
            )
            for machine, i in page.cut(rows, lambda row: (row[0], row[1].begin))
        ]  # fmt: skip

    return await views.read(request, list[LedgerEntry], work, context.changes.version("ledger"), page, good_for_s=1.0)


@router.post("/ledger/rebuild")
async def rebuild(fleet: TheFleet, background: TheBackground) -> RequestDone:
    """Make the days that reports of long spans add up anew from the intervals. Machines work on meanwhile."""
    many = 0
    for known in fleet.all():
        many += await background.run(partial(intervals.rebuild_days, machine=known.row.id))
    return RequestDone(text=f"The days of {len(fleet.all())} machines were made anew from {many:,} intervals.")
