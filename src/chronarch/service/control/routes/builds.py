"""Having a machine do something with the build under way."""

from __future__ import annotations

from fastapi import APIRouter
from sqlalchemy import select

from chronarch.core.bounds import Counted, Named, Number
from chronarch.records import tables as t
from chronarch.records.audit import asks
from chronarch.service.context import Context
from chronarch.service.control.builds import build_view, have_done, running
from chronarch.service.control.leave_out import lay_after_all, leave_out, skip_plan
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.library.readers import TheContentReaders
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Caller
from chronarch.wire.common import ReasonGiven
from chronarch.wire.control import actions as w
from chronarch.wire.control import commands as c
from chronarch.wire.orders.builds import Build

router = APIRouter(tags=["builds"], route_class=RetryingRoute)


@router.post("/builds/{number:record}/pause")
async def pause(number: Number, because: ReasonGiven, who: Caller, context: Context, fleet: TheFleet) -> Build:
    """Stop feeding at the next line, lift and park. Answers once the machine stands."""
    asks(because.reason or "")
    reason = because.reason or f"asked for by {who.signature}"
    return await have_done(context, fleet, number, c.Pause(reason=reason), who.signature)


@router.post("/builds/{number:record}/resume")
async def resume(number: Number, who: Caller, context: Context, fleet: TheFleet) -> Build:
    """End a pause; the build goes on with the very next line."""
    return await have_done(context, fleet, number, c.Resume(), who.signature)


@router.post("/builds/{number:record}/stop")
async def stop(number: Number, because: ReasonGiven, who: Caller, context: Context, fleet: TheFleet) -> Build:
    """End a build for good: heaters off, head parked, bed presented."""
    asks(because.reason or "")
    reason = because.reason or f"asked for by {who.signature}"
    return await have_done(context, fleet, number, c.Stop(reason=reason), who.signature)


@router.put("/builds/{number:record}/pauses/{layer:record}")
async def pause_before(number: Number, layer: Counted, who: Caller, context: Context, fleet: TheFleet) -> Build:
    """Pause once everything below a layer is laid. 0 means once the present layer is laid."""
    return await have_done(context, fleet, number, c.PauseBefore(layer=layer), who.signature)


@router.delete("/builds/{number:record}/pauses/{layer:record}")
async def no_pause_before(number: Number, layer: Counted, who: Caller, context: Context, fleet: TheFleet) -> Build:
    """Take back a pause before a layer."""
    return await have_done(context, fleet, number, c.NoPauseBefore(layer=layer), who.signature)


@router.post("/builds/{number:record}/filament-change")
async def filament_change(
    number: Number, because: ReasonGiven, who: Caller, context: Context, fleet: TheFleet
) -> Build:
    """Pause for a filament change. Then `unload`, `load` and `purge` are done at the machine, and the build is
    resumed."""
    reason = because.reason or f"filament change asked for by {who.signature}"
    return await have_done(context, fleet, number, c.ChangeFilament(reason=reason), who.signature)


@router.get("/builds/{number:record}/changes")
async def changes(number: Number, context: Context) -> list[w.BuildChange]:
    """What people changed during a build, oldest first."""
    query = select(t.BuildChange).where(t.BuildChange.build_id == number).order_by(t.BuildChange.id)
    async with context.sessions() as db:
        return [w.BuildChange(at=row.at, text=row.text, by=row.by) for row in (await db.execute(query)).scalars()]


@router.post("/builds/{number:record}/skip/preview")
async def preview_skip(
    number: Number,
    asked: w.SkipRequest,
    context: Context,
    fleet: TheFleet,
    store: TheContentStore,
    readers: TheContentReaders,
) -> w.SkipPlan:
    """What leaving objects out from the next layer on would mean. Nothing is changed."""
    build, known = await running(context, fleet, number, "leave out")
    told, _, _ = await skip_plan(context, store, readers, build, known, asked.objects)
    return told


@router.post("/builds/{number:record}/skip")
async def skip(
    number: Number,
    asked: w.SkipRequest,
    who: Caller,
    context: Context,
    fleet: TheFleet,
    store: TheContentStore,
    readers: TheContentReaders,
) -> w.SkipPlan:
    """Leave objects out of a running build from the next layer on. Everything else on the bed is laid as before."""
    return await leave_out(context, fleet, store, readers, number, asked.objects, who.signature)


@router.delete("/builds/{number:record}/skip/{name}")
async def undo_skip(
    number: Number,
    name: Named,
    who: Caller,
    context: Context,
    fleet: TheFleet,
    store: TheContentStore,
    readers: TheContentReaders,
) -> Build:
    """Lay an object after all. This is possible until the layer begins from which it would be missing."""
    await lay_after_all(context, fleet, store, readers, number, name, who.signature)
    async with context.sessions() as db:
        return await build_view(db, number)
