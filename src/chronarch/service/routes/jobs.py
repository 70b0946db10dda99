"""The queue: jobs."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from typing import Annotated

from fastapi import APIRouter, Header, Response
from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.states import JobState
from chronarch.records import library, queries
from chronarch.records import tables as t
from chronarch.service.access import Operator, Reader
from chronarch.service.dispatch import waiting_of, why
from chronarch.service.once import Note, fingerprint, once
from chronarch.service.problems import Refused
from chronarch.service.routes.parts import find_part
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import work as w

router = APIRouter(tags=["jobs"])


async def _view(shop: Shop, db: AsyncSession, rows: Sequence[t.Job]) -> list[w.Job]:
    copies = await queries.copies_of(db, rows)
    listed = []
    for waiting in await waiting_of(db, rows):
        job, kept = waiting.job, waiting.variants[0] if waiting.variants else None
        planned = min((k.reading().planned_s for k in waiting.variants), default=0.0)
        revision = kept.revision.number if kept is not None and job.file_id is not None else None
        wire = queries.job_wire(job, waiting.name, revision, planned, copies[job.id])
        if wire.state is JobState.HELD:
            wire.why = "Held by a person; release it to let it run."
        elif wire.waiting and wire.state is not JobState.WITHDRAWN:
            wire.why = why(shop, waiting)
        listed.append(wire)
    return listed


async def _find(db: AsyncSession, number: int) -> t.Job:
    job = await db.get(t.Job, number)
    if job is None:
        raise Refused(404, f"There is no job {number}; `chronarch jobs list --all` shows all.")
    return job


@router.get("/jobs")
async def jobs(who: Reader, shop: TheShop, ended: bool = False) -> list[w.Job]:
    """Jobs in the order they will be served; finished and withdrawn ones too with `ended`."""
    async with shop.sessions() as db:
        rows = (await db.execute(select(t.Job).order_by(t.Job.id))).scalars().all()
        if not ended:
            copies = await queries.copies_of(db, rows)
            over = (JobState.FINISHED, JobState.WITHDRAWN)
            rows = [j for j in rows if copies[j.id].state(held=j.held, withdrawn=j.withdrawn) not in over]
        return await _view(shop, db, rows)


@router.post("/jobs", status_code=201, response_model=w.Job)
async def submit(
    order: w.JobOrder, who: Operator, shop: TheShop, idempotency_key: Annotated[str | None, Header()] = None
) -> Response:
    """Queue copies of a file or of a part. An idle machine that fits gets one within a second."""

    async def work(note: Note) -> tuple[int, BaseModel]:
        return 201, await _submit(shop, order, who.name)

    return await once(shop, who.name, idempotency_key, fingerprint("jobs", order.model_dump_json()), work)


async def _submit(shop: Shop, order: w.JobOrder, by: str) -> w.Job:
    requirement = order.requirement
    if requirement.machine:
        requirement.machine = shop.fleet.find(requirement.machine).row.name
    async with shop.sessions() as db:
        job = t.Job(
            copies=order.copies,
            held=order.held,
            pinned=order.revision,
            requirement=requirement.model_dump(mode="json"),
            created_at=shop.clock.now(),
            created_by=by,
        )
        if order.part is not None:
            job.part_id = (await _part(db, order.part)).id
        else:
            job.file_id = (await _file(db, order.file or "", order.revision)).id
        db.add(job)
        await db.commit()
        (wire,) = await _view(shop, db, [job])
    shop.work.set()
    shop.hub.changed("jobs")
    return wire


async def _file(db: AsyncSession, which: int | str, revision: int | None) -> t.File:
    kept = await library.find(db, which)
    if kept is None:
        raise Refused(422, f"There is no file {which!r}; add it first with `chronarch files add`.")
    if revision is not None and revision > kept.file.newest:
        raise Refused(422, f"{kept.file.name} has revisions 1 to {kept.file.newest}; {revision} is none of them.")
    return kept.file


async def _part(db: AsyncSession, which: int | str) -> t.Part:
    try:
        part = await find_part(db, str(which))
    except Refused as error:
        raise Refused(422, str(error)) from None
    made_by = await db.execute(select(t.File.id).where(t.File.part_id == part.id, t.File.binned_at.is_(None)).limit(1))
    if made_by.first() is None:
        raise Refused(422, f"No file makes {part.name} yet; add one to it first.")
    return part


@router.patch("/jobs/{number}")
async def change_job(number: int, change: w.JobChange, who: Operator, shop: TheShop) -> w.Job:
    """Pin a job's waiting copies to a revision, or with 0 let them follow the newest again."""
    async with shop.sessions() as db:
        job = await _find(db, number)
        if job.file_id is None:
            raise Refused(409, f"Job {number} is for a part; only a file's job can be pinned to a revision.")
        await _file(db, job.file_id, change.revision)
        job.pinned = change.revision or None
        await db.commit()
        (wire,) = await _view(shop, db, [job])
    shop.work.set()
    shop.hub.changed("jobs")
    return wire


@router.get("/jobs/{number}")
async def job(number: int, who: Reader, shop: TheShop) -> w.Job:
    async with shop.sessions() as db:
        return (await _view(shop, db, [await _find(db, number)]))[0]


def _hold(job: t.Job) -> None:
    job.held = True


def _release(job: t.Job) -> None:
    job.held = False


def _withdraw(job: t.Job) -> None:
    job.withdrawn = True


WISHES: dict[str, tuple[Callable[[t.Job], None], str]] = {
    "hold": (_hold, "Start no further copy until it is released."),
    "release": (_release, "Let a held job run again."),
    "withdraw": (_withdraw, "Start no further copy, for good; builds that run go on."),
}


def _route(wish: str) -> Callable[..., Awaitable[w.Job]]:
    change, _ = WISHES[wish]

    async def wished(number: int, who: Operator, shop: TheShop) -> w.Job:
        async with shop.sessions() as db:
            job = await _find(db, number)
            (before,) = await _view(shop, db, [job])
            if before.state in (JobState.FINISHED, JobState.WITHDRAWN):
                raise Refused(409, f"Job {number} is {before.state}; there is nothing to {wish}.")
            change(job)
            await db.commit()
            (wire,) = await _view(shop, db, [job])
        shop.work.set()
        shop.hub.changed("jobs")
        return wire

    return wished


for _wish, (_change, _text) in WISHES.items():
    router.post(f"/jobs/{{number}}/{_wish}", name=f"{_wish}_job", description=_text)(_route(_wish))
