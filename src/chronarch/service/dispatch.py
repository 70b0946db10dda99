"""The dispatch loop: hands waiting copies to machines that can take them.

One service at a time decides, under a lock in the database; and if two ever did, the constraints let one claim win.
"""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace

from sqlalchemy import select, text
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.dispatch import Snapshot, make_plan
from chronarch.core.fleet import Requirement, grams
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
    """A job with what it may be made from: the file it names, or each file of its part. `unreadable` says why the
    records do not tell what it needs."""

    job: t.Job
    variants: list[Kept]
    overruled: Overruled
    models: frozenset[str]
    name: str = ""
    requirement: Requirement = field(default_factory=Requirement)
    unreadable: str = ""

    def options(self, at: Standing) -> list[Need]:
        """What each variant asks of a machine."""
        return [self._need(kept, at.capability.model.name) for kept in self.variants]

    def _need(self, kept: Kept, model: str) -> Need:
        """What it asks of machines of a model when it is made from a file. One whose records are damaged asks what no
        machine has, so that it waits with that reason and nothing else is kept."""
        if self.unreadable:
            return Need(self.requirement, unreadable=self.unreadable)
        try:
            return need_of(self.requirement, kept, model, self.overruled, self.models)
        except (ArithmeticError, AttributeError, LookupError, TypeError, ValueError) as error:
            text = f"what was read of {kept.file.name} is damaged ({type(error).__name__}: {error}); add it again"
            return Need(self.requirement, unreadable=text)

    def choose(self, at: Standing) -> Kept | None:
        """The variant a machine can make; with several, the one that is quickest there."""
        model = at.capability.model.name
        fit = [
            k for k, need in zip(self.variants, self.options(at), strict=True) if not first_blocker([need], at, LASTING)
        ]
        fit = [k for k in fit if model in k.readings]
        return min(fit, key=lambda k: k.readings[model].planned_s, default=None)


def need_of(requirement: Requirement, kept: Kept, model: str, overruled: Overruled, models: frozenset[str]) -> Need:
    """What a job asks of machines of a model when it is made from this file."""
    reading = kept.readings.get(model)
    if reading is None:
        return Need(requirement, refusals=("the file is being read for this model",))
    figures = reading.figures
    aside = frozenset(overruled.get((kept.revision.sha256, model), {}))
    said = figures["declared"]
    refusals = tuple(
        f["text"].rstrip(".") + (f" (line {f['line']})" if f["line"] else "")
        for f in figures["findings"]
        if f["severity"] == Severity.REFUSE and f["rule"] not in aside
    )
    return Need(
        requirement,
        tuple(figures["tools"]),
        refusals,
        aside,
        said["nozzle_mm"],
        said["material"],
        next((name for name in models if name.lower() == said["model"].lower()), ""),
        grams(requirement.material or said["material"], sum(figures["filament_mm"].values())),
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
            variants = [newest[job.file_id]] if job.file_id in newest else []
            name = variants[0].file.name if variants else f"file {job.file_id}"
            if variants and job.pinned is not None and job.pinned != variants[0].revision.number:
                variants = await library.kept(db, t.File.id == job.file_id, revision=job.pinned)
        found.append((job, variants, name))
    contents = {k.revision.sha256 for _, variants, _ in found for k in variants}
    aside = await library.overruled(db, contents) if contents else {}
    models = frozenset(model.name for model in await library.models_of(db))
    return [_waiting(job, variants, aside, models, name) for job, variants, name in found]


def _waiting(job: t.Job, variants: list[Kept], aside: Overruled, models: frozenset[str], name: str) -> Waiting:
    wire, unreadable = queries.requirement_of(job)
    needs = Requirement(**wire.model_dump())
    return Waiting(job, variants, aside, models, name, needs, unreadable)


async def waiting_jobs(db: AsyncSession) -> list[Waiting]:
    """Jobs that have copies waiting and are not held, in the order of the line."""
    rows = (await db.execute(queries.select_waiting().order_by(t.Job.line, t.Job.id))).scalars().all()
    return await waiting_of(db, rows)


def why(shop: Shop, waiting: Waiting) -> str:
    """Why a job's copies wait, in one sentence."""
    options: Callable[[Standing], list[Need]] = waiting.options
    wanted = waiting.requirement.machine
    promised = {}
    for known in shop.fleet.all():
        first = shop.planner.last.plan.next_on(known.row.name) if shop.planner.last else None
        if first is not None and first.job != waiting.job.id:
            promised[known.row.name] = f"takes job {first.job} first"
    return why_waiting(options, wanted, [shop.fleet.standing(known) for known in shop.fleet.all()], promised)


async def hand_out(shop: Shop, db: AsyncSession) -> int:
    """Plan, and claim what the plan begins now; tell the tenders. Returns how many builds were made."""
    jobs = await waiting_jobs(db)
    machines = {k.row.name: k for k in shop.fleet.all() if _may_take(shop.fleet.standing(k))}
    if any(known.model.name not in k.readings for known in machines.values() for w in jobs for k in w.variants):
        shop.read_missing.set()
    if not jobs:
        return 0
    planned = await shop.planner.renew(shop, db, jobs)
    made = 0
    for a in planned.plan.assignments:
        known = machines.pop(a.machine, None)
        if known is None or a.start_s > 1.0 or a.hands_s is not None:
            continue
        waiting = planned.waiting[a.job]
        if waiting.choose(shop.fleet.standing(known)) is None:
            continue
        if await give(shop, db, waiting, known) is None:
            return made  # somebody was quicker: what was read here is old
        made += 1
    if made:
        await shop.planner.renew(shop, db)
    return made


async def start_next(shop: Shop, db: AsyncSession, known: Known) -> str:
    """A person starts the next build that fits a machine as it is, whatever its intake: what the plan has for it first,
    else what its strategy would choose. Returns what is built, `""` when nothing is."""
    standing = shop.fleet.standing(known)
    jobs = await waiting_jobs(db)
    if not jobs or not _may_take(standing, by_hand=True):
        return ""
    planned = await shop.planner.renew(shop, db, jobs)
    first = planned.plan.next_on(known.row.name)
    if first is not None and (first.load or first.nozzle or (first.start_s > 1.0 and first.hands_s is None)):
        first = None
    job = first.job if first else chosen_alone(planned.snapshot, known.row.name)
    waiting = planned.waiting.get(job) if job is not None else None
    if waiting is None or await give(shop, db, waiting, known) is None:
        return ""
    await shop.planner.renew(shop, db)
    return f"{waiting.name} (job {waiting.job.id})"


def chosen_alone(snapshot: Snapshot, machine: str) -> int | None:
    """What the strategy would give a machine if it were alone, with what is on it now."""
    own = tuple(replace(m, by_hand=False, takes=True) for m in snapshot.machines if m.name == machine)
    alone = replace(snapshot, machines=own, spares=(), costs=replace(snapshot.costs, spare_nozzles=()))
    first = make_plan(alone, most=1).next_on(machine)
    return first.job if first else None


async def give(shop: Shop, db: AsyncSession, waiting: Waiting, known: Known) -> t.Build | None:
    """Claim a job's next copy for a machine; None when somebody was quicker or it does not fit after all."""
    kept = waiting.choose(shop.fleet.standing(known))
    if kept is None:
        return None
    reading = kept.readings[known.model.name]
    now, pieces = shop.clock.now(), kept.file.pieces
    build = await claim(db, waiting.job, kept.revision, reading, known.row, now, pieces)
    if build is None:
        shop.work.set()  # somebody was quicker: what is known here is old, so look again
        return None
    await announce(shop, db, known)
    return build


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
        except Exception:
            log.exception("a round of dispatch went wrong; the next one is tried")
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
