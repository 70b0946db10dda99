"""Prices, each from a time on."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.costs import machine_hour
from chronarch.records import tables as t
from chronarch.records.ledger.costs import rate_of, work_out_again
from chronarch.service.problems import ApiProblem
from chronarch.wire.ledger.costs import HoursPrice, MachineHour, NewRate

MOST_RATES = 2000


def asked_price(row: t.CostRate) -> NewRate:
    """A price as it was asked for, without the time from which it holds."""
    hours = [HoursPrice(begin=begin, end=end, price=price) for begin, end, price in rate_of(row).hours]
    hour = row.made_of and MachineHour.model_validate(row.made_of)
    return NewRate(kind=row.kind, subject=row.subject, price=None if hour else row.price, hours=hours, machine=hour)


async def set_price(db: AsyncSession, asked: NewRate, who: str, now: datetime) -> t.CostRate:
    """Set a price within the transaction; it takes the place of one that was set from the very same time. Raises
    ApiProblem (409)."""
    since, hour = asked.since or now, asked.machine
    same = t.CostRate.kind == asked.kind, t.CostRate.subject == asked.subject, t.CostRate.since == since
    row = (await db.execute(select(t.CostRate).where(*same).with_for_update())).scalar_one_or_none()
    if row is None:
        if (await db.execute(select(func.count()).select_from(t.CostRate))).scalar_one() >= MOST_RATES:
            raise ApiProblem(409, f"{MOST_RATES} prices are kept already; take away those that hold no longer.")
        row = t.CostRate(kind=asked.kind, subject=asked.subject, since=since)
        db.add(row)
    price = machine_hour(hour.purchase, hour.life_h, hour.upkeep_h) if hour else asked.price
    row.price = price or Decimal(0)
    row.hours = [[one.begin, one.end, str(one.price)] for one in asked.hours]
    row.made_of = hour.model_dump(mode="json") if hour else None
    row.set_by, row.set_at = who, now
    await work_out_again(db, since)
    return row
