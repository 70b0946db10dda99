"""Spans in which machines may not build."""

from __future__ import annotations

from fastapi import APIRouter
from sqlalchemy import select

from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.problems import ApiProblem
from chronarch.service.upkeep.finding import find_task
from chronarch.wire.common import RequestDone, fill
from chronarch.wire.upkeep.windows import NewUpkeep, Upkeep

router = APIRouter(tags=["setup"], route_class=RetryingRoute)
routers = (router,)


@router.get("/upkeep-windows")
async def upkeep(context: Context, fleet: TheFleet) -> list[Upkeep]:
    """Spans in which machines may not build, from now on."""
    names = {k.row.id: k.row.name for k in fleet.all()}
    query = select(t.UpkeepWindow).where(t.UpkeepWindow.end_at > context.clock.now()).order_by(t.UpkeepWindow.begin_at)
    async with context.sessions() as db:
        return [
            fill(Upkeep, u, machine=names[u.machine_id], begin=u.begin_at, end=u.end_at, task=u.task_id)
            for u in (await db.execute(query)).scalars()
            if u.machine_id in names
        ]


@router.post("/upkeep-windows", status_code=201)
async def add_upkeep(asked: NewUpkeep, context: Context, fleet: TheFleet) -> Upkeep:
    """Keep a machine free for upkeep: no build that would reach into the span starts there."""
    known, text = fleet.find(asked.machine), asked.text
    async with context.sessions() as db:
        if asked.task is not None:
            text = text or (await find_task(db, asked.task)).name
        row = t.UpkeepWindow(
            machine_id=known.row.id, begin_at=asked.begin, end_at=asked.end, text=text, task_id=asked.task
        )
        db.add(row)
        await db.commit()
    return fill(Upkeep, asked, id=row.id, machine=known.row.name, text=text)


@router.delete("/upkeep-windows/{number:record}")
async def remove_upkeep(number: Number, context: Context) -> RequestDone:
    async with context.sessions() as db:
        row = await db.get(t.UpkeepWindow, number)
        if row is None:
            raise ApiProblem(404, f"There is no upkeep window {number}; it may be over.")
        await db.delete(row)
        await db.commit()
    return RequestDone(text="The machine may build then.")
