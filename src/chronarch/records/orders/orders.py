"""Orders and their lines."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.orders.quantities import JobQuantities
from chronarch.core.orders.states import JobState
from chronarch.records.orders.jobs import copies_of
from chronarch.records.orders.stock import add_stock, stock_key
from chronarch.records.orders.tables import Build, Job, Order


async def jobs_of(db: AsyncSession, orders: Iterable[int]) -> dict[int, list[Job]]:
    """The lines of orders, by order number."""
    found: dict[int, list[Job]] = {number: [] for number in orders}
    if found:
        for job in (await db.execute(select(Job).where(Job.order_id.in_(found)).order_by(Job.id))).scalars():
            found[job.order_id or 0].append(job)
    return found


def state_of(order: Order, jobs: Sequence[Job], copies: dict[int, JobQuantities]) -> str:
    """waiting, held, running, finished or cancelled, as its lines imply."""
    if order.cancelled:
        return "cancelled"
    states = [copies[j.id].state(held=j.held, withdrawn=j.withdrawn) for j in jobs]
    live = [s for s in states if s not in (JobState.FINISHED, JobState.WITHDRAWN)]
    if not live:
        return "finished"
    if all(s is JobState.HELD for s in live):
        return "held"
    running = JobState.RUNNING in live or any(copies[j.id].good or copies[j.id].building for j in jobs)
    return "running" if running else "waiting"


async def settle(db: AsyncSession, job: Job, before: JobQuantities, now: datetime) -> None:
    """After a verdict or a change of quantity: surplus pieces go to stock, and an order whose lines are all done is
    finished."""
    await db.flush()
    after = (await copies_of(db, [job]))[job.id]
    order = await db.get(Order, job.order_id) if job.order_id is not None else None
    if order is not None and order.cancelled:
        await add_stock(db, stock_key(job), after.good - before.good)
        return
    await add_stock(db, stock_key(job), after.over - before.over)
    if order is not None:
        jobs = (await jobs_of(db, [order.id]))[order.id]
        finished = state_of(order, jobs, await copies_of(db, jobs)) == "finished"
        order.finished_at = (order.finished_at or now) if finished else None


async def cancel(db: AsyncSession, order: Order) -> None:
    """Make nothing more for it; what is good already goes to stock."""
    jobs = (await jobs_of(db, [order.id]))[order.id]
    copies = await copies_of(db, jobs)
    for job in jobs:
        job.withdrawn = True
        await add_stock(db, stock_key(job), copies[job.id].good - copies[job.id].over)
    order.cancelled = True


async def running_builds(db: AsyncSession, jobs: Iterable[int]) -> list[Build]:
    """Builds of jobs that have not ended."""
    query = select(Build).where(Build.job_id.in_(list(jobs)), Build.state != "ended")
    return list((await db.execute(query)).scalars())
