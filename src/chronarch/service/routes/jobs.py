"""The queue: jobs, their order, and why they wait."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Annotated

from fastapi import APIRouter, Header, Response
from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number, Word
from chronarch.core.names import as_number
from chronarch.core.reasons import smallest_change, why_not
from chronarch.core.states import JobState
from chronarch.records import orders, queries
from chronarch.records import tables as t
from chronarch.service.access import Operator, Reader
from chronarch.service.again import AgainRoute
from chronarch.service.dispatch import waiting_of, why
from chronarch.service.jobs import OVER, changed, find, find_file, find_part, view
from chronarch.service.once import Note, fingerprint, once
from chronarch.service.planning import Planned
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import work as w

router = APIRouter(tags=["jobs"], route_class=AgainRoute)


@router.get("/jobs")
async def jobs(who: Reader, shop: TheShop, ended: bool = False) -> list[w.Job]:
    """Jobs in the order of the line; finished and withdrawn ones too with `ended`."""
    async with shop.sessions() as db:
        return await _listed(shop, db, ended)


async def _listed(shop: Shop, db: AsyncSession, ended: bool = False) -> list[w.Job]:
    rows = (await db.execute(select(t.Job).order_by(t.Job.top.desc(), t.Job.line, t.Job.id))).scalars().all()
    if not ended:
        copies = await queries.copies_of(db, rows)
        rows = [j for j in rows if copies[j.id].state(held=j.held, withdrawn=j.withdrawn) not in OVER]
    return await view(shop, db, rows)


@router.get("/queue")
async def queue(who: Reader, shop: TheShop, response: Response) -> w.QueueLine:
    """What waits, in order, with the version that a move must name (also as ETag)."""
    async with shop.sessions() as db:
        row = await orders.line_now(db)
        listed = await _listed(shop, db)
    version = row.version if row else 0
    response.headers["ETag"] = f'"{version}"'
    if row is None:
        return w.QueueLine(version=0, jobs=listed)
    return w.QueueLine(version=version, changed_by=row.by, changed_at=row.at, change=row.text, jobs=listed)


def _version(if_match: str | None) -> int | None:
    if not if_match or if_match == "*":
        return None
    text = if_match.strip().removeprefix("W/").strip('"')
    version = as_number(text)
    if version is None:
        raise Refused(400, f'If-Match is a version of the queue, like "7"; {if_match!r} is none.')
    return version


async def _take_line(shop: Shop, db: AsyncSession, if_match: str | None, by: str, text: str) -> None:
    try:
        await orders.note_change(db, _version(if_match), by, text, shop.clock.now())
    except orders.Moved as error:
        line = error.line
        at = shop.fleet.words(line.at)
        raise Refused(
            412, f"{line.by} changed the line at {at} while you were at it: {line.text}. Look again, and repeat yours."
        ) from None


@router.post("/queue/move")
async def move(
    order: w.QueueMove, who: Operator, shop: TheShop, if_match: Annotated[Word | None, Header()] = None
) -> w.QueueLine:
    """Put jobs before another in the line. With `If-Match: "VERSION"` it is refused (412) when somebody else has
    changed the line since."""
    named = ", ".join(map(str, order.jobs))
    text = f"job {named} put {f'before job {order.before}' if order.before else 'at the end'}"
    async with shop.sessions() as db:
        await _take_line(shop, db, if_match, who.signature, text)
        try:
            await orders.move(db, order.jobs, order.before)
        except KeyError as error:
            raise Refused(404, f"There is no job {error.args[0]} in the line; look again.") from None
        await db.commit()
    await changed(shop)
    return await queue(who, shop, Response())


BATCH: dict[str, Callable[[t.Job], None]] = {
    "hold": lambda j: setattr(j, "held", True),
    "release": lambda j: setattr(j, "held", False),
    "withdraw": lambda j: setattr(j, "withdrawn", True),
    "top": lambda j: setattr(j, "top", True),
    "untop": lambda j: setattr(j, "top", False),
}


@router.post("/queue/batch")
async def batch(
    order: w.JobBatch, who: Operator, shop: TheShop, if_match: Annotated[Word | None, Header()] = None
) -> w.QueueLine:
    """Hold, release, withdraw, or put to the top several jobs: all of them, or none."""
    async with shop.sessions() as db:
        if order.wish in ("top", "untop"):
            where = "put to the top" if order.wish == "top" else "taken from the top"
            await _take_line(shop, db, if_match, who.signature, f"job {', '.join(map(str, order.jobs))} {where}")
        rows = [await find(db, number) for number in order.jobs]
        copies = await queries.copies_of(db, rows)
        for job in rows:
            state = copies[job.id].state(held=job.held, withdrawn=job.withdrawn)
            if state in OVER:
                raise Refused(409, f"Job {job.id} is {state}; there is nothing to {order.wish}. No job was changed.")
            BATCH[order.wish](job)
        if order.wish == "top":
            await orders.move(db, order.jobs, next(iter(await _first(db, order.jobs)), None))
        await db.commit()
    await changed(shop)
    return await queue(who, shop, Response())


async def _first(db: AsyncSession, but: list[int]) -> list[int]:
    query = select(t.Job.id).where(t.Job.id.not_in(but)).order_by(t.Job.line, t.Job.id).limit(1)
    return list((await db.execute(query)).scalars())


@router.post("/jobs", status_code=201, response_model=w.Job)
async def submit(
    order: w.JobOrder, who: Operator, shop: TheShop, idempotency_key: Annotated[Word | None, Header()] = None
) -> Response:
    """Queue copies of a file or of a part. An idle machine that fits gets one within a second."""

    async def work(note: Note) -> tuple[int, BaseModel]:
        return 201, await _submit(shop, order, who.signature)

    return await once(shop, who.identity, idempotency_key, fingerprint("jobs", order.model_dump_json()), work)


async def _submit(shop: Shop, order: w.JobOrder, by: str) -> w.Job:
    async with shop.sessions() as db:
        job = await make_job(shop, db, order, by)
        await db.commit()
        (wire,) = await view(shop, db, [job])
    await changed(shop)
    return wire


async def make_job(shop: Shop, db: AsyncSession, order: w.JobOrder, by: str) -> t.Job:
    """A job at the end of the line, not committed yet. Raises Refused (404, 422)."""
    requirement = order.requirement
    if requirement.machine:
        requirement.machine = shop.fleet.find(requirement.machine).row.name
    job = t.Job(
        copies=order.copies,
        held=order.held,
        pinned=order.revision,
        requirement=requirement.model_dump(mode="json"),
        priority=order.priority,
        due_at=order.due,
        not_before=order.not_before,
        note=order.note,
        tags=order.tags,
        line=await orders.last_in_line(db),
        created_at=shop.clock.now(),
        created_by=by,
    )
    if order.part is not None:
        job.part_id = (await find_part(db, order.part)).id
    else:
        job.file_id = (await find_file(db, order.file or "", order.revision)).id
    db.add(job)
    await db.flush()
    return job


@router.patch("/jobs/{number:record}")
async def change_job(number: Number, change: w.JobChange, who: Operator, shop: TheShop) -> w.Job:
    """Change a job: how many, by when, what it needs, its revision. Builds that run go on as they are."""
    async with shop.sessions() as db:
        job = await find(db, number)
        before = (await queries.copies_of(db, [job]))[job.id]
        given = change.model_fields_set
        if change.revision is not None:
            if job.file_id is None:
                raise Refused(409, f"Job {number} is for a part; only a file's job can be pinned to a revision.")
            await find_file(db, job.file_id, change.revision)
            job.pinned = change.revision or None
        if change.copies is not None:
            if job.withdrawn:
                raise Refused(409, f"Job {number} is withdrawn; queue a new one instead.")
            job.copies = change.copies
        if change.requirement is not None:
            if change.requirement.machine:
                change.requirement.machine = shop.fleet.find(change.requirement.machine).row.name
            job.requirement = change.requirement.model_dump(mode="json")
        for name, column in (("due", "due_at"), ("not_before", "not_before")):
            if name in given:
                setattr(job, column, getattr(change, name))
        for name in ("priority", "note", "tags"):
            if getattr(change, name) is not None:
                setattr(job, name, getattr(change, name))
        await orders.settle(db, job, before, shop.clock.now())
        await db.commit()
        (wire,) = await view(shop, db, [job])
    await changed(shop)
    return wire


@router.get("/jobs/{number:record}")
async def job(number: Number, who: Reader, shop: TheShop) -> w.Job:
    async with shop.sessions() as db:
        return (await view(shop, db, [await find(db, number)]))[0]


@router.get("/jobs/{number:record}/why")
async def job_why(number: Number, who: Reader, shop: TheShop) -> w.JobWhy:
    """Why a job waits: every machine with its reasons, and the smallest change that would start it."""
    async with shop.sessions() as db:
        job = await find(db, number)
        (waiting,) = await waiting_of(db, [job])
        copies = (await queries.copies_of(db, [job]))[job.id]
        planned = shop.planner.last or await shop.planner.renew(shop, db)
    state = copies.state(held=job.held, withdrawn=job.withdrawn)
    if state in OVER or not copies.waiting:
        return w.JobWhy(job=number, why=f"Nothing of it waits: it is {state}.", machines=[])
    found = why_not(waiting.options, [shop.fleet.standing(k) for k in shop.fleet.all()])
    text = "Held by a person; release it to let it run." if state is JobState.HELD else why(shop, waiting)
    rows = [w.MachineBlocker(machine=b.machine, reasons=list(b.reasons), change=b.change, hands_s=b.hands_s)
            for b in found]  # fmt: skip
    return w.JobWhy(
        job=number, why=text, change=smallest_change(found), next=_next_words(shop, planned, number), machines=rows
    )


def _next_words(shop: Shop, planned: Planned, number: int) -> str:
    a = next((a for a in planned.plan.assignments if a.job == number), None)
    if a is None:
        return ""
    start = planned.plan.time(a.start_s)
    day = "" if start.date() == planned.plan.at.date() else f"{start.astimezone(shop.fleet.zone):%a} "
    return f"planned on {a.machine} at {day}{shop.fleet.words(start)}"


WISHES = {
    "hold": "Start no further copy until it is released.",
    "release": "Let a held job run again.",
    "withdraw": "Start no further copy, for good; builds that run go on.",
}


def _route(wish: str) -> Callable[..., Awaitable[w.Job]]:
    async def wished(number: Number, who: Operator, shop: TheShop) -> w.Job:
        async with shop.sessions() as db:
            job = await find(db, number)
            (before,) = await view(shop, db, [job])
            if before.state in OVER:
                raise Refused(409, f"Job {number} is {before.state}; there is nothing to {wish}.")
            BATCH[wish](job)
            await db.commit()
            (wire,) = await view(shop, db, [job])
        await changed(shop)
        return wire

    return wished


for _wish, _text in WISHES.items():
    router.post(f"/jobs/{{number:record}}/{_wish}", name=f"{_wish}_job", description=_text)(_route(_wish))
