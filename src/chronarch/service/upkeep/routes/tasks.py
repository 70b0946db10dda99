"""What is to be done when: tasks and calibration checks, with pictures, and how near each is at each machine."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Query, Request, Response
from fastapi.responses import FileResponse
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.openapi import body
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.library.pictures import keep_picture, picture_file, receive_picture
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.planning.planner import ThePlanner
from chronarch.service.problems import ApiProblem
from chronarch.service.upkeep.due_list import due_list
from chronarch.service.upkeep.finding import find_task
from chronarch.service.upkeep.keeper import TheUpkeepKeeper
from chronarch.wire.common import RequestDone, fill
from chronarch.wire.upkeep import tasks as w

router = APIRouter(tags=["upkeep"], route_class=RetryingRoute)
MOST_TASKS = 500


@router.get("/upkeep/tasks")
async def tasks(context: Context) -> list[w.UpkeepTask]:
    """All tasks and calibration checks."""
    async with context.sessions() as db:
        return await _views(db)


@router.post("/upkeep/tasks", status_code=201)
async def add_task(
    asked: w.NewUpkeepTask, who: Caller, context: Context, fleet: TheFleet, keeper: TheUpkeepKeeper
) -> w.UpkeepTask:
    """Something to be done again and again. At machines where it was never done it counts from now."""
    async with context.sessions() as db:
        there = select(func.count()).select_from(t.UpkeepTask).where(t.UpkeepTask.dropped_at.is_(None))
        if (await db.execute(there)).scalar_one() >= MOST_TASKS:
            raise ApiProblem(409, f"There are {MOST_TASKS} tasks already; drop those that are not needed.")
        row = t.UpkeepTask(pictures=[], since=context.clock.now(), made_by=who.signature)
        await _fill(db, row, asked, fleet)
        db.add(row)
        await db.commit()
    await keeper.catch_up()
    return await _view(context, row)


@router.put("/upkeep/tasks/{number:record}")
async def change_task(
    number: Number, asked: w.NewUpkeepTask, context: Context, fleet: TheFleet, keeper: TheUpkeepKeeper
) -> w.UpkeepTask:
    """Make a task another one. What was done of it stays."""
    async with context.sessions() as db:
        row = await find_task(db, number)
        await _fill(db, row, asked, fleet)
        await db.commit()
    await keeper.catch_up()
    return await _view(context, row)


@router.delete("/upkeep/tasks/{number:record}")
async def drop_task(number: Number, context: Context, keeper: TheUpkeepKeeper) -> RequestDone:
    """It is not due any more. What was done of it stays in the log."""
    async with context.sessions() as db:
        row = await find_task(db, number)
        row.dropped_at = context.clock.now()
        await db.commit()
    await keeper.catch_up()
    return RequestDone(text=f"{row.name} is not due any more.")


@router.post("/upkeep/tasks/{number:record}/pictures", openapi_extra=body("image/jpeg", "image/png"))
async def add_picture(number: Number, request: Request, context: Context, store: TheContentStore) -> w.UpkeepTask:
    """A picture that shows what to do, JPEG or PNG."""
    received = await receive_picture(store, request)
    async with context.sessions() as db:
        row = await find_task(db, number, received)
        if len(row.pictures) >= w.MOST_PICTURES:
            received.path.unlink()
            raise ApiProblem(409, f"A task has at most {w.MOST_PICTURES} pictures; take one away first.")
        kept = await keep_picture(db, store, received)
        row.pictures = [*(one for one in row.pictures if one != kept), kept]
        await db.commit()
    return await _view(context, row)


Key = Annotated[str, Path(pattern="^[0-9a-f]{64}$")]


@router.get(
    "/upkeep/tasks/{number:record}/pictures/{key}",
    response_class=Response, responses={200: {"content": {"image/jpeg": {}}}},
)  # fmt: skip
async def picture(number: Number, key: Key, context: Context, store: TheContentStore) -> FileResponse:
    async with context.sessions() as db:
        row = await find_task(db, number)
    if key not in row.pictures:
        raise ApiProblem(404, f"{row.name} has no such picture.")
    return picture_file(store, key)


@router.delete("/upkeep/tasks/{number:record}/pictures/{key}")
async def remove_picture(number: Number, key: Key, context: Context) -> w.UpkeepTask:
    async with context.sessions() as db:
        row = await find_task(db, number)
        row.pictures = [one for one in row.pictures if one != key]
        await db.commit()
    return await _view(context, row)


@router.get("/upkeep/due")
async def due(
    context: Context, fleet: TheFleet, planner: ThePlanner, keeper: TheUpkeepKeeper,
    machine: Annotated[str, Query(max_length=300, description="Only this machine's.")] = "",
    limit: Annotated[int, Query(ge=1, le=5000, description="At most so many.")] = 500,
) -> list[w.DueTask]:  # fmt: skip
    """How near each task is to being due at each machine, the nearest first, with a time at which it would cost
    least."""
    only = fleet.find(machine).row.name if machine else ""
    planned = await planner.shown()
    async with context.sessions() as db:
        return await due_list(db, context.clock.now(), fleet, planned, keeper.standings, only, limit, keeper.background)


async def _fill(db: AsyncSession, row: t.UpkeepTask, asked: w.NewUpkeepTask, fleet: TheFleet) -> None:
    row.model_id, row.machine_id = None, fleet.find(asked.machine).row.id if asked.machine else None
    if asked.model:
        found = (await db.execute(select(t.Model.id).where(t.Model.name == asked.model))).scalar()
        if found is None:
            raise ApiProblem(404, f"There is no model {asked.model}; `chronarch models list` shows them.")
        row.model_id = found
    row.name, row.rules, row.minutes, row.text = asked.name, asked.due.model_dump(), asked.minutes, asked.text
    row.parts, row.part, row.blocks, check = asked.parts, asked.part, asked.blocks, asked.check
    row.nominal, row.tolerance = (check.nominal, check.tolerance) if check else (None, None)
    row.unit, row.source = (check.unit, check.source) if check else ("", "hand")


async def _views(db: AsyncSession, *only: int) -> list[w.UpkeepTask]:
    query = (
        select(t.UpkeepTask, t.Model.name, t.Machine.name)
        .outerjoin(t.Model, t.Model.id == t.UpkeepTask.model_id)
        .outerjoin(t.Machine, t.Machine.id == t.UpkeepTask.machine_id)
        .where(t.UpkeepTask.dropped_at.is_(None))
        .order_by(t.UpkeepTask.name, t.UpkeepTask.id)
    )
    rows = (await db.execute(query.where(t.UpkeepTask.id.in_(only)) if only else query)).all()
    return [
        fill(
            w.UpkeepTask, row, model=model or "", machine=machine or "", due=w.DueWhen.model_validate(row.rules),
            check=None if row.nominal is None else fill(w.CalibrationCheck, row),
        )
        for row, model, machine in rows
    ]  # fmt: skip


async def _view(context: Context, row: t.UpkeepTask) -> w.UpkeepTask:
    async with context.sessions() as db:
        return (await _views(db, row.id))[0]
