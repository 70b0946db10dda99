"""Orders and their lines, stock, and the order of the queue."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.copies import Copies
from chronarch.core.states import JobState
from chronarch.records import queries
from chronarch.records.tables import Build, Job, Line, Order, Stock

QUEUE = "queue"


def what_of(job: Job) -> str:
    """What a job makes, as stock knows it."""
    return f"part:{job.part_id}" if job.part_id is not None else f"file:{job.file_id}"


def stock_key(job: Job) -> tuple[str, str, str]:
    r = job.requirement
    return what_of(job), r.get("material", ""), r.get("colour", "")


async def add_stock(db: AsyncSession, key: tuple[str, str, str], pieces: int) -> None:
    """Put good pieces on the shelf; a negative number takes them off it, never below none."""
    if pieces == 0:
        return
    row = await db.get(Stock, key, with_for_update=True)
    if row is None:
        row = Stock(what=key[0], material=key[1], colour=key[2], pieces=0)
        db.add(row)
    row.pieces = max(0, row.pieces + pieces)
    await db.flush()


async def take_stock(db: AsyncSession, key: tuple[str, str, str], pieces: int) -> int:
    """Take pieces off the shelf: as many as there are, at most what is wanted. Pieces of any colour do where none is
    asked for."""
    query = select(Stock).where(Stock.what == key[0], Stock.pieces > 0).with_for_update()
    taken = 0
    for row in (await db.execute(query.order_by(Stock.material, Stock.colour))).scalars():
        if (key[1] and row.material.lower() != key[1].lower()) or (key[2] and row.colour.lower() != key[2].lower()):
            continue
        some = min(row.pieces, pieces - taken)
        row.pieces -= some
        taken += some
    return taken


async def last_in_line(db: AsyncSession) -> float:
    """A place after everything that is in the queue."""
    return ((await db.execute(select(func.max(Job.line)))).scalar() or 0.0) + 1.0


async def jobs_of(db: AsyncSession, orders: Iterable[int]) -> dict[int, list[Job]]:
    """The lines of orders, by order number."""
    found: dict[int, list[Job]] = {number: [] for number in orders}
    if found:
        for job in (await db.execute(select(Job).where(Job.order_id.in_(found)).order_by(Job.id))).scalars():
            found[job.order_id or 0].append(job)
    return found


def state_of(order: Order, jobs: Sequence[Job], copies: dict[int, Copies]) -> str:
    """waiting, held, running, finished or cancelled: what follows from its lines."""
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


async def settle(db: AsyncSession, job: Job, before: Copies, now: datetime) -> None:
    """After a verdict or a change of quantity: what nobody wants goes to stock, and an order whose lines are all done
    is finished."""
    await db.flush()
    after = (await queries.copies_of(db, [job]))[job.id]
    order = await db.get(Order, job.order_id) if job.order_id is not None else None
    if order is not None and order.cancelled:
        await add_stock(db, stock_key(job), after.good - before.good)
        return
    await add_stock(db, stock_key(job), after.over - before.over)
    if order is not None:
        jobs = (await jobs_of(db, [order.id]))[order.id]
        finished = state_of(order, jobs, await queries.copies_of(db, jobs)) == "finished"
        order.finished_at = (order.finished_at or now) if finished else None


async def cancel(db: AsyncSession, order: Order) -> None:
    """Nothing more is made for it, and what is good already goes to stock."""
    jobs = (await jobs_of(db, [order.id]))[order.id]
    copies = await queries.copies_of(db, jobs)
    for job in jobs:
        job.withdrawn = True
        await add_stock(db, stock_key(job), copies[job.id].good - copies[job.id].over)
    order.cancelled = True


async def running_builds(db: AsyncSession, jobs: Iterable[int]) -> list[Build]:
    """Builds of jobs that have not ended."""
    query = select(Build).where(Build.job_id.in_(list(jobs)), Build.state != "ended")
    return list((await db.execute(query)).scalars())


class Moved(Exception):
    """The line was changed by somebody else since it was looked at."""

    def __init__(self, line: Line) -> None:
        super().__init__(line.text)
        self.line = line


async def line_now(db: AsyncSession, *, lock: bool = False) -> Line | None:
    return await db.get(Line, QUEUE, with_for_update=lock)


async def note_change(db: AsyncSession, version: int | None, by: str, text: str, at: datetime) -> Line:
    """Take the line for a change that was made by a look at `version` (None: whatever it is). Raises Moved."""
    row = await line_now(db, lock=True)
    if row is None:
        row = Line(name=QUEUE, version=0, by="", text="", at=at)
        db.add(row)
        await db.flush()
        row = await db.get_one(Line, QUEUE, with_for_update=True, populate_existing=True)
    if version is not None and version != row.version:
        raise Moved(row)
    row.version, row.by, row.text, row.at = row.version + 1, by[:120], text[:300], at
    return row


async def move(db: AsyncSession, jobs: Sequence[int], before: int | None) -> None:
    """Put jobs before another one in the line; at its end without. The line must be taken already. Raises KeyError for
    a job that is not there."""
    rows = list((await db.execute(select(Job).order_by(Job.line, Job.id).with_for_update())).scalars())
    by_id = {job.id: job for job in rows}
    moving = [by_id[number] for number in jobs]
    if before is not None and before not in by_id:
        raise KeyError(before)
    rest = [job for job in rows if job not in moving]
    at = len(rest) if before is None or by_id[before] in moving else rest.index(by_id[before])
    for place, job in enumerate([*rest[:at], *moving, *rest[at:]], 1):
        if job.line != place:
            job.line = float(place)
