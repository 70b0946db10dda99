"""Reports from the ledger."""

from __future__ import annotations

import csv
import io
from datetime import timedelta
from typing import Annotated, Literal

from fastapi import APIRouter, Query, Response

from chronarch.core.ledger.intervals import Interval, Usage, clip, total, usage
from chronarch.core.ledger.turnaround import BuildSpan, gaps, summed
from chronarch.core.machines.states import MachineState
from chronarch.records.ledger import intervals
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.ledger.span import span
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.planning.settings import load_settings
from chronarch.wire import ledger as w
from chronarch.wire.common import GivenTime, fill

router = APIRouter(tags=["report"], route_class=RetryingRoute)


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
    begin: Annotated[GivenTime | None, Query(alias="from")] = None,
    end: Annotated[GivenTime | None, Query(alias="to")] = None,
) -> w.TurnaroundReport:
    """The time from the end of a build to the start of the next on the same machine, by machine and by whether somebody
    was there when it ended. By default of the last seven days."""
    begin, end = span(context, begin, end, timedelta(days=7))
    names = {known.row.id: known.row.name for known in fleet.all()}
    sites = {known.row.name: known.row.site for known in fleet.all()}
    async with context.sessions() as db:
        settings = await load_settings(db)
        rows = await intervals.builds_that_ran(db, begin, end)
    ran = [BuildSpan(names[m], started, ended or context.clock.now()) for m, started, ended in rows if m in names]
    found = []
    for site in sorted(set(sites.values())):
        mine = [r for r in ran if sites[r.machine] == site]
        found += gaps(mine, settings.staffing(begin - timedelta(days=8), end + timedelta(days=1), site))
    found = [g for g in found if g.begin >= begin]
    machines = [row for name in sites for row in summed(name, [g for g in found if g.machine == name])]
    return w.TurnaroundReport(begin=begin, end=end, machines=machines, fleet=summed("Fleet", found))


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
    async with context.sessions() as db:
        rows = await intervals.ledger_between(db, begin, min(end, context.clock.now()))
        made = await intervals.builds_ended_between(db, begin, end)
    by_machine: dict[int, list[Interval]] = {}
    for row in rows:
        by_machine.setdefault(row.machine_id, []).append(intervals.interval_of(row))
    until = min(end, context.clock.now())
    usages = [
        usage(known.row.name, clip(by_machine.get(known.row.id, []), begin, until), made.get(known.row.id, []))
        for known in fleet.all()
    ]
    report = w.Utilisation(begin=begin, end=end, machines=[_row(u) for u in usages], fleet=_row(total("Fleet", usages)))
    return Response(as_csv(report), media_type="text/csv; charset=utf-8") if form == "csv" else report
