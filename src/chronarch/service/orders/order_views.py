"""Orders as the wire shows them: counts, when they will be complete, and that in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Annotated

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.orders.quantities import JobQuantities
from chronarch.core.planning.forecast import Completion, promise
from chronarch.records import tables as t
from chronarch.records.orders import orders as records
from chronarch.records.orders.jobs import copies_of
from chronarch.records.paging import moment, number
from chronarch.service.context import ServiceContext, part
from chronarch.service.http.paging import Page
from chronarch.service.machines.fleet import Fleet
from chronarch.service.orders.job_views import OVER, JobViews
from chronarch.wire.common import fill
from chronarch.wire.orders import orders as w

SOONEST_DUE = (
    number(t.Order.due_at.is_(None)),
    moment(func.coalesce(t.Order.due_at, t.Order.created_at)),
    number(t.Order.id),
)


def _place(order: t.Order) -> tuple[int, datetime, int]:
    return int(order.due_at is None), order.due_at or order.created_at, order.id


def _day(at: datetime, context: ServiceContext, fleet: Fleet) -> str:
    here, now = at.astimezone(fleet.zone), context.clock.now().astimezone(fleet.zone)
    if here.date() == now.date():
        return f"today {here:%H:%M}"
    far = abs((here.date() - now.date()).days) > 6
    return f"{here:%a %d %b %H:%M}" if far else f"{here:%a %H:%M}"


@dataclass
class OrderViews:
    """Shows orders with all that is known of them now."""

    context: ServiceContext
    fleet: Fleet
    jobs: JobViews

    async def page(self, db: AsyncSession, page: Page, ended: bool) -> list[w.OrderBrief]:
        """A page of the orders, soonest due first. The outlook must be current."""
        query = select(t.Order)
        if not ended:
            in_work = select(t.Job.order_id).where(t.Job.open, t.Job.order_id.is_not(None)).distinct().subquery()
            query = query.join(in_work, in_work.c.order_id == t.Order.id).where(~t.Order.cancelled)
        rows = page.cut((await db.execute(page.of(query, *SOONEST_DUE))).scalars().all(), _place)
        lines = await records.jobs_of(db, [o.id for o in rows])
        copies = await copies_of(db, [j for many in lines.values() for j in many])
        return [self.brief(o, lines[o.id], copies) for o in rows]

    async def now(self, db: AsyncSession, order: t.Order) -> w.Order:
        """An order as it is after what has just been changed."""
        await self.jobs.outlook.version()
        lines = (await records.jobs_of(db, [order.id]))[order.id]
        head = self.brief(order, lines, await copies_of(db, lines))
        return w.Order(**head.model_dump(), lines=await self.jobs.of(db, lines))

    def brief(self, order: t.Order, jobs: Sequence[t.Job], copies: dict[int, JobQuantities]) -> w.OrderBrief:
        """An order with its counts, when it will be complete, and that in words."""
        state = records.state_of(order, jobs, copies)
        open_jobs = [j for j in jobs if copies[j.id].state(held=j.held, withdrawn=j.withdrawn) not in OVER]
        counted = [copies[j.id] for j in jobs if not j.withdrawn or copies[j.id].good]
        done = Completion(None)
        if open_jobs and not any(j.held for j in open_jobs):
            built = {j.id for j in open_jobs if copies[j.id].waiting == 0}
            done = self.jobs.outlook.together([j.id for j in open_jobs], order.due_at, built) or done
        word = promise(done, order.due_at, order.finished_at if state == "finished" else None)
        since, why = None, ""
        if state == "cancelled":
            word = "none"
        elif state != "finished":
            kept = self.jobs.promises.keep(order, word, done, state == "held", *(copies[j.id] for j in jobs))
            word, since, why = "none" if state == "held" else kept.word, kept.since, kept.why
        made = fill(
            w.OrderBrief, order,
            due=order.due_at,
            not_before=max((j.not_before for j in open_jobs if j.not_before), default=None),
            priority=max((j.priority for j in jobs), default=0), state=state,
            pieces=sum(j.copies for j in jobs if not j.withdrawn), good=sum(min(c.good, c.wanted) for c in counted),
            building=sum(c.building for c in counted), waiting=sum(copies[j.id].waiting for j in open_jobs),
            expected=done.when, chance=done.chance, promise=word,
            promise_since=since, promise_why=why,
        )  # fmt: skip
        made.words = _words(self.context, self.fleet, made)
        return made


TheOrderViews = Annotated[OrderViews, part(OrderViews)]


def _words(context: ServiceContext, fleet: Fleet, o: w.OrderBrief) -> str:
    counts = f"{o.good} of {o.pieces} good"
    if o.building:
        counts += f", {o.building} building"
    if o.waiting:
        counts += f", {o.waiting} waiting"
    if o.state == "cancelled":
        return f"Cancelled; {counts}."
    if o.state == "finished":
        when = f" {_day(o.finished_at, context, fleet)}" if o.finished_at else ""
        return f"Complete{when}{', late' if o.promise == 'late' else ''}."
    if o.state == "held":
        return f"{counts}; held, nothing starts until it is released."
    if o.expected is None:
        return f"{counts}; cannot be completed as things are: see why its jobs wait."
    when = f"complete {_day(o.expected.likely, context, fleet)}"
    span = f"between {_day(o.expected.early, context, fleet)} and {_day(o.expected.late, context, fleet)}"
    if o.due is None:
        return f"{counts}; {when} ({span})."
    share = f", {round(100 * o.chance)} of 100 times" if o.chance is not None else ""
    return f"{counts}; {when} ({span}); due {_day(o.due, context, fleet)}: {o.promise}{share}."
