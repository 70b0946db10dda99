"""Jobs as the wire shows them: copies, why they wait, when they will be done."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.forecast import Done, Range, promise
from chronarch.core.states import JobState
from chronarch.records import library, queries
from chronarch.records import tables as t
from chronarch.service.dispatch import waiting_of, why
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop
from chronarch.wire import common
from chronarch.wire import work as w

OVER = (JobState.FINISHED, JobState.WITHDRAWN)


def range_wire(r: Range | None) -> common.Range | None:
    return common.Range(early=r.early, likely=r.likely, late=r.late) if r else None


async def view(shop: Shop, db: AsyncSession, rows: Sequence[t.Job]) -> list[w.Job]:
    """Jobs with all that is known of them now."""
    copies = await queries.copies_of(db, rows)
    planned = shop.planner.last
    done = planned.forecast().jobs if planned else {}
    seen = set(done) | (set(planned.plan.unplaced) if planned else set())
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
        wire = queries.job_wire(job, waiting.name, revision, seconds, copies[job.id], pieces)
        wire.customer = names.get(job.order_id or 0, "")
        if wire.state is JobState.HELD:
            wire.why = "Held by a person; release it to let it run."
        elif wire.waiting and wire.state is not JobState.WITHDRAWN:
            wire.why = why(shop, waiting)
        if wire.state not in OVER and (job.id in seen or wire.state is JobState.HELD):
            unheld = wire.state is not JobState.HELD and job.id in done and (wire.waiting == 0 or planned is not None)
            expected = done[job.id] if unheld else Done(None, None if job.due_at is None else 0.0)
            wire.expected, wire.chance = range_wire(expected.when), expected.chance
            wire.promise = promise(expected, job.due_at)  # type: ignore[assignment]
        elif wire.state is JobState.FINISHED:
            wire.promise = "done"
        listed.append(wire)
    return listed


async def find(db: AsyncSession, number: int) -> t.Job:
    """A job by number. Raises Refused (404)."""
    job = await db.get(t.Job, number)
    if job is None:
        raise Refused(404, f"There is no job {number}; `chronarch jobs list --all` shows all.")
    return job


async def find_file(db: AsyncSession, which: int | str, revision: int | None = None) -> t.File:
    """A file of the library to be made. Raises Refused (422)."""
    kept = await library.find(db, which)
    if kept is None:
        raise Refused(422, f"There is no file {which!r}; add it first with `chronarch files add`.")
    if revision is not None and revision > kept.file.newest:
        raise Refused(422, f"{kept.file.name} has revisions 1 to {kept.file.newest}; {revision} is none of them.")
    return kept.file


async def find_part(db: AsyncSession, which: int | str) -> t.Part:
    """A part that can be made. Raises Refused (422)."""
    from chronarch.service.routes import parts

    try:
        part = await parts.find_part(db, str(which))
    except Refused as error:
        raise Refused(422, str(error)) from None
    made_by = await db.execute(select(t.File.id).where(t.File.part_id == part.id, t.File.binned_at.is_(None)).limit(1))
    if made_by.first() is None:
        raise Refused(422, f"No file makes {part.name} yet; add one to it first.")
    return part


async def changed(shop: Shop, *kinds: str) -> None:
    """Tell the dispatcher and everybody who listens that jobs have changed."""
    shop.work.set()
    shop.hub.changed("jobs", "orders", "plan", *kinds)
