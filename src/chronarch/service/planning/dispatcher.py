"""The dispatch loop: gives waiting copies to machines that can take them.

One service at a time decides, under a lock in the database. If two ever did, the constraints would let one claim win.
"""

from __future__ import annotations

import logging
from dataclasses import dataclass, replace
from typing import Annotated

from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.planning.eligibility import MachineStatus
from chronarch.core.planning.planner import make_plan
from chronarch.core.planning.snapshot import Snapshot
from chronarch.records import tables as t
from chronarch.records.orders.builds import BuildContent, claim
from chronarch.service.context import ServiceContext, part
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.orders.waiting_jobs import Variant, WaitingJob
from chronarch.service.planning.planner import Planner

LOOK_EVERY_S = 1.0
LOCK = "chronarch.dispatch"

log = logging.getLogger("chronarch.dispatch")


@dataclass
class Dispatcher:
    """Decides what each machine builds next, and claims machines for it."""

    context: ServiceContext
    fleet: Fleet
    planner: Planner

    def __post_init__(self) -> None:
        self.wanted = self.context.changes.watch(
            "builds", "files", "jobs", "machines", "orders", "setup", "spools", "tenders"
        )

    async def run_once(self) -> int:
        """One round of decisions under the database's lock; 0 when another service holds it."""
        if not any(_may_take(self.fleet.standing(known)) for known in self.fleet.all()):
            return 0
        async with self.context.sessions() as guard:
            if not (await guard.execute(text("select get_lock(:name, 0)"), {"name": LOCK})).scalar():
                return 0
            try:
                async with self.context.sessions() as db:
                    return await self.hand_out(db)
            finally:
                await guard.execute(text("select release_lock(:name)"), {"name": LOCK})

    async def hand_out(self, db: AsyncSession) -> int:
        """Plan, and claim what the plan begins now; tell the tenders. Returns how many builds were made."""
        planned = await self.planner.current()
        machines = {k.row.name: k for k in self.fleet.all()}
        models = {known.model.name for known in machines.values() if _may_take(self.fleet.standing(known))}
        if any(models - v.facts.keys() for w in planned.waiting.values() for v in w.needs.variants):
            self.context.changes.wake("readings")
        made = 0
        for a in planned.plan.assignments:
            known = machines.pop(a.machine, None)
            if known is None or a.start_s > 1.0 or a.hands_s is not None:
                continue
            at, waiting = self.fleet.standing(known), planned.waiting[a.job]
            if not _may_take(at) or waiting.needs.choose(at) is None:
                continue
            if await self.give(db, waiting, known) is None:
                return made  # somebody was quicker, so what was read here is old
            made += 1
        return made

    async def start_next(self, db: AsyncSession, known: FleetMachine) -> str:
        """A person starts the next build that fits a machine as it is, whatever its intake: what the plan has for it
        first, or else what the strategy would choose. Returns what is built, `""` when nothing is."""
        if not _may_take(self.fleet.standing(known), by_hand=True):
            return ""
        planned = await self.planner.renew()
        first = planned.plan.next_on(known.row.name)
        if first is not None and (first.load or first.nozzle or (first.start_s > 1.0 and first.hands_s is None)):
            first = None
        job = first.job if first else chosen_alone(planned.snapshot, known.row.name)
        waiting = planned.waiting.get(job) if job is not None else None
        if waiting is None or await self.give(db, waiting, known) is None:
            return ""
        await self.planner.renew()
        return f"{waiting.name} (job {waiting.job.id})"

    async def start_job(self, job: int, machine: str) -> str:
        """Start a job's next copy on an idle machine now, whatever its intake. Returns what is built, `""` when nothing
        is. Raises ApiProblem (404)."""
        known = self.fleet.find(machine)
        if not _may_take(self.fleet.standing(known), by_hand=True):
            return ""
        waiting = (await self.planner.renew()).waiting.get(job)
        async with self.context.sessions() as db:
            if waiting is None or await self.give(db, waiting, known) is None:
                return ""
        await self.planner.renew()
        return f"{waiting.name} (job {waiting.job.id})"

    async def give(self, db: AsyncSession, waiting: WaitingJob, known: FleetMachine) -> t.Build | None:
        """Claim a job's next copy for a machine; None when somebody was quicker or it does not fit after all."""
        chosen = waiting.needs.choose(self.fleet.standing(known))
        if chosen is None:
            return None
        job = await self._unchanged(db, waiting.job, chosen)
        if job is None:
            self.context.changes.wake("jobs")
            return None
        facts = chosen.facts[known.model.name]
        content = BuildContent(
            chosen.file_id, chosen.revision, chosen.sha256, facts.commands, facts.planned_s, chosen.pieces
        )
        build = await claim(db, job, content, known.row.id, self.context.clock.now())
        if build is None:
            self.context.changes.wake("jobs")  # somebody was quicker, so what is known here is old: look again
            return None
        await self.fleet.load(db, known.row.name)
        await self.fleet.assign(db, known)
        return build

    async def _unchanged(self, db: AsyncSession, planned: t.Job, chosen: Variant) -> t.Job | None:
        """A job as it is now; None if it is no longer what was planned, or its file is not."""
        job = await db.get_one(t.Job, planned.id, populate_existing=True)
        file = await db.get_one(t.File, chosen.file_id, populate_existing=True)
        same = (job.requirement, job.file_id, job.part_id, job.pinned) == (
            planned.requirement, planned.file_id, planned.part_id, planned.pinned
        )  # fmt: skip
        newest = job.pinned is not None or file.newest == chosen.revision
        return job if same and newest and job.open and not job.held else None


TheDispatcher = Annotated[Dispatcher, part(Dispatcher)]


def chosen_alone(snapshot: Snapshot, machine: str) -> int | None:
    """What the strategy would give a machine if it were the only one, with what is on it now."""
    own = tuple(replace(m, by_hand=False, takes=True) for m in snapshot.machines if m.name == machine)
    alone = replace(snapshot, machines=own, spares=(), costs=replace(snapshot.costs, spare_nozzles=()))
    first = make_plan(alone, most=1).next_on(machine)
    return first.job if first else None


def _may_take(at: MachineStatus, by_hand: bool = False) -> bool:
    takes = at.intake is Intake.OPEN or by_hand
    return (
        takes and at.state is MachineState.IDLE and not at.busy and not at.held and at.reachable and not at.start_up_s
    )
