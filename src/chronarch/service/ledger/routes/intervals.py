"""The ledger's intervals, and its days."""

from __future__ import annotations

from datetime import UTC, datetime, time, timedelta
from functools import partial

from fastapi import APIRouter, Request, Response
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Word
from chronarch.core.machines.states import MachineState
from chronarch.records import tables as t
from chronarch.records.ledger import intervals
from chronarch.records.ledger.roll_up import roll_up
from chronarch.records.paging import moment, number
from chronarch.service.background import TheBackground
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import ManyPaged
from chronarch.service.http.views import TheViews
from chronarch.service.ledger.prover import TheLedgerProver
from chronarch.service.ledger.span import span
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import GivenTime, RequestDone
from chronarch.wire.ledger.intervals import LedgerEntry, LedgerProof, RollUp, RollUpFigures

router = APIRouter(tags=["ledger"], route_class=RetryingRoute)
KEPT_WHOLE = timedelta(days=3 * 366)
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
        return [LedgerEntry.of(names[machine], i) for machine, i in page.cut(rows, lambda row: (row[0], row[1].begin))]

    return await views.read(request, list[LedgerEntry], work, context.changes.version("ledger"), page, good_for_s=1.0)


@router.post("/ledger/verify")
async def verify(fleet: TheFleet, prover: TheLedgerProver, machine: Word | None = None) -> LedgerProof:
    """Prove that the ledger of a machine, or of all, is whole. Machines work on meanwhile."""
    return await prover.prove([fleet.find(machine)] if machine else fleet.all())


@router.post("/ledger/roll-up")
async def roll_up_ledger(asked: RollUp, context: Context, fleet: TheFleet, background: TheBackground) -> RollUpFigures:
    """Have days tell what intervals tell of the time before a day: how long each machine was in each state on each day,
    no longer when. Three years are kept whole. Machines work on meanwhile."""
    before = datetime.combine(asked.before, time(), UTC)
    today = context.clock.now().astimezone(UTC)
    if before > today - KEPT_WHOLE:
        raise ApiProblem(422, f"Three years are kept whole: say {(today - KEPT_WHOLE).date()} or an earlier day.")
    rolled = [
        await background.run(partial(roll_up, machine=known.row.id, before=before, do=asked.do))
        for known in fleet.all()
    ]
    was, became = (
        {state: sum(getattr(one, name)[state] for one in rolled) / 3.6e9 for state in MachineState}
        for name in ("was", "became")
    )
    return RollUpFigures(
        before=asked.before, done=asked.do, machines=len(rolled), intervals_were=sum(one.before for one in rolled),
        intervals_are=sum(one.after for one in rolled), hours_were=was, hours_are=became,
    )  # fmt: skip


@router.post("/ledger/rebuild")
async def rebuild(fleet: TheFleet, background: TheBackground) -> RequestDone:
    """Make the days that reports of long spans add up anew from the intervals. Machines work on meanwhile."""
    many = 0
    for known in fleet.all():
        many += await background.run(partial(intervals.rebuild_days, machine=known.row.id))
    return RequestDone(text=f"The days of {len(fleet.all())} machines were made anew from {many:,} intervals.")
