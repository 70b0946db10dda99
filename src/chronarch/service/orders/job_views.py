"""Jobs as the wire shows them: copies, why they wait, when they will be done."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.orders.states import JobState
from chronarch.core.planning.forecast import Completion, promise
from chronarch.records import tables as t
from chronarch.records.orders.jobs import copies_of, job_wire
from chronarch.service.orders.outlook import JobOutlook
from chronarch.service.orders.waiting_jobs import waiting_of
from chronarch.wire.orders import jobs as w

OVER = (JobState.FINISHED, JobState.WITHDRAWN)


async def view(outlook: JobOutlook, db: AsyncSession, rows: Sequence[t.Job]) -> list[w.Job]:
    """Jobs with all that is known of them now."""
    copies = await copies_of(db, rows)
    done = outlook.completions()
    orders = {j.order_id for j in rows if j.order_id is not None}
    names = {}
    if orders:
        names = {n: c for n, c in await db.execute(select(t.Order.id, t.Order.customer).where(t.Order.id.in_(orders)))}
    listed = []
    for waiting in await waiting_of(db, rows):
        job, kept = waiting.job, waiting.variants[0] if waiting.variants else None
        seconds = min((k.reading().planned_s for k in waiting.variants if k.readings), default=0.0)
        pieces = min((k.file.pieces for k in waiting.variants), default=1)
        revision = kept.revision.number if kept is not None and job.file_id is not None else None
        wire = job_wire(job, waiting.name, revision, seconds, copies[job.id], pieces)
        wire.customer = names.get(job.order_id or 0, "")
        if wire.state is JobState.HELD:
            wire.why = "Held by a person; release it to let it run."
        elif wire.waiting and wire.state is not JobState.WITHDRAWN:
            wire.why = outlook.why(waiting)
        if wire.state not in OVER and (job.id in done or wire.state is JobState.HELD):
            placed = done.get(job.id) if wire.state is not JobState.HELD else None
            expected = placed or Completion(None, None if job.due_at is None else 0.0)
            wire.expected, wire.chance = expected.when, expected.chance
            wire.promise = promise(expected, job.due_at)  # type: ignore[assignment]
        elif wire.state is JobState.FINISHED:
            wire.promise = "done"
        listed.append(wire)
    return listed


async def listed_jobs(outlook: JobOutlook, db: AsyncSession, ended: bool = False) -> list[w.Job]:
    rows = (await db.execute(select(t.Job).order_by(t.Job.top.desc(), t.Job.line, t.Job.id))).scalars().all()
    if not ended:
        copies = await copies_of(db, rows)
        rows = [j for j in rows if copies[j.id].state(held=j.held, withdrawn=j.withdrawn) not in OVER]
    return await view(outlook, db, rows)
