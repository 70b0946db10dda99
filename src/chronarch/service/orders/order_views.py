"""Orders as the wire shows them: counts, when they will be complete, and that in words."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.orders.quantities import JobQuantities
from chronarch.core.planning.forecast import Completion, promise
from chronarch.records import tables as t
from chronarch.records.orders import orders as records
from chronarch.records.orders.jobs import copies_of
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet
from chronarch.service.orders.job_views import OVER, view
from chronarch.service.orders.outlook import JobOutlook
from chronarch.wire.common import fill
from chronarch.wire.orders import orders as w


def _day(at: datetime, context: ServiceContext, fleet: Fleet) -> str:
    here, now = at.astimezone(fleet.zone), context.clock.now().astimezone(fleet.zone)
    if here.date() == now.date():
        return f"today {here:%H:%M}"
    far = abs((here.date() - now.date()).days) > 6
    return f"{here:%a %d %b %H:%M}" if far else f"{here:%a %H:%M}"


def brief(
    context: ServiceContext,
    fleet: Fleet,
    outlook: JobOutlook,
    order: t.Order,
    jobs: Sequence[t.Job],
    copies: dict[int, JobQuantities],
) -> w.OrderBrief:
    """An order with its counts, when it will be complete, and that in words."""
    state = records.state_of(order, jobs, copies)
    open_jobs = [j for j in jobs if copies[j.id].state(held=j.held, withdrawn=j.withdrawn) not in OVER]
    counted = [copies[j.id] for j in jobs if not j.withdrawn or copies[j.id].good]
    pieces = sum(j.copies for j in jobs if not j.withdrawn)
    good = sum(min(c.good, c.wanted) for c in counted)
    building = sum(c.building for c in counted)
    waiting = sum(copies[j.id].waiting for j in open_jobs)
    done = Completion(None)
    if open_jobs and not any(j.held for j in open_jobs):
        built = {j.id for j in open_jobs if copies[j.id].waiting == 0}
        done = outlook.together([j.id for j in open_jobs], order.due_at, built) or done
    word = promise(done, order.due_at, order.finished_at if state == "finished" else None)
    if state == "cancelled":
        word = "none"
    made = fill(
        w.OrderBrief, order,
        due=order.due_at,
        not_before=max((j.not_before for j in open_jobs if j.not_before), default=None),
        priority=max((j.priority for j in jobs), default=0), state=state, pieces=pieces, good=good,
        building=building, waiting=waiting, expected=done.when, chance=done.chance, promise=word,
    )  # fmt: skip
    made.words = _words(context, fleet, made)
    return made


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
    share = f", {round(100 * (o.chance or 0))} of 100 times" if o.promise == "at risk" else ""
    return f"{counts}; {when} ({span}); due {_day(o.due, context, fleet)}: {o.promise}{share}."


async def full_order(
    context: ServiceContext, fleet: Fleet, outlook: JobOutlook, db: AsyncSession, order: t.Order
) -> w.Order:
    jobs = (await records.jobs_of(db, [order.id]))[order.id]
    copies = await copies_of(db, jobs)
    head = brief(context, fleet, outlook, order, jobs, copies)
    return w.Order(**head.model_dump(), lines=await view(outlook, db, jobs))
