"""Orders."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Header, Request, Response
from pydantic import BaseModel
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number, Word
from chronarch.records import tables as t
from chronarch.records.orders import orders as records
from chronarch.records.orders.jobs import copies_of, requirement_of
from chronarch.service.context import Context
from chronarch.service.control.builds import have_done
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.idempotency import Note, fingerprint, once
from chronarch.service.http.openapi import body
from chronarch.service.http.paging import Paged
from chronarch.service.http.views import TheViews
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.orders.job_views import OVER
from chronarch.service.orders.making import add_line, make_orders
from chronarch.service.orders.order_csv import LARGEST_CSV, orders_of_csv
from chronarch.service.orders.order_views import TheOrderViews
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem, sound
from chronarch.wire.control.commands import Stop
from chronarch.wire.orders import orders as w

router = APIRouter(tags=["orders"], route_class=RetryingRoute)


async def find_order(db: AsyncSession, number: int) -> t.Order:
    order = await db.get(t.Order, number)
    if order is None:
        raise ApiProblem(404, f"There is no order {number}; `chronarch orders list --all` shows all.")
    return order


@router.get("/orders", response_model=list[w.OrderBrief])
async def orders(request: Request, page: Paged, made: TheViews, views: TheOrderViews, ended: bool = False) -> Response:
    """Orders in work, soonest due first; with `ended` also finished and cancelled ones."""
    state = await views.jobs.outlook.version()
    return await made.read(request, list[w.OrderBrief], lambda db: views.page(db, page, ended), state, page)


@router.get("/orders/{number:record}")
async def order(number: Number, context: Context, fleet: TheFleet, views: TheOrderViews) -> w.Order:
    async with context.sessions() as db:
        return await views.now(db, await find_order(db, number))


@router.post("/orders", status_code=201, response_model=w.Order)
async def make_order(
    order: w.NewOrder,
    who: Caller,
    context: Context,
    fleet: TheFleet,
    views: TheOrderViews,
    idempotency_key: Annotated[Word | None, Header()] = None,
) -> Response:
    """Make an order. Each of its lines becomes a job at the end of the queue."""

    async def work(note: Note) -> tuple[int, BaseModel]:
        (made,) = await make_orders(context, fleet, views, [order], who.signature)
        return 201, made

    return await once(context, who.identity, idempotency_key, fingerprint("orders", order.model_dump_json()), work)


@router.post("/orders/from-csv", status_code=201, openapi_extra=body("text/csv"))
async def orders_from_csv(
    request: Request, who: Caller, context: Context, fleet: TheFleet, views: TheOrderViews
) -> list[w.Order]:
    """Make orders from CSV (RFC 4180). The first row names the columns: customer, and part or file; if wanted also
    order, due, quantity, material, colour, nozzle_mm, pool and note. Rows with the same `order` (or else the same
    customer and due time) are lines of one order. All orders are made, or none."""
    data = await request.body()
    if len(data) > LARGEST_CSV:
        raise ApiProblem(413, f"The CSV has {len(data)} bytes; {LARGEST_CSV} may be sent at once.")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise ApiProblem(422, f"The CSV is not UTF-8 (byte {error.start}); save it as UTF-8.") from None
    return await make_orders(context, fleet, views, orders_of_csv(text), who.signature)


@router.patch("/orders/{number:record}")
async def change_order(
    number: Number, change: w.OrderChange, who: Caller, context: Context, fleet: TheFleet, views: TheOrderViews
) -> w.Order:
    """Change an order, or add lines to it. Its due time, priority and hold apply to its lines that are not done."""
    given = change.model_fields_set
    async with context.sessions() as db:
        row = await find_order(db, number)
        if row.cancelled:
            raise ApiProblem(409, f"Order {number} is cancelled; repeat it instead.")
        jobs = (await records.jobs_of(db, [number]))[number]
        copies = await copies_of(db, jobs)
        live = [j for j in jobs if copies[j.id].state(held=j.held, withdrawn=j.withdrawn) not in OVER]
        for name in ("customer", "note", "tags"):
            if getattr(change, name) is not None:
                setattr(row, name, getattr(change, name))
        if "due" in given:
            row.due_at = change.due
        for job in live:
            if "due" in given:
                job.due_at = change.due
            if "not_before" in given:
                job.not_before = change.not_before
            if change.priority is not None:
                job.priority = change.priority
            if change.held is not None:
                job.held = change.held
        if change.add:
            row.finished_at = None
            if len(jobs) + len(change.add) > w.MOST_LINES:
                raise ApiProblem(422, f"An order may have {w.MOST_LINES} lines; make another one for the rest.")
            head = sound(
                w.NewOrder,
                customer=row.customer, due=row.due_at, lines=change.add, held=bool(live) and all(j.held for j in live),
                priority=max((j.priority for j in jobs), default=0),
                not_before=max((j.not_before for j in live if j.not_before), default=None),
            )  # fmt: skip
            for line in change.add:
                await add_line(context, fleet, db, row, line, head, who.signature)
        await db.commit()
        made = await views.now(db, row)
    return made


@router.post("/orders/{number:record}/cancel")
async def cancel_order(
    number: Number, asked: w.Cancel, who: Caller, context: Context, fleet: TheFleet, views: TheOrderViews
) -> w.Order:
    """Make nothing more for an order; good pieces go to stock. While copies of it are being built, the request must say
    what becomes of them, or it is refused (409)."""
    async with context.sessions() as db:
        row = await find_order(db, number)
        if row.cancelled:
            raise ApiProblem(409, f"Order {number} is cancelled already.")
        jobs = (await records.jobs_of(db, [number]))[number]
        running = await records.running_builds(db, [j.id for j in jobs])
        if running and asked.running is None:
            many = "1 build of it runs" if len(running) == 1 else f"{len(running)} builds of it run"
            raise ApiProblem(409, f"{many}; say whether to let them finish or to stop them.")
        await records.cancel(db, row)
        await db.commit()
    if asked.running == "stop":
        for build in running:
            stop = Stop(reason=f"order {number} was cancelled by {who.signature}")
            await have_done(context, fleet, build.id, stop, who.signature)
    async with context.sessions() as db:
        return await views.now(db, await find_order(db, number))


@router.post("/orders/{number:record}/repeat", status_code=201)
async def repeat_order(
    number: Number, change: w.OrderChange, who: Caller, context: Context, fleet: TheFleet, views: TheOrderViews
) -> w.Order:
    """Make the same order once more. Due time, note and priority may be given anew."""
    async with context.sessions() as db:
        row = await find_order(db, number)
        jobs = (await records.jobs_of(db, [number]))[number]
        lines = [
            w.NewOrderLine(
                part=j.part_id, file=j.file_id, quantity=j.copies, note=j.note,
                requirement=requirement_of(j)[0],
            )
            for j in jobs
        ]  # fmt: skip
        again = sound(
            w.NewOrder,
            customer=change.customer or row.customer, note=row.note if change.note is None else change.note,
            due=change.due, not_before=change.not_before, tags=row.tags if change.tags is None else change.tags,
            priority=max((j.priority for j in jobs), default=0) if change.priority is None else change.priority,
            held=bool(change.held), lines=lines,
        )  # fmt: skip
    (made,) = await make_orders(context, fleet, views, [again], who.signature, repeats=number)
    return made
