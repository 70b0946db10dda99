"""How near all upkeep is, and when it would cost least production."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from math import inf

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.upkeep_calls import Blocks
from chronarch.core.planning.shifts import Span
from chronarch.core.upkeep.placing import best_place
from chronarch.records import tables as t
from chronarch.service.background import Background
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.planning.snapshot import CurrentPlan
from chronarch.service.upkeep.standing import Standing
from chronarch.wire.common import fill
from chronarch.wire.upkeep import tasks as w

AHEAD = timedelta(days=14)
"""What is due within that is offered a time."""
OVERDUE_WITHIN = timedelta(days=3)
YEAR = timedelta(days=365)


async def due_list(
    db: AsyncSession, now: datetime, fleet: Fleet, planned: CurrentPlan, standings: Iterable[Standing], machine: str,
    most: int, background: Background,
) -> list[w.DueTask]:  # fmt: skip
    """Of all machines or one, at most so many, the nearest first."""
    names = {known.row.id: known for known in fleet.all() if machine in ("", known.row.name)}
    there = [(one, known, _due_at(one, now)) for one in standings if (known := names.get(one.mark.machine))]
    there.sort(key=lambda row: (not row[0].out, row[2] or now + YEAR, row[1].row.name, row[0].mark.task.name))
    kept = await _windows(db, now)

    def offered() -> list[w.DueTask]:
        return [_due_task(one, known, at, now, planned, kept.get(known.row.id, [])) for one, known, at in there[:most]]

    return await background.compute(offered)  # finding the times that cost least takes a while where much is due


def _due_task(
    one: Standing, known: FleetMachine, at: datetime | None, now: datetime, planned: CurrentPlan,
    windows: Sequence[t.UpkeepWindow],
) -> w.DueTask:  # fmt: skip
    mark, task = one.mark, one.mark.task
    window = next((row for row in windows if row.task_id == task.id), None)
    offer = None
    if window is None and at is not None and at < now + AHEAD:
        busy = _busy(planned, known.row.name, [(row.begin_at, row.end_at) for row in windows])
        until = max(at, now + OVERDUE_WITHIN)
        offer = _offer(planned, busy, known.row.site, now, until, timedelta(minutes=max(task.minutes, 5.0)))
    return fill(
        w.DueTask, task, one, task=task.id, machine=known.row.name, site=known.row.site,
        share=None if one.due.share == inf else one.due.share, due=one.due.due, text=one.due.text,
        blocks=Blocks(task.blocks), check=task.nominal is not None,
        last=None if mark.since == task.since else mark.since, due_at=at,
        window=window and w.UpkeepOffer(begin=window.begin_at, end=window.end_at, costs_min=0.0), offer=offer,
    )  # fmt: skip


async def _windows(db: AsyncSession, now: datetime) -> dict[int, list[t.UpkeepWindow]]:
    query = select(t.UpkeepWindow).where(t.UpkeepWindow.end_at > now).order_by(t.UpkeepWindow.begin_at)
    found: dict[int, list[t.UpkeepWindow]] = {}
    for row in (await db.execute(query)).scalars():
        found.setdefault(row.machine_id, []).append(row)
    return found


def _due_at(one: Standing, now: datetime) -> datetime | None:
    if one.out:
        return now
    return now + timedelta(days=one.days_left) if abs(one.days_left) < YEAR.days else None


def _busy(planned: CurrentPlan, machine: str, kept: Iterable[Span]) -> list[Span]:
    """When a machine builds, its bed is not clear, or it is kept free already."""
    at = planned.plan.time
    builds = [(at(a.start_s), at(a.cleared_s)) for a in planned.plan.assignments if a.machine == machine]
    clear_s = planned.plan.cleared_s.get(machine)
    running = [(at(0), at(clear_s))] if clear_s else []
    return sorted([*running, *builds, *kept])


def _offer(
    planned: CurrentPlan, busy: list[Span], site: str, now: datetime, until: datetime, takes: timedelta
) -> w.UpkeepOffer | None:
    staffed = planned.settings.staffing(now, until, site).spans
    place = best_place(busy, staffed, now, until, takes)
    if place is None:
        return None
    return w.UpkeepOffer(begin=place.begin, end=place.end, costs_min=place.costs / timedelta(minutes=1))
