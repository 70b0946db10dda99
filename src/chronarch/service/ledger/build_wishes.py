"""Which builds are meant, by what is asked of the history."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import and_, false, or_
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.calendar import TimePart, cut
from chronarch.records.ledger.build_search import Condition, conditions
from chronarch.records.ledger.figures import ended_within
from chronarch.records.orders.tables import Build
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet
from chronarch.service.machines.machine_groups import any_machine, machines_like
from chronarch.service.planning.settings import load_settings
from chronarch.service.problems import ApiProblem
from chronarch.wire.ledger.history import BuildSearch

CALENDAR = {TimePart.WEEKDAY: "weekday", TimePart.HOUR: "hour", TimePart.SHIFT: "shift"}
MOST_DAYS = 366 * 2


async def wanted(db: AsyncSession, context: ServiceContext, fleet: Fleet, asked: BuildSearch) -> list[Condition]:
    """What rows of builds must be. Raises ApiProblem (404, 422)."""
    now = context.clock.now()
    machines = None if any_machine(asked) else [known.row.id for known in machines_like(fleet, asked)]
    found = await conditions(db, asked, machines, now)
    parts = [part for part, name in CALENDAR.items() if getattr(asked, name) is not None]
    if parts:
        if asked.ended_from is None:
            raise ApiProblem(422, f"Builds of a {CALENDAR[parts[0]]} are found within a time; say ended_from as well.")
        found.append(await _by_calendar(db, fleet, asked, parts, asked.ended_from, asked.ended_to or now))
    return found


async def _by_calendar(
    db: AsyncSession, fleet: Fleet, asked: BuildSearch, parts: list[TimePart], begin: datetime, end: datetime
) -> Condition:
    """Those that ended at such a part of the calendar, by the clock and hours of each site."""
    if (end - begin).days > MOST_DAYS:
        raise ApiProblem(422, f"Ask for at most {MOST_DAYS} days at a time.")
    label = tuple(_label(part, getattr(asked, CALENDAR[part])) for part in parts)
    settings = await load_settings(db)
    sites: dict[str, list[int]] = {}
    for known in fleet.all():
        sites.setdefault(known.row.site, []).append(known.row.id)
    found: list[Condition] = [false()]
    for site, machines in sites.items() if begin < end else ():
        spans = cut(begin, end, parts, settings.core(site)).of(label)
        found.append(and_(Build.machine_id.in_(machines), Build.id.in_(ended_within(spans))))
    return or_(*found)


def _label(part: TimePart, value: int | str) -> str:
    return f"{value:02}" if part is TimePart.HOUR else str(value)
