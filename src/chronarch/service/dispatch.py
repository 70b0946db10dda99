"""The dispatch loop: hands waiting copies to machines that can take them.

One service at a time decides, under a lock in the database; and if two ever did, the constraints let one claim win.
"""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass

from sqlalchemy import select, text
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.fleet import Requirement
from chronarch.core.gcode.preflight import Severity
from chronarch.core.matching import LASTING, Need, Standing, first_blocker, why_waiting
from chronarch.core.states import Intake, MachineState
from chronarch.records import library, queries
from chronarch.records import tables as t
from chronarch.records.changes import claim
from chronarch.records.library import Kept
from chronarch.service.fleet import Known
from chronarch.service.shop import Shop
from chronarch.service.upstream import charge_of
from chronarch.wire.upstream import Assign

LOOK_EVERY_S = 1.0
LOCK = "chronarch.dispatch"
Overruled = dict[tuple[str, str], dict[str, str]]

log = logging.getLogger("chronarch.dispatch")


@dataclass
class Waiting:
    """A job with what it may be made from: the file it names, or each file of its part."""

    job: t.Job
    variants: list[Kept]
    overruled: Overruled
    models: frozenset[str]
    name: str = ""

    def options(self, at: Standing) -> list[Need]:
        """What each variant asks of a machine."""
        return [
            need_of(self.job, kept, at.capability.model.name, self.overruled, self.models) for kept in self.variants
        ]

    def choose(self, at: Standing) -> Kept | None:
        """The variant a machine can make; with several, the one that is quickest there."""
        model = at.capability.model.name
        fit = [
            k for k, need in zip(self.variants, self.options(at), strict=True) if not first_blocker([need], at, LASTING)
        ]
        fit = [k for k in fit if model in k.readings]
        return min(fit, key=lambda k: k.readings[model].planned_s, default=None)


def requirement_of(job: t.Job) -> Requirement:
    r = job.requirement
    return Requirement(
        material=r.get("material", ""),
        colour=r.get("colour", ""),
        nozzle_mm=r.get("nozzle_mm"),
        hardened=r.get("hardened", False),
        machine=r.get("machine", ""),
        model=r.get("model", ""),
    )


def need_of(job: t.Job, kept: Kept, model: str, overruled: Overruled, models: frozenset[str]) -> Need:
    """What a job asks of machines of a model when it is made from this file."""
    reading = kept.readings.get(model)
    if reading is None:
        return Need(requirement_of(job), refusals=("the file is being read for this model",))
    figures = reading.figures
    aside = frozenset(overruled.get((kept.revision.sha256, model), {}))
    said = figures["declared"]
    refusals = tuple(
        f["text"].rstrip(".") + (f" (line {f['line']})" if f["line"] else "")
        for f in figures["findings"]
        if f["severity"] == Severity.REFUSE and f["rule"] not in aside
    )
    return Need(
        requirement_of(job),
        tuple(figures["tools"]),
        refusals,
        aside,
        said["nozzle_mm"],
        said["material"],
        next((name for name in models if name.lower() == said["model"].lower()), ""),
    )


async def waiting_of(db: AsyncSession, jobs: Sequence[t.Job]) -> list[Waiting]:
    """Jobs with their files, as they would be made now."""
    files = {job.file_id for job in jobs if job.file_id is not None}
    parts = {job.part_id for job in jobs if job.part_id is not None}
    newest: dict[int, Kept] = {}
    of_part: dict[int, list[Kept]] = {}
    if files:
        newest = {k.file.id: k for k in await library.kept(db, t.File.id.in_(files))}
    if parts:
        for k in await library.kept(db, t.File.part_id.in_(parts), t.File.binned_at.is_(None)):
            of_part.setdefault(k.file.part_id or 0, []).append(k)
    names = (
        {p.id: p.name for p in (await db.execute(select(t.Part).where(t.Part.id.in_(parts)))).scalars()}
        if parts
        else {}
    )
    found = []
    for job in jobs:
        if job.file_id is None:
            variants, name = of_part.get(job.part_id or 0, []), names.get(job.part_id or 0, "")
        else:
            variants = [newest[job.file_id]]
            name = variants[0].file.name
            if job.pinned is not None and job.pinned != variants[0].revision.number:
                variants = await library.kept(db, t.File.id == job.file_id, revision=job.pinned)
        found.append((job, variants, name))
    contents = {k.revision.sha256 for _, variants, _ in found for k in variants}
    aside = await library.overruled(db, contents) if contents else {}
    models = frozenset(model.name for model in await library.models_of(db))
    return [Waiting(job, variants, aside, models, name) for job, variants, name in found]


async def waiting_jobs(db: AsyncSession) -> list[Waiting]:
    """Jobs that have copies waiting and are not held, first come first."""
    rows = (await db.execute(select(t.Job).where(~t.Job.held, ~t.Job.withdrawn).order_by(t.Job.id))).scalars().all()
    copies = await queries.copies_of(db, rows)
    return await waiting_of(db, [job for job in rows if copies[job.id].waiting])


def why(shop: Shop, waiting: Waiting) -> str:
    """Why a job's copies wait, in one sentence."""
    options: Callable[[Standing], list[Need]] = waiting.options
    wanted = waiting.job.requirement.get("machine", "")
    return why_waiting(options, wanted, [shop.fleet.standing(known) for known in shop.fleet.all()])


async def hand_out(shop: Shop, db: AsyncSession, only: Known | None = None) -> int:
    """Claim what can be claimed now and tell the tenders; returns how many builds were made. `only`: a person starts
    the next fitting build on this machine, whatever its intake."""
    jobs = await waiting_jobs(db)
    machines = [only] if only else [k for k in shop.fleet.all() if _may_take(shop.fleet.standing(k))]
    if any(known.model.name not in k.readings for known in machines for w in jobs for k in w.variants):
        shop.read_missing.set()
    made = 0
    for waiting in jobs:
        for known in list(machines):
            standing = shop.fleet.standing(known)
            if not _may_take(standing, by_hand=only is not None):
                continue
            kept = waiting.choose(standing)
            if kept is None:
                continue
            reading = kept.readings[known.model.name]
            build = await claim(db, waiting.job, kept.revision, reading, known.row, shop.clock.now())
            if build is None:
                shop.work.set()  # somebody was quicker: what is known here is old, so look again
                return made
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
        charge = await charge_of(db, known, await shop.pace_of(db, known.model.name))
        with suppress(Exception):
            await connection.send(Assign(charge=charge).model_dump_json())


async def dispatch_forever(shop: Shop) -> None:
    """Decide whenever something changed, and once a second; live through an absent database."""
    while True:
        with suppress(TimeoutError):
            async with asyncio.timeout(LOOK_EVERY_S):
                await shop.work.wait()
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
