"""The dispatch loop: hands waiting copies to machines that can take them.

One service at a time decides, under a lock in the database; and if two ever did, the constraints let one claim win.
"""

from __future__ import annotations

import asyncio
import logging
from contextlib import suppress

from sqlalchemy import select, text
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.fleet import Requirement
from chronarch.core.matching import LASTING, Need, Standing, blocker, why_waiting
from chronarch.core.states import Intake, MachineState
from chronarch.records import queries
from chronarch.records import tables as t
from chronarch.records.changes import claim
from chronarch.service.fleet import Known
from chronarch.service.shop import Shop
from chronarch.service.upstream import charge_of
from chronarch.wire.upstream import Assign

LOOK_EVERY_S = 1.0
LOCK = "chronarch.dispatch"

log = logging.getLogger("chronarch.dispatch")


def need_of(job: t.Job, file: t.File) -> Need:
    """What a job asks of a machine."""
    reading = queries.reading_of(file)
    r = job.requirement
    requirement = Requirement(
        material=r.get("material", ""),
        colour=r.get("colour", ""),
        nozzle_mm=r.get("nozzle_mm"),
        hardened=r.get("hardened", False),
        machine=r.get("machine", ""),
        model=r.get("model", ""),
    )
    tools = tuple(sorted(reading.filament_mm)) or (0,)
    return Need(requirement, reading.extents_mm, reading.nozzle_c, reading.bed_c, tools)


async def waiting_jobs(db: AsyncSession) -> list[tuple[t.Job, t.File]]:
    """Jobs that have copies waiting and are not held, first come first."""
    rows = (
        await db.execute(
            select(t.Job, t.File)
            .join(t.File, t.File.id == t.Job.file_id)
            .where(~t.Job.held, ~t.Job.withdrawn)
            .order_by(t.Job.id)
        )
    ).all()
    copies = await queries.copies_of(db, [job for job, _ in rows])
    return [(job, file) for job, file in rows if copies[job.id].waiting]


def why(shop: Shop, job: t.Job, file: t.File) -> str:
    """Why a job's copies wait, in one sentence."""
    return why_waiting(need_of(job, file), [shop.fleet.standing(known) for known in shop.fleet.all()])


async def hand_out(shop: Shop, db: AsyncSession, only: Known | None = None) -> int:
    """Claim what can be claimed now and tell the tenders; returns how many builds were made. `only`: a person starts
    the next fitting build on this machine, whatever its intake."""
    jobs = await waiting_jobs(db)
    machines = [only] if only else [k for k in shop.fleet.all() if _may_take(shop.fleet.standing(k))]
    made = 0
    for job, file in jobs:
        need = need_of(job, file)
        for known in list(machines):
            standing = shop.fleet.standing(known)
            if blocker(need, standing, LASTING) or not _may_take(standing, by_hand=only is not None):
                continue
            build = await claim(db, job, file, known.row, shop.clock.now())
            if build is None:
                break
            machines.remove(known)
            made += 1
            await announce(shop, db, known)
        if not machines:
            break
    return made


def _may_take(at: Standing, by_hand: bool = False) -> bool:
    takes = at.intake is Intake.OPEN or by_hand
    return takes and at.state is MachineState.IDLE and not at.busy and at.reachable


async def announce(shop: Shop, db: AsyncSession, known: Known) -> None:
    """Tell the machine's tender and everybody who listens of its new build."""
    await shop.fleet.load(db, known.row.name)
    shop.hub.changed("jobs", "builds")
    connection = shop.fleet.connections.get(known.tender)
    if connection is not None:
        charge = await charge_of(db, known)
        with suppress(Exception):
            await connection.send(Assign(charge=charge).model_dump_json())


async def dispatch_forever(shop: Shop) -> None:
    """Decide whenever something changed, and once a second; live through an absent database."""
    while True:
        with suppress(TimeoutError):
            await asyncio.wait_for(shop.work.wait(), LOOK_EVERY_S)
        shop.work.clear()
        try:
            await dispatch_once(shop)
        except (SQLAlchemyError, OSError) as error:
            log.warning("dispatch waits for the database: %s", str(error).splitlines()[0])
            await asyncio.sleep(LOOK_EVERY_S)


async def dispatch_once(shop: Shop) -> int:
    """One round of decisions under the database's lock; 0 when another service holds it."""
    if not any(_may_take(shop.fleet.standing(known)) for known in shop.fleet.all()):
        return 0
    async with shop.sessions() as guard:
        if not (await guard.execute(text("select get_lock(:name, 0)"), {"name": LOCK})).scalar():
            return 0
        try:
            async with shop.sessions() as db:
                return await hand_out(shop, db)
        finally:
            await guard.execute(text("select release_lock(:name)"), {"name": LOCK})
