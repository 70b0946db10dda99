"""Prices and costs as they are kept: reading what a build's cost is worked out from, and writing what came of it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, tzinfo
from decimal import Decimal
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.costs import ZERO, Cost, CostFacts, CostPart, MadeOf, PriceList, Rate, RateKind
from chronarch.records.ledger.tables import BuildCost, CostRate, CostWork, Energy
from chronarch.records.machines.tables import Spool
from chronarch.records.orders.tables import Build, BuildUse

PARTS = tuple(CostPart)


@dataclass(frozen=True)
class CostPlace:
    """What the cost of a machine's builds depends on: its model, its site, and the site's clock."""

    model: str
    site: str
    zone: tzinfo


NOWHERE = CostPlace("", "", UTC)


def rate_of(row: CostRate) -> Rate:
    hours = tuple((int(begin), int(end), Decimal(price)) for begin, end, price in row.hours)
    return Rate(RateKind(row.kind), row.subject, row.since, row.price, hours)


async def load_prices(db: AsyncSession) -> PriceList:
    return PriceList([rate_of(row) for row in (await db.execute(select(CostRate))).scalars()])


def price_of_kilogram(price: Decimal | None, grams: float) -> Decimal | None:
    """What a kilogram of a spool cost; None where the spool has no price of its own."""
    return None if price is None or grams <= 0 else price * 1000 / exact(grams)


def exact(value: float) -> Decimal:
    """What was measured, as a decimal of six places."""
    return Decimal(f"{value:.6f}")


async def cost_facts(
    db: AsyncSession, builds: Sequence[Build], places: Mapping[int, CostPlace], clear_min: float
) -> dict[int, CostFacts]:
    """What the costs of builds that have begun are worked out from, by build."""
    numbers = [build.id for build in builds]
    of_build = BuildUse.build_id.in_(numbers)
    uses = select(BuildUse.build_id, BuildUse.material, BuildUse.grams, Spool.price, Spool.grams_full)
    made_of: dict[int, list[MadeOf]] = defaultdict(list)
    for number, material, grams, price, full in await db.execute(uses.outerjoin(Spool).where(of_build)):
        made_of[number].append(MadeOf(material, exact(grams), price_of_kilogram(price, full or 0)))
    sums = select(Energy.build_id, func.sum(Energy.wh)).where(Energy.build_id.in_(numbers)).group_by(Energy.build_id)
    drawn = {number: exact(wh) for number, wh in await db.execute(sums)}
    found = {}
    for build in builds:
        place = places.get(build.machine_id, NOWHERE)
        if build.started_at is None:
            continue
        by_hand = build.cleared_at is not None and not build.let_go
        found[build.id] = CostFacts(
            place.model, place.site, place.zone, build.started_at, build.ended_at or build.started_at,
            tuple(made_of[build.id]), drawn.get(build.id), exact(clear_min) if by_hand else ZERO,
        )  # fmt: skip
    return found


async def write_costs(db: AsyncSession, costs: Mapping[int, Cost]) -> None:
    """Write what builds cost in place of what was known of them."""
    if not costs:
        return
    rows = [
        {"build_id": number, "total": cost.total, **{part: cost.parts.get(part) for part in PARTS}}
        for number, cost in costs.items()
    ]
    new = insert(BuildCost)
    fresh = {name: new.inserted[name] for name in ("total", *PARTS)}
    await db.execute(new.on_duplicate_key_update(**fresh), rows)


def cost_of(row: Any) -> Cost:
    """A row's columns as a cost; what there was no price for is missing in it."""
    parts = {part: amount for part in PARTS if (amount := getattr(row, part)) is not None}
    return Cost(parts, frozenset(part for part in PARTS if part is not CostPart.OVERHEAD and part not in parts))


async def kept_costs(db: AsyncSession, builds: Collection[int]) -> dict[int, Cost]:
    rows = (await db.execute(select(BuildCost).where(BuildCost.build_id.in_(builds)))).scalars()
    return {row.build_id: cost_of(row) for row in rows}


async def work_out_again(db: AsyncSession, since: datetime) -> None:
    """Have the costs of builds that began at a time or later worked out anew; committed by whoever asks."""
    work = await db.get_one(CostWork, 1, with_for_update=True)
    work.again_since = min(since, work.again_since or since)
    work.again_after = 0
