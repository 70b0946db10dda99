"""What the shop has decided: how it plans, and when hands are there."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime, timedelta, tzinfo
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.planning.shifts import ALWAYS, ShiftPattern, Staffing
from chronarch.records import tables as t
from chronarch.wire.planning.settings import Planning, PlanningUpdate, SiteHours

PLANNING = "planning"


@dataclass
class PlanningSettings:
    """What the shop has decided: how it plans, and hours by site (`""`: its own)."""

    planning: Planning = field(default_factory=Planning)
    hours: dict[str, SiteHours] = field(default_factory=dict)

    def zone(self, site: str = "") -> tzinfo:
        hours = self.hours.get(site) or self.hours.get("")
        return ZoneInfo(hours.zone if hours else "UTC")

    def core(self, site: str) -> ShiftPattern:
        """The hours of a site. If nobody said when, somebody is always there."""
        found = self.hours.get(site) or self.hours.get("")
        return found.core() if found else ALWAYS

    def is_staffed(self, at: datetime, site: str = "") -> bool:
        """Whether somebody is at a site."""
        return self.staffing(at - timedelta(days=1), at + timedelta(minutes=1), site).span_at(at) is not None

    def staffing(self, begin: datetime, end: datetime, site: str = "") -> Staffing:
        return Staffing(self.core(site).spans(begin, end))


async def change_planning(db: AsyncSession, change: PlanningUpdate) -> None:
    """Change how the shop plans, within the transaction."""
    row = await db.get(t.Setting, PLANNING, with_for_update=True) or t.Setting(name=PLANNING, value={})
    row.value = {**row.value, **change.model_dump(mode="json", exclude_none=True)}
    db.add(row)


async def keep_hours(db: AsyncSession, hours: SiteHours) -> None:
    """Keep when somebody is at a site, within the transaction."""
    await db.merge(t.Site(name=hours.site, hours=hours.model_dump(mode="json")))


async def load_settings(db: AsyncSession) -> PlanningSettings:
    row = await db.get(t.Setting, PLANNING)
    sites = (await db.execute(select(t.Site))).scalars()
    hours = {s.name: SiteHours.model_validate(s.hours) for s in sites}
    return PlanningSettings(Planning.model_validate(row.value) if row else Planning(), hours)
