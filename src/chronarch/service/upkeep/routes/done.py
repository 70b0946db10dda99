"""What was done at machines, their log, and whether faults follow what is done late."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import FileResponse
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import Right
from chronarch.core.bounds import Number
from chronarch.core.upkeep.faults_after import lateness
from chronarch.records import tables as t
from chronarch.records.paging import SortKey
from chronarch.records.upkeep.log import done_of_tasks, log_of
from chronarch.records.upkeep.odometers import forget_marks, same_work
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.openapi import body
from chronarch.service.http.paging import Paged
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.library.pictures import keep_picture, picture_file, receive_picture
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.service.upkeep.finding import find_done, find_task
from chronarch.service.upkeep.keeper import TheUpkeepKeeper
from chronarch.service.upkeep.writing import write_done
from chronarch.service.whereabouts import of_machine
from chronarch.wire.common import RequestDone, fill
from chronarch.wire.upkeep import tasks as w

router = APIRouter(tags=["upkeep"], route_class=RetryingRoute)
AHEAD = timedelta(minutes=5)


@router.post("/upkeep/done", status_code=201)
async def done(
    asked: w.NewUpkeepDone, who: Caller, context: Context, fleet: TheFleet, keeper: TheUpkeepKeeper
) -> w.UpkeepDone:
    """Something was done at a machine, or measured: a task, which counts anew from then, or anything else."""
    known, now = fleet.find(asked.machine), context.clock.now()
    who.must(Right.OPERATE, of_machine(known.row))
    at = asked.at or now
    if at > now + AHEAD:
        raise ApiProblem(422, "That time has not come yet; leave it out for now.")
    async with keeper.lock, context.sessions() as db:
        task = await find_task(db, asked.task) if asked.task else None
        _check(asked, task, known.row)
        row = await write_done(db, known.row.id, task, asked, at, who.signature)
        await db.commit()
        view = await _view(db, row)
    await keeper.catch_up()
    return view


def _check(asked: w.NewUpkeepDone, task: t.UpkeepTask | None, machine: t.Machine) -> None:
    """Raises ApiProblem (422) where it does not fit the task."""
    if task is None:
        if not asked.name:
            raise ApiProblem(422, "Say what was done: the number of a task, or a name.")
        if asked.value is not None:
            raise ApiProblem(422, "Only a calibration check has a measured value; say which task it is.")
        return
    elsewhere = task.machine_id not in (None, machine.id) or task.model_id not in (None, machine.model_id)
    if elsewhere:
        raise ApiProblem(422, f"{task.name} is no task of {machine.name}; `chronarch upkeep due` shows its own.")
    if (task.nominal is None) != (asked.value is None):
        wants = "has no measured value" if task.nominal is None else "is a check: say what was measured"
        raise ApiProblem(422, f"{task.name} {wants}.")


@router.delete("/upkeep/done/{number:record}")
async def undo(number: Number, context: Context, keeper: TheUpkeepKeeper) -> RequestDone:
    """It was not done after all: the task counts from where it did before."""
    async with keeper.lock, context.sessions() as db:
        row = await find_done(db, number)
        await forget_marks(db, row.machine_id, same_work(row.task_id, row.part))
        await db.delete(row)
        await db.commit()
    await keeper.catch_up()
    return RequestDone(text=f"{row.name} counts as not done then.")


@router.put("/upkeep/done/{number:record}/photo", openapi_extra=body("image/jpeg", "image/png"))
async def put_photo(number: Number, request: Request, context: Context, store: TheContentStore) -> w.UpkeepDone:
    """A picture of how it was, JPEG or PNG."""
    received = await receive_picture(store, request)
    async with context.sessions() as db:
        row = await find_done(db, number, received)
        row.photo = await keep_picture(db, store, received)
        await db.commit()
        return await _view(db, row)


@router.get(
    "/upkeep/done/{number:record}/photo", response_class=Response, responses={200: {"content": {"image/jpeg": {}}}}
)
async def photo(number: Number, context: Context, store: TheContentStore) -> FileResponse:
    async with context.sessions() as db:
        row = await find_done(db, number)
    if row.photo is None:
        raise ApiProblem(404, f"There is no picture of {row.name}.")
    return picture_file(store, row.photo)


@router.get("/upkeep/log")
async def log(
    context: Context, fleet: TheFleet, page: Paged, response: Response,
    machine: Annotated[str, Query(max_length=300, description="Only this machine's.")] = "",
) -> list[w.UpkeepLogEntry]:  # fmt: skip
    """What was done at machines, newest first; of one machine with its faults, over its life."""
    names = {known.row.id: known.row.name for known in fleet.all()}
    found = log_of(fleet.find(machine).row.id if machine else None)
    keys = [SortKey(found.c.at, True, datetime.fromisoformat)]
    keys += [SortKey(found.c.kind, True), SortKey(found.c.id, True)]
    async with context.sessions() as db:
        rows = page.cut((await db.execute(page.of(select(found), *keys))).all(), lambda row: (row.at, row.kind, row.id))
        numbers = [row.id for row in rows if row.kind]
        done_of = {one.id: one for one in await _views(db, numbers)}
    if page.next:
        response.headers["Link"] = page.next
    return [
        w.UpkeepLogEntry(at=row.at, machine=names[row.machine_id], done=done_of[row.id])
        if row.kind
        else w.UpkeepLogEntry(
            at=row.at, machine=names[row.machine_id], fault=row.reason or "it went down", lasted_min=row.lasted_min
        )
        for row in rows
    ]


@router.get("/upkeep/lateness")
async def late(context: Context) -> list[w.TaskLateness]:
    """How late each task was done the last hundred times, and whether machines went down more often meanwhile."""
    async with context.sessions() as db:
        found = await done_of_tasks(db)
    return [w.TaskLateness(task=task.id, name=task.name, lateness=lateness(done)) for task, done in found if done]


async def _view(db: AsyncSession, row: t.UpkeepDone) -> w.UpkeepDone:
    return (await _views(db, [row.id]))[0]


async def _views(db: AsyncSession, numbers: list[int]) -> list[w.UpkeepDone]:
    query = (
        select(t.UpkeepDone, t.Machine.name, t.UpkeepTask.unit)
        .join(t.Machine, t.Machine.id == t.UpkeepDone.machine_id)
        .outerjoin(t.UpkeepTask, t.UpkeepTask.id == t.UpkeepDone.task_id)
        .where(t.UpkeepDone.id.in_(numbers))
    )
    return [
        fill(
            w.UpkeepDone, row, machine=machine, task=row.task_id, unit=unit or "", photo=row.photo is not None,
            since=row.since_at,
        )
        for row, machine, unit in (await db.execute(query))
    ]  # fmt: skip
