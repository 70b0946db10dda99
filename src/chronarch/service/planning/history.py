"""What the forecast learns from the newest builds of the shop."""

from __future__ import annotations

from datetime import datetime, timedelta
from math import exp, log
from typing import TYPE_CHECKING

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import Outcome
from chronarch.core.planning.forecast import ShopHistory
from chronarch.records import tables as t
from chronarch.service.planning.settings import PlanningSettings

if TYPE_CHECKING:
    pass


LEARN_FROM = 400


async def learn(db: AsyncSession, settings: PlanningSettings, now: datetime) -> ShopHistory:
    """How the newest builds kept to the pace of their model, how long beds waited while somebody was there, and how
    many were scrap."""
    rows = (
        await db.execute(
            select(t.Build, t.Machine.site, t.Model.name)
            .join(t.Machine, t.Machine.id == t.Build.machine_id)
            .join(t.Model, t.Model.id == t.Machine.model_id)
            .where(t.Build.cleared_at.is_not(None), t.Build.ended_at.is_not(None))
            .order_by(t.Build.id.desc())
            .limit(LEARN_FROM)
        )
    ).all()
    if not rows:
        return ShopHistory()
    oldest = min(b.claimed_at for b, _, _ in rows)
    ids = [b.id for b, _, _ in rows]
    spans: dict[int, dict[str, list[tuple[datetime, datetime]]]] = {}
    for l in (await db.execute(select(t.Ledger).where(t.Ledger.build_id.in_(ids)))).scalars():  # noqa: E741
        spans.setdefault(l.build_id or 0, {}).setdefault(l.state, []).append((l.begin_at, min(l.end_at, now)))
    ratios: dict[str, list[float]] = {}
    delays: list[float] = []
    staffing = {site: settings.staffing(oldest, now, site) for site in {s for _, s, _ in rows}}
    for b, site, model in rows:
        own = spans.get(b.id, {})
        worked = sum((y - x) / timedelta(seconds=1) for s in ("warming", "building") for x, y in own.get(s, []))
        if b.outcome == Outcome.COMPLETED and b.planned_s > 0 and worked > 0:
            ratios.setdefault(model, []).append(worked / b.planned_s)
        for x, _ in own.get("uncleared", [])[:1]:
            if not b.let_go and b.cleared_at is not None and b.cleared_at > x:
                delays.append(max(30.0, staffing[site].between(x, b.cleared_at) / timedelta(seconds=1)))
    paces = {model: _spread(values[:100]) for model, values in ratios.items()}
    judged = [b for b, _, _ in rows if b.verdict]
    scrap = sum(b.verdict == "scrap" for b in judged) / len(judged) if len(judged) >= 20 else 0.04
    return ShopHistory(paces, delays, scrap)


def _spread(ratios: list[float]) -> list[float]:
    """Ratios relative to their own median, which the times of the plan contain already."""
    middle = exp(sorted(map(log, ratios))[len(ratios) // 2])
    return [r / middle for r in ratios]
