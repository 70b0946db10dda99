"""Builds: claiming a machine for one, and views of them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.exc import IntegrityError, OperationalError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import BuildState
from chronarch.core.orders.quantities import next_copy
from chronarch.records.database import deadlocked
from chronarch.records.library.tables import ContentReading, File, Revision
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build, Job
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


def build_wire(row: Sequence[Any]) -> wb.Build:
    b, machine, file = row
    return fill(
        wb.Build, b, job=b.job_id, machine=machine, file=file, fed_sha256=b.fed_sha256 or b.sha256,
        has_log=b.log_bytes is not None, photo=b.photo is not None,
    )  # fmt: skip


CLAIM_TRIES = 5


async def claim(
    db: AsyncSession,
    job: Job,
    content: Revision,
    reading: ContentReading,
    machine: Machine,
    now: datetime,
    pieces: int = 1,
) -> Build | None:
    """Give the next waiting copy of a job to a machine, in one transaction that is committed here. It is made from a
    revision as it reads for the model of the machine, and yields so many `pieces`.

    Returns None when somebody else was quicker: the constraints let one win.
    """
    job_id, copies = job.id, job.copies - job.from_stock
    fields = {
        "job_id": job_id,
        "machine_id": machine.id,
        "file_id": content.file_id,
        "revision": content.number,
        "sha256": content.sha256,
        "state": BuildState.STARTING,
        "claimed_at": now,
        "commands": reading.figures["commands"],
        "planned_s": reading.planned_s,
        "pieces": pieces,
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
