"""Upkeep of the demo shop: what must be done when, what was done these last months, and what checks measured."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from random import Random

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.materials import USUAL_MATERIALS
from chronarch.core.upkeep.due import standing
from chronarch.core.upkeep.odometer import Odometer
from chronarch.demo.shop import MACHINES, OTHER_STORED
from chronarch.records import tables as t
from chronarch.records.upkeep.odometers import TaskMark, odometers
from chronarch.service.upkeep.standing import rules_of, use_of
from chronarch.standins.machine import STORED
from chronarch.wire.upkeep.tasks import CalibrationCheck, DueWhen, NewUpkeepTask

BY = "Maud"
BEFORE = timedelta(days=90)
"""The tasks are so much older than the shop's recorded past."""
HOURS_A_DAY, GRAMS_AN_HOUR = 8.5, 11.0
"""What machines did before that, on an average day."""
LATE = "Gnomon"
"""Nobody has looked at its belts for too long."""
DRIFTS = "Stem"
"""A machine on which a test cube grows along X."""
NEW = {f"{word} {letter}": value for word, values in STORED.items() for letter, value in values.items()}
"""What machines have stored when they are new."""


@dataclass(frozen=True)
class Habit:
    """A task, how often it is done in days, and how unpunctual that is."""

    task: NewUpkeepTask
    every: float
    spread: float
    notes: tuple[str, ...] = ()


HABITS = (
    Habit(
        NewUpkeepTask(
            name="wipe the nozzle", due=DueWhen(hours=60), minutes=5,
            text="Heat to 180 °C.\nWipe with the brass brush, then with a cloth.",
        ),
        7, 0.2,
    ),
    Habit(
        NewUpkeepTask(
            name="belt tension", model="Lantern 300", due=DueWhen(days=21), minutes=20, blocks="warns",
            text="Press each belt half-way with two fingers: it gives 4 mm.\nTurn the screw at the idler by a quarter.",
            parts=["2.5 mm key"],
        ),
        20, 0.25, ("X was a little loose", "both fine", "Y tightened by half a turn"),
    ),
    Habit(
        NewUpkeepTask(name="grease the rods", due=DueWhen(days=45), minutes=20, parts=["white grease", "cloth"]),
        42, 0.15,
    ),
    Habit(
        NewUpkeepTask(
            name="new nozzle", due=DueWhen(hours=400), minutes=15, part="nozzle", blocks="warns",
            parts=["nozzle 0.4 mm"], text="Heat to 240 °C before it is turned. Calibrate Z afterwards.",
        ),
        38, 0.12, ("worn to an oval", "strings more than it did", "edge rounded"),
    ),
    Habit(
        NewUpkeepTask(
            name="cube, X", model="Lantern 220", due=DueWhen(days=10), minutes=10,
            text="Build a 20 mm cube, let it cool, measure across X in the middle.", blocks="warns",
            check=CalibrationCheck(nominal=20, tolerance=0.15, unit="mm"),
        ),
        9, 0.1,
    ),
    Habit(
        NewUpkeepTask(
            name="bed level", model="Kiln 250", due=DueWhen(days=14), minutes=5,
            check=CalibrationCheck(nominal=0, tolerance=0.3, unit="mm", source="level map"),
        ),
        13, 0.1,
    ),
)  # fmt: skip


async def add_upkeep(db: AsyncSession, begin: datetime, now: datetime) -> None:
    """Write it into the records, up to now; `begin` is where the machines' ledgers begin."""
    random, since = Random(1913), begin - BEFORE
    machines = {row.name: row for row in (await db.execute(select(t.Machine))).scalars()}
    models = {row.name: row.id for row in (await db.execute(select(t.Model))).scalars()}
    for habit in HABITS:
        task = _row(habit.task, models, since)
        db.add(task)
        await db.flush()
        for one in MACHINES:
            if habit.task.model in ("", one.model):
                await _done(db, habit, task, machines[one.name], since, begin, now, random)
    for name, row in machines.items():
        stored = {**NEW, **OTHER_STORED.get(name, {})}
        told, at = now - timedelta(days=1, hours=2), begin - timedelta(days=30)
        if name in OTHER_STORED:
            db.add(t.MachineSettings(machine_id=row.id, at=at, told_at=now - timedelta(days=9), values=NEW))
            at = now - timedelta(days=8)
        db.add(t.MachineSettings(machine_id=row.id, at=at, told_at=told, values=stored))
    await db.commit()


def _row(asked: NewUpkeepTask, models: Mapping[str, int], since: datetime) -> t.UpkeepTask:
    check = asked.check
    return t.UpkeepTask(
        name=asked.name, model_id=models.get(asked.model), rules=asked.due.model_dump(), minutes=asked.minutes,
        text=asked.text, parts=asked.parts, pictures=[], part=asked.part, blocks=asked.blocks,
        nominal=check.nominal if check else None, tolerance=check.tolerance if check else None,
        unit=check.unit if check else "", source=check.source if check else "hand", since=since, made_by=BY,
    )  # fmt: skip


async def _done(
    db: AsyncSession, habit: Habit, task: t.UpkeepTask, machine: t.Machine, since: datetime, begin: datetime,
    now: datetime, random: Random,
) -> None:  # fmt: skip
    """All the times that a task was done at one machine."""
    at, before = since - timedelta(days=habit.every * random.random()), since
    odometer_before = await _odometer(db, machine, since, begin)
    times = 0
    while True:
        days = habit.every * random.uniform(1 - habit.spread, 1 + habit.spread)
        at = (at + timedelta(days=days)).replace(hour=random.randrange(9, 16), minute=random.randrange(60))
        forgotten = machine.name == LATE and "belt" in task.name and at > begin - timedelta(days=18)
        if forgotten or at >= now - timedelta(hours=1):
            return
        if at <= since:
            continue
        odometer, times = await _odometer(db, machine, at, begin), times + 1
        mark = TaskMark(task, machine.id, before, odometer_before, 0)
        share = standing(rules_of(task), use_of(mark, odometer, at, USUAL_MATERIALS)).share
        by = "the machine" if task.source != "hand" else BY
        note = random.choice(habit.notes) if habit.notes and random.random() < 0.6 else ""
        db.add(
            t.UpkeepDone(
                machine_id=machine.id, task_id=task.id, name=task.name, at=at, by=by, minutes=task.minutes, note=note,
                parts=task.parts[:1], part=task.part, worn=bool(task.part) and random.random() < 0.85,
                value=_value(task, machine.name, times, random), odometer=asdict(odometer), since_at=before, late=share,
            )
        )  # fmt: skip
        before, odometer_before = at, odometer


async def _odometer(db: AsyncSession, machine: t.Machine, at: datetime, begin: datetime) -> Odometer:
    """What a machine had done by a time, counted from where its ledger begins: below 0 before that."""
    if at > begin:
        return (await odometers(db, [machine.id], at))[machine.id]
    hours = (at - begin) / timedelta(days=1) * HOURS_A_DAY
    material = machine.tools[0]["material"]
    return Odometer(hours, round(hours / 1.4), {material: round(hours * GRAMS_AN_HOUR, 1)})


def _value(task: t.UpkeepTask, machine: str, times: int, random: Random) -> float | None:
    if task.nominal is None:
        return None
    if task.unit == "mm" and task.nominal == 0:
        return round(0.14 + random.gauss(0, 0.012), 3)
    grown = 0.014 * max(0, times - 4) if machine == DRIFTS else 0.0
    return round(task.nominal + grown + random.gauss(0, 0.004 if machine == DRIFTS and times > 4 else 0.018), 3)
