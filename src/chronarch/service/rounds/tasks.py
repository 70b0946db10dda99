"""What must be done by hand now, from the machines and the plan."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import WORKING, Intake, MachineState
from chronarch.core.planning.choices import put_on
from chronarch.core.planning.snapshot import Assignment
from chronarch.core.rounds.tasks import MachineOnRound, NextBuild, Task, batches, tasks, walk
from chronarch.records import tables as t
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.planning.snapshot import CurrentPlan
from chronarch.wire import rounds as w
from chronarch.wire.common import fill

LOOK_AHEAD = timedelta(hours=4)


def _next(planned: CurrentPlan, a: Assignment | None) -> NextBuild | None:
    if a is None:
        return None
    waiting = planned.waiting.get(a.job)
    what = waiting.name if waiting else f"job {a.job}"
    load, nozzle = put_on(a)
    return NextBuild(
        what, planned.plan.time(a.start_s), load, nozzle, a.nozzle.mm if a.nozzle else None,
        a.nozzle is not None and a.nozzle.hardened, waiting.job.not_before if waiting else None,
    )  # fmt: skip


async def _stands(fleet: Fleet, db: AsyncSession, planned: CurrentPlan) -> list[MachineOnRound]:
    unjudged: dict[int, list[int]] = {}
    here = t.Build.machine_id.in_([known.row.id for known in fleet.all()])
    query = select(t.Build.machine_id, t.Build.id).where(here, t.Build.verdict.is_(None), t.Build.let_go)
    query = query.with_hint(t.Build, "force index (build_judged)")  # else all builds there ever were are looked at
    for machine, build in sorted((await db.execute(query)).tuples()):
        unjudged.setdefault(machine, []).append(build)
    f = planned.forecast
    slots = {m.name: m for m in planned.snapshot.machines}
    found = []
    for known in fleet.all():
        row, brief = known.row, known.brief
        state = fleet.standing(known).state
        clears = f.ends.get(row.name)
        ready = None
        if clears is not None and (state in WORKING or state is MachineState.IDLE):
            ready = clears.likely + timedelta(seconds=slots[row.name].cool_s)
        elif state is MachineState.COOLING:
            ready = planned.snapshot.at + timedelta(seconds=slots[row.name].free_s)
        following = _next(planned, planned.plan.next_on(row.name))
        found.append(
            MachineOnRound(
                row.name, state, row.since, row.site, row.place, Intake(row.intake), row.reason,
                brief.id if brief else None, brief.file if brief else "", (brief.outcome or "") if brief else "",
                ready, following, tuple(unjudged.get(row.id, ())), row.release_stuck,
                known.on_bed,
                known.upkeep,
                row.tools[0].get("number", 0) if len(row.tools) > 1 else None,
            )
        )  # fmt: skip
    return found


async def tasks_now(now: datetime, fleet: Fleet, planned: CurrentPlan, db: AsyncSession) -> list[Task]:
    """What must be done by hand at all machines, the most costly first."""
    return tasks(await _stands(fleet, db, planned), now)


async def rounds(
    now: datetime, fleet: Fleet, planned: CurrentPlan, db: AsyncSession, site: str | None = None, helper: str = ""
) -> w.Rounds:
    """What must be done by hand, at all sites or one."""
    stands = [s for s in await _stands(fleet, db, planned) if site is None or s.site == site]
    by_name = {k.row.name: k for k in fleet.all()}
    found = tasks(stands, now)
    numbers = {id(task): n for n, task in enumerate(walk(found), 1)}
    pieces = await _pieces(db, [task.build for task in found if task.build is not None])
    staffing = planned.settings.staffing(now - timedelta(days=1), now + timedelta(days=8), site or "")
    coming = [
        fill(
            w.UpcomingTask, s, at=s.ready, late=_late(planned, s.machine, s.ready),
        )
        for s in stands
        if s.ready is not None and now < s.ready <= now + LOOK_AHEAD
    ]  # fmt: skip
    return w.Rounds(
        at=now, staffed=staffing.span_at(now) is not None,
        tasks=[_task(task, numbers[id(task)], by_name, pieces) for task in found],
        coming=sorted(coming, key=lambda c: c.at),
        batches=batches(stands, now),
        scrap_reasons=planned.settings.planning.scrap_reasons, site=site or "", helper=helper,
    )  # fmt: skip


async def _pieces(db: AsyncSession, builds: list[int]) -> dict[int, int]:
    if not builds:
        return {}
    return {n: p for n, p in await db.execute(select(t.Build.id, t.Build.pieces).where(t.Build.id.in_(builds)))}


def _late(planned: CurrentPlan, machine: str, ready: datetime) -> datetime:
    end = planned.forecast.ends.get(machine)
    return max(ready, ready + (end.late - end.likely)) if end else ready


def _task(task: Task, number: int, machines: dict[str, FleetMachine], pieces: dict[int, int]) -> w.RoundTask:
    known = machines[task.machine]
    following = task.next
    return fill(
        w.RoundTask, task, walk=number, pieces=pieces.get(task.build or 0, 1),
        file=known.brief.file if known.brief else "",
        next=following and fill(w.TaskNext, following, by_hand=known.row.intake == Intake.MANUAL),
    )  # fmt: skip
