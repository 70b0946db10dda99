"""Jobs: their quantities, the queue, and views of them."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, cast

from pydantic import ValidationError
from sqlalchemy import Select, case, func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.orders.quantities import JobQuantities
from chronarch.core.orders.requirement import Requirement
from chronarch.core.orders.states import Verdict
from chronarch.records.library.tables import File, Part
from chronarch.records.orders.tables import Build, Job, Order
from chronarch.records.word_search import has_words
from chronarch.wire.common import fill
from chronarch.wire.orders import jobs as ww
from chronarch.wire.orders.jobs import read_requirement


async def copies_of(db: AsyncSession, jobs: Iterable[Job]) -> dict[int, JobQuantities]:
    """The copies of each job, by job number."""
    wanted = {job.id: (job.copies, job.from_stock) for job in jobs}
    if not wanted:
        return {}
    rows = await db.execute(
        select(
            Build.job_id,
            func.sum(case((Build.verdict == Verdict.GOOD, func.coalesce(Build.good_pieces, Build.pieces)), else_=0)),
            func.sum(case((Build.verdict.is_(None), Build.pieces), else_=0)),
            func.sum(case((Build.verdict == Verdict.SCRAP, 1), else_=0)),
        )
        .where(Build.job_id.in_(wanted))
        .group_by(Build.job_id)
    )
    counts = {job: (int(good), int(active), int(scrap)) for job, good, active, scrap in rows}
    found = {}
    for job, (copies, stock) in wanted.items():
        good, active, scrap = counts.get(job, (0, 0, 0))
        found[job] = JobQuantities(copies, good + stock, active, scrap)
    return found


async def names_of(db: AsyncSession, jobs: Iterable[int]) -> dict[int, str]:
    """What each job makes: the name of its part, else of its file."""
    query = (
        select(Job.id, func.coalesce(Part.name, File.name))
        .outerjoin(Part, Part.id == Job.part_id)
        .outerjoin(File, File.id == Job.file_id)
        .where(Job.id.in_(set(jobs)))
    )
    return {number: name for number, name in await db.execute(query)}


def select_jobs(search: str) -> Select[Any]:
    """Jobs that have each of some words in the name of their file or part, their customer, note or tags."""
    query: Any = select(Job)
    if not search.split():
        return cast(Select[Any], query)
    query = query.outerjoin(File, File.id == Job.file_id).outerjoin(Part, Part.id == Job.part_id)
    query = query.outerjoin(Order, Order.id == Job.order_id)
    words = has_words("job", search, func.coalesce(Part.name, File.name), Order.customer, Job.note)
    return cast(Select[Any], query.where(*words))


async def jobs_waiting(db: AsyncSession) -> list[tuple[Job, JobQuantities]]:
    """Jobs that are not held and have pieces that nobody makes yet, in the order of the queue, with their copies."""
    query = select(Job).where(Job.open, ~Job.held).order_by(Job.line, Job.id)
    jobs = (await db.execute(query)).scalars().all()
    copies = await copies_of(db, jobs)
    return [(job, copies[job.id]) for job in jobs if copies[job.id].waiting]


def requirement_of(job: Job) -> tuple[Requirement, str]:
    """What a job needs, and why the records do not say it. In that case it needs nothing and must not be planned."""
    try:
        return read_requirement.validate_python(job.requirement), ""
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        return Requirement(), f"what job {job.id} needs cannot be read ({where}: {first['msg']}); say it again"


def job_wire(
    job: Job, name: str, revision: int | None, planned_s: float, copies: JobQuantities, pieces: int = 1
) -> ww.Job:
    """`name` is that of the file or the part; `planned_s` is of one build, which yields `pieces`."""
    return fill(
        ww.Job, job, copies, file=name, revision=revision, pinned=job.pinned is not None, planned_s=planned_s,
        pieces=pieces, state=copies.state(held=job.held, withdrawn=job.withdrawn), requirement=requirement_of(job)[0],
        order=job.order_id, due=job.due_at,
    )  # fmt: skip
