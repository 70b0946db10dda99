"""What quotes are worked out from: what models draw, how often files become scrap, what spools on the shelf cost."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping
from datetime import datetime
from decimal import Decimal

from sqlalchemy import case, func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import MachineState
from chronarch.core.orders.states import Verdict
from chronarch.records.ledger.costs import exact, price_of_kilogram
from chronarch.records.ledger.tables import Energy, LedgerDay
from chronarch.records.machines.tables import Spool
from chronarch.records.orders.tables import Build

WORKING = (MachineState.WARMING, MachineState.BUILDING)


async def watts_of(db: AsyncSession, models: Mapping[int, str], since: datetime) -> dict[str, Decimal]:
    """What a model's machines drew on average while they warmed up and built, W; those without a plug are left out."""
    wh = (
        select(Energy.machine_id, func.sum(Energy.wh))
        .where(Energy.day >= since.date(), Energy.state.in_(WORKING))
        .group_by(Energy.machine_id)
    )
    drawn = {machine: float(amount) for machine, amount in await db.execute(wh)}
    time = (
        select(LedgerDay.machine_id, func.sum(LedgerDay.microseconds))
        .where(LedgerDay.day >= since.date(), LedgerDay.state.in_(WORKING), LedgerDay.machine_id.in_(drawn))
        .group_by(LedgerDay.machine_id)
    )
    sums: dict[str, list[float]] = defaultdict(lambda: [0.0, 0.0])
    for machine, microseconds in await db.execute(time):
        if (model := models.get(machine)) is not None:
            sums[model][0] += drawn[machine]
            sums[model][1] += float(microseconds) / 3.6e9
    return {model: exact(wh / hours) for model, (wh, hours) in sums.items() if hours}


async def judged_of(
    db: AsyncSession, models: Mapping[int, str], files: Collection[int]
) -> dict[tuple[int, str], tuple[int, int]]:
    """Of files on models: how many builds were judged scrap, and how many were judged."""
    scrap = func.sum(case((Build.verdict == Verdict.SCRAP, 1), else_=0))
    query = (
        select(Build.file_id, Build.machine_id, scrap, func.count())
        .where(Build.file_id.in_(files), Build.verdict.is_not(None))
        .group_by(Build.file_id, Build.machine_id)
    )
    found: dict[tuple[int, str], tuple[int, int]] = {}
    for file, machine, bad, judged in await db.execute(query):
        key = file, models.get(machine, "")
        before = found.get(key, (0, 0))
        found[key] = before[0] + int(bad), before[1] + judged
    return found


async def spool_prices(db: AsyncSession) -> dict[str, Decimal]:
    """What a kilogram costs on the spools that have a price and are not finished, by material in lower case, weighed by
    what is left on each."""
    query = select(Spool.material, Spool.price, Spool.grams_full, Spool.grams_left)
    sums: dict[str, list[Decimal]] = defaultdict(lambda: [Decimal(0), Decimal(0)])
    for material, price, full, left in await db.execute(query.where(Spool.finished.is_(False), Spool.grams_left > 0)):
        if (kilogram := price_of_kilogram(price, full)) is not None:
            sums[material.lower()][0] += kilogram * exact(left)
            sums[material.lower()][1] += exact(left)
    return {material: cost / grams for material, (cost, grams) in sums.items()}
