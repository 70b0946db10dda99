"""Reading records: rows by name, and views put together for the wire."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from typing import Any

from pydantic import ValidationError
from sqlalchemy import case, func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.copies import Copies
from chronarch.core.ledger import OPEN_END, Interval, MadeBuild
from chronarch.core.states import BuildState, MachineState, Outcome, Verdict
from chronarch.records.tables import Build, File, Job, Ledger, Machine, Part
from chronarch.wire import machines as wm
from chronarch.wire import work as ww


async def copies_of(db: AsyncSession, jobs: Iterable[Job]) -> dict[int, Copies]:
    """The copies of each job, by job number."""
    wanted = {job.id: (job.copies, job.from_stock) for job in jobs}
    if not wanted:
        return {}
    rows = await db.execute(
        select(
            Build.job_id,
            func.sum(case((Build.verdict == Verdict.GOOD, func.coalesce(Build.good_pieces, Build.pieces)), else_=0)),
            func.sum(case((Build.verdict.is_(None), Build.pieces), else_=0)),
        )
        .where(Build.job_id.in_(wanted))
        .group_by(Build.job_id)
    )
    counts = {job: (int(good), int(active)) for job, good, active in rows}
    found = {}
    for job, (copies, stock) in wanted.items():
        good, active = counts.get(job, (0, 0))
        found[job] = Copies(copies, good + stock, active)
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


def select_waiting() -> Any:
    """Jobs that are neither held nor withdrawn and have pieces that nobody makes yet."""
    yields = func.coalesce(Build.good_pieces, Build.pieces)
    provided = (
        select(Build.job_id, func.sum(yields).label("pieces"))
        .where(func.coalesce(Build.verdict, Verdict.GOOD) != Verdict.SCRAP)
        .group_by(Build.job_id)
        .subquery()
    )
    return (
        select(Job)
        .outerjoin(provided, provided.c.job_id == Job.id)
        .where(~Job.held, ~Job.withdrawn, Job.copies > Job.from_stock + func.coalesce(provided.c.pieces, 0))
    )


def requirement_of(job: Job) -> tuple[ww.Requirement, str]:
    """What a job needs, and why the records do not say: then it needs nothing, and must not be planned."""
    try:
        return ww.Requirement.model_validate(job.requirement), ""
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        return ww.Requirement(), f"what job {job.id} needs cannot be read ({where}: {first['msg']}); say it again"


def job_wire(job: Job, name: str, revision: int | None, planned_s: float, copies: Copies, pieces: int = 1) -> ww.Job:
    """`name` is the file's or part's; `planned_s` of one build, which yields `pieces`."""
    return ww.Job(
        id=job.id,
        file=name,
        file_id=job.file_id,
        part_id=job.part_id,
        revision=revision,
        pinned=job.pinned is not None,
        copies=job.copies,
        good=copies.good,
        building=copies.building,
        waiting=copies.waiting,
        state=copies.state(held=job.held, withdrawn=job.withdrawn),
        requirement=requirement_of(job)[0],
        created_at=job.created_at,
        created_by=job.created_by,
        planned_s=planned_s,
        pieces=pieces,
        from_stock=job.from_stock,
        order=job.order_id,
        priority=job.priority,
        due=job.due_at,
        not_before=job.not_before,
        top=job.top,
        note=job.note,
        tags=job.tags,
    )


def select_builds() -> Any:
    """Builds with the names of their machine and file, newest first."""
    return (
        select(Build, Machine.name, File.name)
        .join(Machine, Machine.id == Build.machine_id)
        .join(File, File.id == Build.file_id)
        .order_by(Build.id.desc())
    )


def build_wire(row: Sequence[Any]) -> ww.Build:
    b, machine, file = row
    return ww.Build(
        id=b.id,
        job=b.job_id,
        copy_number=b.copy_number,
        machine=machine,
        file=file,
        file_id=b.file_id,
        revision=b.revision,
        sha256=b.sha256,
        state=BuildState(b.state),
        outcome=Outcome(b.outcome) if b.outcome else None,
        reason=b.reason,
        claimed_at=b.claimed_at,
        started_at=b.started_at,
        ended_at=b.ended_at,
        cleared_at=b.cleared_at,
        verdict=Verdict(b.verdict) if b.verdict else None,
        scrap_reason=b.scrap_reason,
        judged_by=b.judged_by,
        commands=b.commands,
        acknowledged=b.acknowledged,
        planned_s=b.planned_s,
        grams=b.grams,
        fed_sha256=b.fed_sha256 or b.sha256,
        skips=[ww.LeftOut.model_validate(skip) for skip in b.skips],
        has_log=b.log_bytes is not None,
        pieces=b.pieces,
        good_pieces=b.good_pieces,
        let_go=b.let_go,
        photo=b.photo is not None,
    )


def interval_of(row: Ledger) -> Interval:
    return Interval(row.begin_at, row.end_at, MachineState(row.state), row.build_id)


def entry_wire(machine: str, row: Ledger) -> wm.LedgerEntry:
    return wm.LedgerEntry(
        machine=machine,
        state=MachineState(row.state),
        begin=row.begin_at,
        end=None if row.end_at == OPEN_END else row.end_at,
        build=row.build_id,
    )


async def ledger_between(db: AsyncSession, begin: datetime, end: datetime) -> Sequence[Ledger]:
    """All machines' intervals that touch begin..end, oldest first."""
    found = await db.execute(
        select(Ledger).where(Ledger.begin_at < end, Ledger.end_at > begin).order_by(Ledger.machine_id, Ledger.begin_at)
    )
    return found.scalars().all()


async def builds_that_ran(
    db: AsyncSession, begin: datetime, end: datetime
) -> Sequence[tuple[int, datetime, datetime | None]]:
    """Machine, start and end of builds that touch begin..end, and of each machine's last one before."""
    week = begin - timedelta(days=7)
    rows = await db.execute(
        select(Build.machine_id, Build.started_at, Build.ended_at).where(
            Build.started_at.is_not(None), Build.started_at >= week, Build.started_at < end
        )
    )
    return [(machine, started, ended) for machine, started, ended in rows if started is not None]


async def builds_ended_between(db: AsyncSession, begin: datetime, end: datetime) -> dict[int, list[MadeBuild]]:
    """What a report needs of the builds that ended in begin..end, by machine number."""
    rows = await db.execute(
        select(Build.machine_id, Build.verdict, Build.grams).where(Build.ended_at >= begin, Build.ended_at < end)
    )
    made: dict[int, list[MadeBuild]] = {}
    for machine, verdict, grams in rows:
        made.setdefault(machine, []).append(MadeBuild(verdict or "", grams))
    return made
