"""Whether a file is needed: queued, or on a machine."""

from __future__ import annotations

from collections.abc import Iterable

from sqlalchemy import case, func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.orders.states import Verdict
from chronarch.records.library.tables import File
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build, Job


async def in_use(db: AsyncSession, files: Iterable[int]) -> dict[int, str]:
    """Files that may not go to the bin now, and why: queued (by themselves or through their part) or on a machine."""
    wanted = set(files)
    if not wanted:
        return {}
    building = await db.execute(
        select(Build.file_id, Machine.name)
        .join(Machine, Machine.id == Build.machine_id)
        .where(Build.file_id.in_(wanted), Build.cleared_at.is_(None))
    )
    found = {file: f"is on {machine}" for file, machine in building}
    yields = func.coalesce(Build.good_pieces, Build.pieces)
    good = Job.from_stock + func.coalesce(func.sum(case((Build.verdict == Verdict.GOOD, yields), else_=0)), 0)
    queued = await db.execute(
        select(Job.id, File.id)
        .join(File, (File.id == Job.file_id) | (File.part_id == Job.part_id))
        .outerjoin(Build, Build.job_id == Job.id)
        .where(File.id.in_(wanted), ~Job.withdrawn)
        .group_by(Job.id, File.id, Job.copies, Job.from_stock)
        .having(good < Job.copies)
    )
    for job, file in queued:
        found.setdefault(file, f"is queued (job {job})")
    return found
