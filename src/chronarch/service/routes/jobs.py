"""The queue: jobs."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from fastapi import APIRouter
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.states import JobState
from chronarch.records import queries
from chronarch.records import tables as t
from chronarch.service.access import Operator, Reader
from chronarch.service.dispatch import why
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import work as w

router = APIRouter(tags=["jobs"])


async def _view(shop: Shop, db: AsyncSession, rows: list[tuple[t.Job, t.File]]) -> list[w.Job]:
    copies = await queries.copies_of(db, [job for job, _ in rows])
    jobs = [(queries.job_wire(job, file, copies[job.id]), job, file) for job, file in rows]
    for wire, job, file in jobs:
        if wire.state is JobState.HELD:
            wire.why = "Held by a person; release it to let it run."
        elif wire.waiting and wire.state is not JobState.WITHDRAWN:
            wire.why = why(shop, job, file)
    return [wire for wire, _, _ in jobs]


async def _find(db: AsyncSession, number: int) -> tuple[t.Job, t.File]:
    job = await db.get(t.Job, number)
    if job is None:
        raise Refused(404, f"There is no job {number}; `chronarch jobs list --all` shows all.")
    return job, await db.get_one(t.File, job.file_id)


@router.get("/jobs")
async def jobs(who: Reader, shop: TheShop, ended: bool = False) -> list[w.Job]:
    """Jobs in the order they will be served; finished and withdrawn ones too with `ended`."""
    async with shop.sessions() as db:
        found = await db.execute(select(t.Job, t.File).join(t.File, t.File.id == t.Job.file_id).order_by(t.Job.id))
        listed = await _view(shop, db, [(job, file) for job, file in found])
    return [job for job in listed if ended or job.state not in (JobState.FINISHED, JobState.WITHDRAWN)]


@router.post("/jobs", status_code=201)
async def submit(order: w.JobOrder, who: Operator, shop: TheShop) -> w.Job:
    """Queue copies of a file. An idle machine that fits gets one within a second."""
    if order.requirement.machine:
        shop.fleet.find(order.requirement.machine)
    async with shop.sessions() as db:
        file = await queries.find_file(db, order.file)
        if file is None:
            raise Refused(422, f"There is no file {order.file!r}; add it first with `chronarch files add`.")
        requirement = order.requirement
        if requirement.machine:
            requirement.machine = shop.fleet.find(requirement.machine).row.name
        job = t.Job(
            file_id=file.id,
            copies=order.copies,
            held=order.held,
            requirement=requirement.model_dump(mode="json"),
            created_at=shop.clock.now(),
            created_by=who.name,
        )
        db.add(job)
        await db.commit()
        (wire,) = await _view(shop, db, [(job, file)])
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
            job, file = await _find(db, number)
            (before,) = await _view(shop, db, [(job, file)])
            if before.state in (JobState.FINISHED, JobState.WITHDRAWN):
                raise Refused(409, f"Job {number} is {before.state}; there is nothing to {wish}.")
            change(job)
            await db.commit()
            (wire,) = await _view(shop, db, [(job, file)])
        shop.work.set()
        shop.hub.changed("jobs")
        return wire

    return wished


for _wish, (_change, _text) in WISHES.items():
    router.post(f"/jobs/{{number}}/{_wish}", name=f"{_wish}_job", description=_text)(_route(_wish))
