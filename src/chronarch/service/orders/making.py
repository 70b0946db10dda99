"""Making orders with their lines."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.orders.quantities import JobQuantities
from chronarch.records import tables as t
from chronarch.records.orders import orders as records
from chronarch.records.orders.stock import stock_key, take_stock
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet
from chronarch.service.orders.jobs import make_job
from chronarch.service.orders.order_views import OrderViews
from chronarch.service.problems import ApiProblem
from chronarch.wire.orders import orders as w
from chronarch.wire.orders.jobs import NewJob


async def make_orders(
    context: ServiceContext,
    fleet: Fleet,
    views: OrderViews,
    wanted: Sequence[w.NewOrder],
    by: str,
    repeats: int | None = None,
) -> list[w.Order]:
    """Make all of these orders, or none."""
    async with context.sessions() as db:
        rows = []
        for o in wanted:
            row = t.Order(
                customer=o.customer.strip(), note=o.note, due_at=o.due, tags=o.tags, repeats=repeats,
                created_at=context.clock.now(), created_by=by,
            )  # fmt: skip
            db.add(row)
            await db.flush()
            for line in o.lines:
                await add_line(context, fleet, db, row, line, o, by)
            rows.append(row)
        await db.commit()
        made = [await views.now(db, row) for row in rows]
    return made


async def add_line(
    context: ServiceContext, fleet: Fleet, db: AsyncSession, row: t.Order, line: w.NewOrderLine, o: w.NewOrder, by: str
) -> None:
    job = await make_job(
        context, fleet,
        db,
        NewJob(
            file=line.file, part=line.part, copies=line.quantity, requirement=line.requirement, held=o.held,
            priority=o.priority, due=o.due, not_before=o.not_before, note=line.note, tags=o.tags,
        ),
        by,
    )  # fmt: skip
    job.order_id = row.id
    if line.from_stock:
        taken = await take_stock(db, stock_key(job), line.from_stock)
        if taken < line.from_stock:
            raise ApiProblem(409, f"Only {taken} of the {line.from_stock} pieces are in stock; take fewer from it.")
        job.from_stock = taken
    await records.settle(db, job, JobQuantities(job.copies, 0, 0), context.clock.now())
