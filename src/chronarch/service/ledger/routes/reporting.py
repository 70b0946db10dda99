"""Reports that come by themselves: planned, looked at before, sent now, and opened again as they were."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from fastapi import APIRouter, Query, Response
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number
from chronarch.core.ledger.report_periods import ReportPeriod
from chronarch.records import tables as t
from chronarch.records.paging import number as by_number
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import Paged
from chronarch.service.ledger.reporting import pdf
from chronarch.service.ledger.reporting.reporter import Reporter, TheReporter, page_of, words_of
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import GivenTime, RequestDone, fill
from chronarch.wire.ledger import reporting as w

router = APIRouter(tags=["report"], route_class=RetryingRoute)
MOST_PLANS = 100
Before = Annotated[GivenTime | None, Query(description="Of the newest period that was over by then; now without it.")]


@router.get("/report/plans")
async def plans(context: Context) -> list[w.ReportPlan]:
    """All reports that come by themselves."""
    query = select(t.ReportPlan).where(t.ReportPlan.dropped_at.is_(None)).order_by(t.ReportPlan.name, t.ReportPlan.id)
    async with context.sessions() as db:
        return [fill(w.ReportPlan, row) for row in (await db.execute(query)).scalars()]


@router.post("/report/plans", status_code=201)
async def add_plan(asked: w.NewReportPlan, who: Caller, context: Context, reporter: TheReporter) -> w.ReportPlan:
    """Have a report come by itself, from the next period on."""
    async with context.sessions() as db:
        there = select(func.count()).select_from(t.ReportPlan).where(t.ReportPlan.dropped_at.is_(None))
        if (await db.execute(there)).scalar_one() >= MOST_PLANS:
            raise ApiProblem(409, f"There are {MOST_PLANS} reports already; drop those that nobody reads.")
        row = t.ReportPlan(made_by=who.signature, last_end=context.clock.now())
        await _set(db, row, asked)
        db.add(row)
        await db.flush()
        period = await reporter.period(db, row)
        row.last_end = period.end if period else context.clock.now()
        await db.commit()
        return fill(w.ReportPlan, row)


@router.put("/report/plans/{number:record}")
async def change_plan(number: Number, asked: w.NewReportPlan, context: Context) -> w.ReportPlan:
    async with context.sessions() as db:
        row = await _find_plan(db, number)
        await _set(db, row, asked)
        await db.commit()
        return fill(w.ReportPlan, row)


@router.delete("/report/plans/{number:record}")
async def drop_plan(number: Number, context: Context) -> RequestDone:
    """It does not come any more; what was made of it stays."""
    async with context.sessions() as db:
        row = await _find_plan(db, number)
        row.dropped_at = context.clock.now()
        await db.commit()
    return RequestDone(text=f"{row.name} does not come any more.")


@router.get("/report/plans/{number:record}/preview")
async def preview(number: Number, context: Context, reporter: TheReporter, before: Before = None) -> w.ReportPage:
    """What the report of the newest period that is over says, or was over before a time. It is not kept or sent."""
    async with context.sessions() as db:
        row = await _find_plan(db, number)
        found = await reporter.contents(db, row, await _period(db, reporter, row, before))
    return w.ReportPage(name=f"{found.name}, {found.period}", page=page_of(found), words=words_of(found))


@router.post("/report/plans/{number:record}/send")
async def send_now(
    number: Number, who: Caller, context: Context, reporter: TheReporter, before: Before = None
) -> w.KeptReport:
    """Make the report of the newest period that is over, or was over before a time; keep it, and send it to whom the
    plan says."""
    async with context.sessions() as db:
        row = await _find_plan(db, number)
        made = await reporter.make(db, row, await _period(db, reporter, row, before), who.signature)
        await db.commit()
        return _kept(made)


@router.get("/report/kept")
async def kept(context: Context, page: Paged, response: Response) -> list[w.KeptReport]:
    """All reports that were made, newest first."""
    rows = t.KeptReport
    columns: tuple[Any, ...] = (
        rows.id, rows.plan_id, rows.name, rows.begin_at, rows.end_at, rows.made_at, rows.asked_by, rows.sent, rows.to,
        rows.trouble,
    )  # fmt: skip
    newest: Any = select(*columns)
    async with context.sessions() as db:
        found = (await db.execute(page.of(newest, by_number(rows.id, descending=True)))).all()
    shown = page.cut(found, lambda row: (row.id,))
    if page.next:
        response.headers["Link"] = page.next
    return [_kept(row) for row in shown]


@router.get("/report/kept/{number:record}")
async def open_kept(number: Number, context: Context) -> w.ReportPage:
    """A report as it was."""
    row = await _find_kept(context, number)
    return w.ReportPage(name=row.name, page=row.page, words=row.words)


@router.get(
    "/report/kept/{number:record}/pdf", response_class=Response, responses={200: {"content": {"application/pdf": {}}}}
)
async def as_pdf(number: Number, context: Context) -> Response:
    row = await _find_kept(context, number)
    return Response(await pdf.made(row.page), media_type="application/pdf")


@router.get("/report/kept/{number:record}/csv", response_class=Response, responses={200: {"content": {"text/csv": {}}}})
async def as_csv(number: Number, context: Context) -> Response:
    """The figures of each machine, as they were."""
    row = await _find_kept(context, number)
    return Response(row.rows, media_type="text/csv; charset=utf-8")


async def _set(db: AsyncSession, row: t.ReportPlan, asked: w.NewReportPlan) -> None:
    """Raises ApiProblem (404) for a person that there is not."""
    for login in (one for one in asked.to if "@" not in one):
        if (await db.execute(select(t.Person.id).where(t.Person.login == login))).scalar() is None:
            raise ApiProblem(404, f"There is nobody called {login}; give a login or an address.")
    for name, value in asked.model_dump().items():
        setattr(row, name, value)


async def _period(db: AsyncSession, reporter: Reporter, plan: t.ReportPlan, before: datetime | None) -> ReportPeriod:
    period = await reporter.period(db, plan, before)
    if period is None:
        raise ApiProblem(409, f"No {plan.every} is over yet that it could be about; set when hands are there.")
    return period


async def _find_plan(db: AsyncSession, number: int) -> t.ReportPlan:
    row = await db.get(t.ReportPlan, number, with_for_update=True)
    if row is None or row.dropped_at is not None:
        raise ApiProblem(404, f"There is no report {number} that comes by itself; `chronarch reports` shows them.")
    return row


async def _find_kept(context: Context, number: int) -> t.KeptReport:
    async with context.sessions() as db:
        row = await db.get(t.KeptReport, number)
    if row is None:
        raise ApiProblem(404, f"There is no report {number}; `chronarch reports kept` shows them.")
    return row


def _kept(row: object) -> w.KeptReport:
    names = {"plan": "plan_id", "begin": "begin_at", "end": "end_at"}
    return fill(w.KeptReport, row, **{name: getattr(row, column) for name, column in names.items()})
