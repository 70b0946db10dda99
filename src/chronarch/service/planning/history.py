"""What the forecast learns from the newest builds of the shop."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.learning import shop_history
from chronarch.core.planning.shop_history import ShopHistory
from chronarch.records.ledger.history import CLEARED, ended_builds
from chronarch.service.planning.settings import PlanningSettings

LEARN_FROM = 400


async def learn(db: AsyncSession, settings: PlanningSettings, now: datetime) -> ShopHistory:
    builds = await ended_builds(db, CLEARED, LEARN_FROM)
    oldest = min((b.ready_at for b in builds if b.ready_at is not None), default=now)
    return shop_history(builds, {site: settings.staffing(oldest, now, site) for site in {b.site for b in builds}})
