"""Reports from the ledger."""

from __future__ import annotations

import asyncio
import csv
import io
from datetime import timedelta
from typing import Annotated, Literal

import numpy as np
from fastapi import APIRouter, Query, Response
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.intervals import Usage, total, usage
from chronarch.core.ledger.turnaround import gaps, joined, microseconds, summed
from chronarch.core.machines.states import MachineState
from chronarch.records.ledger import intervals
from chronarch.service.background import TheBackground
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.ledger.span import span
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.planning.settings import load_settings
from chronarch.wire.common import GivenTime, fill
from chronarch.wire.ledger import intervals as w

router = APIRouter(tags=["report"], route_class=RetryingRoute)
BEFORE = timedelta(days=7)
"""How long before a report's span the build began, at the earliest, whose end begins its first gap."""


def _row(u: Usage) -> w.UsageRow:
    return fill(w.UsageRow, u, seconds=dict(u.seconds), recorded_s=u.total_s, printing_h=u.printing_s / 3600)


def as_csv(report: w.Utilisation) -> str:
    """The report as RFC 4180 rows: one for each machine, the fleet last."""
    out = io.StringIO()
    table = csv.writer(out)
    states = [f"{state}_h" for state in MachineState]
    table.writerow(["name", "utilisation", "printing_h", "recorded_h", *states, "good", "scrap", "unjudged", "grams"])
    for r in [*report.machines, report.fleet]:
        hours = [f"{r.seconds[state] / 3600:.4f}" for state in MachineState]
        head = [r.name, f"{r.utilisation:.4f}", f"{r.printing_h:.4f}", f"{r.recorded_s / 3600:.4f}"]
        table.writerow([*head, *hours, r.good, r.scrap, r.unjudged, f"{r.grams:.2f}"])
    return out.getvalue()


@router.get("/report/turnaround")
async def turnaround(
    context: Context,
    fleet: TheFleet,
    background: TheBackground,
    begin: Annotated[GivenTime | None, Query(alias="from")] = None,
    end: Annotated[GivenTime | None, Query(alias="to")] = None,
) -> w.TurnaroundReport:
    """The time from the end of a build to the start of the next on the same machine, by machine and by whether somebody
    was there when it ended. By default of the last seven days."""
    begin, end = span(context, begin, end, timedelta(days=7))
    now, machines = context.clock.now(), [(known.row.id, known.row.name, known.row.site) for known in fleet.all()]

    async def work(db: AsyncSession) -> w.TurnaroundReport:
        settings = await load_settings(db)
        ran = await intervals.builds_that_ran(db, begin - BEFORE, end, now)
        none = gaps(ran[:0], ())
        of_sites = [none]
        for site in sorted({site for _, _, site in machines}):
            mine = [number for number, _, there in machines if there == site]
            staffing = settings.staffing(begin - timedelta(days=1), end + timedelta(days=1), site)
            of_sites.append(gaps(ran[np.isin(ran[:, 0], mine)], staffing.spans))
        found = joined(of_sites)
        found = found.only(found.begin >= microseconds(begin))
        of = found.by_machine()
        rows = [row for number, name, _ in machines for row in summed(name, of.get(number, none))]
        return w.TurnaroundReport(begin=begin, end=end, machines=rows, fleet=summed("Fleet", found))

    return await background.run(work)


@router.get(
    "/report/utilisation",
    response_model=w.Utilisation,
    responses={200: {"content": {"text/csv": {"schema": {"type": "string"}}}}},
)
async def utilisation(
    context: Context,
    fleet: TheFleet,
    begin: Annotated[GivenTime | None, Query(alias="from")] = None,
    end: Annotated[GivenTime | None, Query(alias="to")] = None,
    form: Annotated[Literal["json", "csv"], Query(alias="format")] = "json",
) -> w.Utilisation | Response:
    """Each machine's share of time in each state, its builds and its filament, from the ledger. By default of the last
    seven days."""
    begin, end = span(context, begin, end, timedelta(days=7))
    until, machines = min(end, context.clock.now()), {known.row.id: known.row.name for known in fleet.all()}

    async def time() -> intervals.TimeInStates:
        async with context.sessions() as db:
            return await intervals.time_in_states(db, list(machines), begin, until)

    async def builds() -> dict[int, dict[str, tuple[int, float]]]:
        async with context.sessions() as db:
            return await intervals.builds_ended_between(db, list(machines), begin, end)

    # each with a connection of its own, given back when it is done: nobody waits for a second one while holding one
    spent, made = await asyncio.gather(time(), builds())
    usages = [usage(name, spent[number], made.get(number, {})) for number, name in machines.items()]
    report = w.Utilisation(begin=begin, end=end, machines=[_row(u) for u in usages], fleet=_row(total("Fleet", usages)))
    return Response(as_csv(report), media_type="text/csv; charset=utf-8") if form == "csv" else report
