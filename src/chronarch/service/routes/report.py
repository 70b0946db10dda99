"""Reports from the ledger."""

from __future__ import annotations

import csv
import io
from datetime import timedelta
from typing import Annotated, Literal

from fastapi import APIRouter, Query, Response

from chronarch.core.ledger import Interval, Usage, clip, total, usage
from chronarch.core.states import MachineState
from chronarch.records import queries
from chronarch.service.access import Reader
from chronarch.service.routes.machines import span
from chronarch.service.shop import TheShop
from chronarch.wire import report as w
from chronarch.wire.common import Time

router = APIRouter(tags=["report"])


def _row(u: Usage) -> w.UsageRow:
    return w.UsageRow(
        name=u.name,
        seconds=dict(u.seconds),
        recorded_s=u.total_s,
        utilisation=u.utilisation,
        printing_h=u.printing_s / 3600,
        good=u.good,
        scrap=u.scrap,
        unjudged=u.unjudged,
        grams=u.grams,
    )


def as_csv(report: w.Utilisation) -> str:
    """The report as RFC 4180 rows: one a machine, the fleet last."""
    out = io.StringIO()
    table = csv.writer(out)
    states = [f"{state}_h" for state in MachineState]
    table.writerow(["name", "utilisation", "printing_h", "recorded_h", *states, "good", "scrap", "unjudged", "grams"])
    for r in [*report.machines, report.fleet]:
        hours = [f"{r.seconds[state] / 3600:.4f}" for state in MachineState]
        head = [r.name, f"{r.utilisation:.4f}", f"{r.printing_h:.4f}", f"{r.recorded_s / 3600:.4f}"]
        table.writerow([*head, *hours, r.good, r.scrap, r.unjudged, f"{r.grams:.2f}"])
    return out.getvalue()


@router.get("/report/utilisation", response_model=w.Utilisation)
async def utilisation(
    who: Reader,
    shop: TheShop,
    begin: Annotated[Time | None, Query(alias="from")] = None,
    end: Annotated[Time | None, Query(alias="to")] = None,
    form: Annotated[Literal["json", "csv"], Query(alias="format")] = "json",
) -> w.Utilisation | Response:
    """Each machine's share of time in each state, its builds and filament, from the ledger; the last seven days without
    a span."""
    begin, end = span(shop, begin, end, timedelta(days=7))
    async with shop.sessions() as db:
        rows = await queries.ledger_between(db, begin, min(end, shop.clock.now()))
        made = await queries.builds_ended_between(db, begin, end)
    by_machine: dict[int, list[Interval]] = {}
    for row in rows:
        by_machine.setdefault(row.machine_id, []).append(queries.interval_of(row))
    until = min(end, shop.clock.now())
    usages = [
        usage(known.row.name, clip(by_machine.get(known.row.id, []), begin, until), made.get(known.row.id, []))
        for known in shop.fleet.all()
    ]
    report = w.Utilisation(begin=begin, end=end, machines=[_row(u) for u in usages], fleet=_row(total("Fleet", usages)))
    return Response(as_csv(report), media_type="text/csv; charset=utf-8") if form == "csv" else report
