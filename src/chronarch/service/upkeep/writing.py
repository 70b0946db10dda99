"""Writes down what was done at machines."""

from __future__ import annotations

from datetime import datetime
from math import inf

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.upkeep.due import standing
from chronarch.records import tables as t
from chronarch.records.machines.materials import load_materials
from chronarch.records.upkeep.odometers import as_json, forget_marks, marks_of, odometers, same_work
from chronarch.service.upkeep.standing import rules_of, use_of
from chronarch.wire.upkeep import tasks as w


async def write_done(
    db: AsyncSession, machine: int, task: t.UpkeepTask | None, asked: w.NewUpkeepDone, at: datetime, by: str
) -> t.UpkeepDone:
    """Write it down; the task counts anew from then, and no time is kept free for it any more. Committed by whoever
    asks."""
    part = asked.part or (task.part if task else "")
    odometer, materials = (await odometers(db, [machine], at))[machine], await load_materials(db)
    same, since, late = same_work(task.id if task else None, part), None, None
    for mark in await marks_of(db, machine, same):
        if task is not None and mark.task.id == task.id and mark.since < at:
            share = standing(rules_of(task), use_of(mark, odometer, at, materials)).share
            since, late = mark.since, share if share < inf else None
    row = t.UpkeepDone(
        machine_id=machine, task_id=task.id if task else None, name=asked.name or (task.name if task else ""), at=at,
        by=by, minutes=asked.minutes, note=asked.note, parts=asked.parts, part=part, worn=bool(part) and asked.worn,
        value=asked.value, odometer=as_json(odometer), since_at=since, late=late,
    )  # fmt: skip
    db.add(row)
    await forget_marks(db, machine, same)
    if task is not None:
        kept = select(t.UpkeepWindow).where(t.UpkeepWindow.machine_id == machine, t.UpkeepWindow.task_id == task.id)
        for window in (await db.execute(kept)).scalars():
            await db.delete(window)
    await db.flush()
    return row
