"""Builds: claiming a machine for one, and views of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.exc import IntegrityError, OperationalError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import BuildState
from chronarch.core.orders.quantities import next_copy
from chronarch.records.failures import deadlocked
from chronarch.records.library.tables import File
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build, BuildTag, BuildUse, Job
from chronarch.wire.common import fill
from chronarch.wire.orders import builds as wb


def select_builds() -> Any:
    """Builds with the names of their machine and file, newest first."""
    return (
        select(Build, Machine.name, File.name)
        .join(Machine, Machine.id == Build.machine_id)
        .join(File, File.id == Build.file_id)
        .order_by(Build.id.desc())
    )


async def builds_wire(db: AsyncSession, builds: Sequence[Build]) -> list[wb.Build]:
    """Builds as the wire shows them."""
    numbers = [b.id for b in builds]
    of_files = select(File.id, File.name).where(File.id.in_({b.file_id for b in builds}))
    of_machines = select(Machine.id, Machine.name).where(Machine.id.in_({b.machine_id for b in builds}))
    files, machines = [dict((await db.execute(query)).all()) for query in (of_files, of_machines)]
    uses: dict[int, list[wb.BuildUse]] = {}
    of_builds = select(BuildUse).where(BuildUse.build_id.in_(numbers)).order_by(BuildUse.build_id, BuildUse.tool)
    for use in (await db.execute(of_builds)).scalars():
        uses.setdefault(use.build_id, []).append(fill(wb.BuildUse, use, spool=use.spool_id))
    tags: dict[int, list[str]] = {}
    for tag in (await db.execute(select(BuildTag).where(BuildTag.build_id.in_(numbers)))).scalars():
        tags.setdefault(tag.build_id, []).append(tag.tag)
    return [
        fill(
            wb.Build, b, job=b.job_id, machine=machines[b.machine_id], file=files[b.file_id],
            fed_sha256=b.fed_sha256 or b.sha256, has_log=b.log_bytes is not None, photo=b.photo is not None,
            uses=uses.get(b.id, []), tags=sorted(tags.get(b.id, [])),
        )
        for b in builds
    ]  # fmt: skip


CLAIM_TRIES = 5


@dataclass(frozen=True)
class BuildContent:
    """What a build is made from: a revision of a file, as it reads for the machine's model; one yields so many
    `pieces`."""

    file_id: int
    revision: int
    sha256: str
    commands: int
    planned_s: float
    pieces: int = 1


async def claim(
    db: AsyncSession,
    job: Job,
    content: BuildContent,
    machine: int,
    now: datetime,
) -> Build | None:
    """Give the next waiting copy of a job to a machine (its number), in one transaction that is committed here.

    Returns None when somebody else was quicker: the constraints let one win.
    """
    job_id, copies = job.id, job.copies - job.from_stock
    fields = {
        "job_id": job_id,
        "machine_id": machine,
        "state": BuildState.STARTING,
        "claimed_at": now,
        **asdict(content),
    }
    yields = func.coalesce(Build.good_pieces, Build.pieces)
    live = select(Build.live_copy, yields).where(Build.job_id == job_id, Build.live_copy.is_not(None))
    for more in reversed(range(CLAIM_TRIES)):
        try:
            taken = {copy: many for copy, many in await db.execute(live) if copy is not None}
            number = next_copy(copies, taken)
            if number is None or sum(taken.values()) >= copies:
                return None
            build = Build(**fields, copy_number=number)
            db.add(build)
            await db.commit()
            return build
        except IntegrityError:
            await db.rollback()
            return None
        except OperationalError as error:
            await db.rollback()
            if not (more and deadlocked(error)):
                raise
    raise AssertionError("unreachable")
