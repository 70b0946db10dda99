"""A build's life: its intervals, and how long its layers took beside what was planned."""

from __future__ import annotations

from fastapi import APIRouter
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number
from chronarch.core.gcode.plan import TimePlan
from chronarch.records import tables as t
from chronarch.records.ledger import intervals
from chronarch.records.orders import build_layers
from chronarch.service.context import Context
from chronarch.service.control.builds import find_build
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.wire.gcode import WirePlan
from chronarch.wire.ledger.intervals import BuildLayers, BuildLife, LedgerEntry

router = APIRouter(tags=["builds"], route_class=RetryingRoute)


@router.get("/builds/{number:record}/life")
async def life(number: Number, context: Context) -> BuildLife:
    """What a build's machine did for it, from the first warming until its bed was clear, and the builds of that machine
    before and after it."""
    async with context.sessions() as db:
        build, machine = (await find_build(db, number))[:2]
        found = await intervals.of_build(db, number)
        of_machine = select(t.Build.id).where(t.Build.machine_id == build.machine_id)
        before = of_machine.where(t.Build.id < number).order_by(t.Build.id.desc()).limit(1)
        after = of_machine.where(t.Build.id > number).order_by(t.Build.id).limit(1)
        return BuildLife(
            intervals=[LedgerEntry.of(machine, i) for i in found],
            before=(await db.execute(before)).scalar_one_or_none(),
            after=(await db.execute(after)).scalar_one_or_none(),
        )


@router.get("/builds/{number:record}/layers")
async def layers(number: Number, context: Context) -> BuildLayers:
    """How long a build's layers took, beside what was planned for them."""
    async with context.sessions() as db:
        build = (await find_build(db, number))[0]
        plan = await _plan_of(db, build)
        took = await build_layers.times_of(db, number)
    planned = [plan.layer_s(layer) for layer in range(1, len(plan.layers) + 1)] if plan else []
    took = (took + [None] * len(planned))[: len(planned)]
    known = [(p, s) for p, s in zip(planned, took, strict=True) if s is not None]
    whole = sum(p for p, _ in known)
    pace = sum(s for _, s in known) / whole if whole > 0 else None
    return BuildLayers(planned_s=planned, took_s=took, pace=pace)


async def _plan_of(db: AsyncSession, build: t.Build) -> TimePlan | None:
    """The time plan of what a build was fed, on its machine's model."""
    query = (
        select(t.ContentReading.plan)
        .join(t.Model, t.Model.name == t.ContentReading.model)
        .join(t.Machine, t.Machine.model_id == t.Model.id)
        .where(t.Machine.id == build.machine_id, t.ContentReading.sha256 == (build.fed_sha256 or build.sha256))
    )
    found = (await db.execute(query)).scalar_one_or_none()
    return WirePlan.model_validate(found).core() if found else None
