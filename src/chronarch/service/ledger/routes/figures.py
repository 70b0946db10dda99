"""Figures: any measure of the records, by what one likes, over any time."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated

from fastapi import APIRouter, Query, Response

from chronarch.core.ledger.measures import MEASURES
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.ledger.figures_answer import answer_figures, figures_as_csv, measure_info
from chronarch.service.ledger.span import span
from chronarch.service.machines.fleet import TheFleet
from chronarch.wire.ledger import figures as w

router = APIRouter(tags=["report"], route_class=RetryingRoute)
USUAL = timedelta(days=28)


@router.get("/report/measures")
async def measures() -> list[w.MeasureInfo]:
    """What can be asked of the records, each with its formula."""
    return [measure_info(measure) for measure in MEASURES]


@router.get(
    "/report/figures",
    response_model=w.FiguresReport,
    responses={200: {"content": {"text/csv": {"schema": {"type": "string"}}}}},
)
async def figures(
    context: Context, fleet: TheFleet, asked: Annotated[w.FiguresAsked, Query()]
) -> w.FiguresReport | Response:
    """Measures of the records by machine, place, calendar or what was made, beside those of another time if wished.
    Builds count when they ended. Each row says which builds are behind it."""
    begin, end = span(context, asked.begin, asked.end, USUAL)
    async with context.sessions() as db:
        report = await answer_figures(db, fleet, asked, begin, end, context.clock.now())
    if asked.format == "csv":
        return Response(figures_as_csv(report), media_type="text/csv; charset=utf-8")
    return report
