"""Keeps what each build cost: worked out once its bed is clear, and anew where a price is set for a time gone by."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import tables as t
from chronarch.records.ledger.costs import CostPlace, cost_facts, load_prices, write_costs
from chronarch.service.background import Background
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet
from chronarch.service.planning.settings import PlanningSettings, load_settings
from chronarch.wire.ledger.costs import CostSettings

LOOK_EVERY_S, STEP_S = 10.0, 5.0
"""How often is looked, and how long at a time is worked out."""
SETTLED = timedelta(minutes=10)
"""So long after its bed was cleared a build's cost is kept: what its machine drew comes a little later."""
AT_ONCE = 300
"""Builds in one step."""
SETTINGS = "costs"


async def load_cost_settings(db: AsyncSession) -> CostSettings:
    row = await db.get(t.Setting, SETTINGS)
    return CostSettings.model_validate(row.value) if row else CostSettings()


async def keep_cost_settings(db: AsyncSession, settings: CostSettings) -> None:
    """Keep them, within the transaction."""
    await db.merge(t.Setting(name=SETTINGS, value=settings.model_dump(mode="json")))


def places_of(fleet: Fleet, settings: PlanningSettings) -> dict[int, CostPlace]:
    """What costs depend on, by machine."""
    return {
        known.row.id: CostPlace(known.model.name, known.row.site, settings.zone(known.row.site))
        for known in fleet.all()
    }


@dataclass
class CostKeeper:
    context: ServiceContext
    fleet: Fleet
    background: Background

    async def look(self) -> None:
        """Work out what is missing or to be done again. This is the step of one worker."""
        async with self.context.sessions() as db:
            places = places_of(self.fleet, await load_settings(db))
        clock = self.context.clock
        until_s, settled = clock.monotonic_s() + STEP_S, clock.now() - SETTLED
        while await self.background.run(lambda db: _some(db, places, settled)) and clock.monotonic_s() < until_s:
            pass


async def _some(db: AsyncSession, places: Mapping[int, CostPlace], settled: datetime) -> bool:
    """Work out the costs of some builds that were cleared before `settled`. Whether there are more."""
    work, builds, costs = await db.get_one(t.CostWork, 1, with_for_update=True), t.Build, t.BuildCost
    again = work.again_since
    query = select(builds).where(builds.started_at.is_not(None), builds.cleared_at < settled).order_by(builds.id)
    if again:
        query = query.where(builds.id > work.again_after, builds.started_at >= again)
    else:
        without = costs.build_id.is_(None)
        query = query.outerjoin(costs, costs.build_id == builds.id).where(builds.id > work.done_to, without)
    some = (await db.execute(query.limit(AT_ONCE))).scalars().all()
    prices, clear_min = await load_prices(db), (await load_settings(db)).planning.clear_min
    facts = await cost_facts(db, some, places, clear_min)
    await write_costs(db, {number: prices.cost(one) for number, one in facts.items()})
    more = len(some) == AT_ONCE
    if again:
        work.again_since, work.again_after = (again, some[-1].id) if more else (None, 0)
    elif not more:
        work.done_to = await _all_done_to(db, work.done_to, settled)
    await db.commit()
    return more or again is not None


async def _all_done_to(db: AsyncSession, before: int, settled: datetime) -> int:
    """The number of the last build before the first that was not cleared before `settled`."""
    builds = t.Build
    first = select(func.min(builds.id)).where(
        builds.id > before, or_(builds.cleared_at.is_(None), builds.cleared_at >= settled)
    )
    if (uncleared := (await db.execute(first)).scalar()) is not None:
        return uncleared - 1
    return (await db.execute(select(func.max(builds.id)))).scalar() or 0
