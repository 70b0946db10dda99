"""What machines had done by a time, and from where each task counts at each machine."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import ColumnElement, and_, func, or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import PRODUCTIVE, MachineState
from chronarch.core.upkeep.odometer import Odometer
from chronarch.records.ledger.intervals import time_in_states
from chronarch.records.ledger.tables import Ledger
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build, BuildUse
from chronarch.records.upkeep.tables import UpkeepDone, UpkeepMark, UpkeepTask

BEGINNING = datetime(1970, 1, 1, tzinfo=UTC)
HOUR_US = 3.6e9


def as_json(of: Odometer) -> dict[str, Any]:
    return asdict(of)


async def odometers(
    db: AsyncSession, machines: Sequence[int], at: datetime, since: datetime = BEGINNING
) -> dict[int, Odometer]:
    """What machines did from `since` up to `at`; builds count once they have ended."""
    if not machines:
        return {}
    spent = await time_in_states(db, machines, since, at, PRODUCTIVE)
    within = Build.ended_at > since, Build.ended_at <= at
    ended = (Build.machine_id.in_(machines), Build.started_at.is_not(None), *within)
    counts = select(Build.machine_id, func.count()).where(*ended).group_by(Build.machine_id)
    builds = dict((await db.execute(counts)).all())
    laid = (
        select(Build.machine_id, BuildUse.material, func.sum(BuildUse.grams))
        .join(BuildUse, BuildUse.build_id == Build.id)
        .where(*ended)
        .group_by(Build.machine_id, BuildUse.material)
    )
    grams: dict[int, dict[str, float]] = {}
    for machine, material, sum_g in await db.execute(laid):
        grams.setdefault(machine, {})[material] = round(float(sum_g), 2)
    return {
        machine: Odometer(
            sum(spent[machine].get(state, 0) for state in PRODUCTIVE) / HOUR_US,
            int(builds.get(machine, 0)),
            grams.get(machine, {}),
        )
        for machine in machines
    }


@dataclass(frozen=True)
class TaskMark:
    """A task at a machine: since when it counts, what the machine had done by then, and the faults that came after."""

    task: UpkeepTask
    machine: int
    since: datetime
    odometer: Odometer
    faults: int


async def marks(db: AsyncSession) -> list[TaskMark]:
    """All tasks at all machines they are for. New ones get their mark here, and what has failed since the last look is
    counted; committed by whoever asks."""
    upto = (await db.execute(select(func.max(Ledger.id)))).scalar() or 0
    return [await _as_of(db, task, mark, upto) for task, mark in await _marked(db, _at_machines())]


async def marks_of(db: AsyncSession, machine: int, tasks: ColumnElement[bool]) -> list[TaskMark]:
    """Some tasks at one machine, as of the last look."""
    found = await _marked(db, _at_machines().where(Machine.id == machine, tasks))
    return [await _as_of(db, task, mark, None) for task, mark in found]


def _at_machines() -> Any:
    anywhere = and_(UpkeepTask.machine_id.is_(None), UpkeepTask.model_id.is_(None))
    of = or_(UpkeepTask.machine_id == Machine.id, UpkeepTask.model_id == Machine.model_id, anywhere)
    at = and_(UpkeepMark.task_id == UpkeepTask.id, UpkeepMark.machine_id == Machine.id)
    query = select(UpkeepTask, Machine.id, UpkeepMark).join(Machine, of).outerjoin(UpkeepMark, at)
    return query.where(UpkeepTask.dropped_at.is_(None)).order_by(UpkeepTask.id, Machine.id)


async def _marked(db: AsyncSession, wanted: Any) -> list[tuple[UpkeepTask, UpkeepMark]]:
    found = (await db.execute(wanted)).all()
    new: dict[UpkeepTask, list[int]] = defaultdict(list)
    for task, machine, mark in found:
        if mark is None:
            new[task].append(machine)
    made = {(task.id, one.machine_id): one for task, at in new.items() for one in await _new_marks(db, task, at)}
    return [(task, mark or made[task.id, machine]) for task, machine, mark in found]


async def _as_of(db: AsyncSession, task: UpkeepTask, mark: UpkeepMark, upto: int | None) -> TaskMark:
    if upto is not None and (words := task.rules.get("faults")) and upto > mark.looked_to:
        mark.faults += await _faults(db, mark, words, upto)
        mark.looked_to = upto
    return TaskMark(task, mark.machine_id, mark.since, Odometer(**mark.odometer), mark.faults)


async def _new_marks(db: AsyncSession, task: UpkeepTask, machines: Sequence[int]) -> list[UpkeepMark]:
    """From when it was done at each machine last; where it never was, from when the task is there."""
    same = UpkeepDone.task_id == task.id
    if task.part:
        same = or_(same, UpkeepDone.part == task.part)
    last = select(UpkeepDone.machine_id, func.max(UpkeepDone.at).label("at"))
    latest = last.where(UpkeepDone.machine_id.in_(machines), same).group_by(UpkeepDone.machine_id).subquery()
    at = and_(UpkeepDone.machine_id == latest.c.machine_id, UpkeepDone.at == latest.c.at)
    done = {
        row.machine_id: row for row in (await db.execute(select(UpkeepDone).join(latest, at).where(same))).scalars()
    }
    begun = await odometers(db, [machine for machine in machines if machine not in done], task.since)
    starts = {machine: (task.since, as_json(odometer)) for machine, odometer in begun.items()}
    starts |= {machine: (row.at, row.odometer) for machine, row in done.items()}
    found = [
        UpkeepMark(task_id=task.id, machine_id=machine, since=since, odometer=odometer, faults=0, looked_to=0)
        for machine, (since, odometer) in starts.items()
    ]
    db.add_all(found)
    await db.flush()
    return found


async def _faults(db: AsyncSession, mark: UpkeepMark, words: Iterable[str], upto: int) -> int:
    """How often a machine went down for a reason that has one of the words, in intervals that were written since the
    last look: what its tender tells late counts too."""
    named = or_(*(func.lower(Ledger.reason).contains(word.lower(), autoescape=True) for word in words))
    down = (
        Ledger.machine_id == mark.machine_id, Ledger.state == MachineState.DOWN, named,
        Ledger.begin_at > mark.since, Ledger.end_at > mark.since,
        Ledger.id > mark.looked_to, Ledger.id <= upto,
    )  # fmt: skip
    return int((await db.execute(select(func.count()).select_from(Ledger).where(*down))).scalar_one())


def same_work(task: int | None, part: str) -> ColumnElement[bool]:
    """The tasks that are done with a task, or with a new part: it itself, and all that replace the part."""
    same = UpkeepTask.id == task
    return or_(same, UpkeepTask.part == part) if part else same


async def forget_marks(db: AsyncSession, machine: int, tasks: ColumnElement[bool]) -> None:
    """Have it found out anew from where tasks count at a machine."""
    some = select(UpkeepMark).join(UpkeepTask, UpkeepTask.id == UpkeepMark.task_id)
    for mark in (await db.execute(some.where(UpkeepMark.machine_id == machine, tasks))).scalars():
        await db.delete(mark)
