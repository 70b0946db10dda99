"""Making and finding jobs."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.orders.requirement import Requirement
from chronarch.records import tables as t
from chronarch.records.library import files as library
from chronarch.records.orders import queue as orders
from chronarch.service.context import ServiceContext
from chronarch.service.library import finding
from chronarch.service.machines.fleet import Fleet
from chronarch.service.problems import ApiProblem
from chronarch.wire.orders import jobs as w


async def find(db: AsyncSession, number: int) -> t.Job:
    """A job by number. Raises ApiProblem (404)."""
    job = await db.get(t.Job, number)
    if job is None:
        raise ApiProblem(404, f"There is no job {number}; `chronarch jobs list --all` shows all.")
    return job


async def find_file(db: AsyncSession, which: int | str, revision: int | None = None) -> t.File:
    """A file of the library to be made. Raises ApiProblem (422)."""
    kept = await library.find(db, which)
    if kept is None:
        raise ApiProblem(422, f"There is no file {which!r}; add it first with `chronarch files add`.")
    if revision is not None and revision > kept.file.newest:
        raise ApiProblem(422, f"{kept.file.name} has revisions 1 to {kept.file.newest}; {revision} is none of them.")
    return kept.file


async def find_part(db: AsyncSession, which: int | str) -> t.Part:
    """A part that can be made. Raises ApiProblem (422)."""
    try:
        part = await finding.find_part(db, str(which))
    except ApiProblem as error:
        raise ApiProblem(422, str(error)) from None
    made_by = await db.execute(select(t.File.id).where(t.File.part_id == part.id, t.File.binned_at.is_(None)).limit(1))
    if made_by.first() is None:
        raise ApiProblem(422, f"No file makes {part.name} yet; add one to it first.")
    return part


def stored_requirement(fleet: Fleet, requirement: Requirement) -> dict[str, Any]:
    """A requirement as a job keeps it, with its machine named as the shop does. Raises ApiProblem (404)."""
    machine = fleet.find(requirement.machine).row.name if requirement.machine else ""
    return asdict(replace(requirement, machine=machine))


async def make_job(context: ServiceContext, fleet: Fleet, db: AsyncSession, asked: w.NewJob, by: str) -> t.Job:
    """A job at the end of the line, not committed yet. Raises ApiProblem (404, 422)."""
    job = t.Job(
        copies=asked.copies,
        held=asked.held,
        pinned=asked.revision,
        requirement=stored_requirement(fleet, asked.requirement),
        priority=asked.priority,
        due_at=asked.due,
        not_before=asked.not_before,
        note=asked.note,
        tags=asked.tags,
        line=await orders.last_in_line(db),
        created_at=context.clock.now(),
        created_by=by,
    )
    if asked.part is not None:
        job.part_id = (await find_part(db, asked.part)).id
    else:
        job.file_id = (await find_file(db, asked.file or "", asked.revision)).id
    db.add(job)
    await db.flush()
    return job
