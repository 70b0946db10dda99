"""How the shop plans, and when hands are there."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated

from fastapi import APIRouter, Query

from chronarch.core.planning.snapshot import MEANING
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.planning import settings
from chronarch.service.planning.settings import load_settings
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import GivenTime
from chronarch.wire.planning.settings import Planning, PlanningUpdate, SiteHours, StaffedSpan, StrategyMeaning

router = APIRouter(tags=["setup"], route_class=RetryingRoute)
LONGEST = timedelta(days=120)


@router.get("/planning")
async def planning(context: Context) -> Planning:
    """How the shop plans."""
    async with context.sessions() as db:
        return (await load_settings(db)).planning


@router.patch("/planning")
async def change_planning(change: PlanningUpdate, context: Context) -> Planning:
    """Choose the strategy, and say how long work by hand takes and which reasons there are for scrap."""
    async with context.sessions() as db:
        await settings.change_planning(db, change)
        await db.commit()
        return (await load_settings(db)).planning


@router.get("/planning/strategies")
async def strategies() -> list[StrategyMeaning]:
    """The ways to choose the next build."""
    return [StrategyMeaning(strategy=s, meaning=meaning) for s, meaning in MEANING.items()]


@router.get("/hours")
async def hours(context: Context) -> list[SiteHours]:
    """When somebody is at each site. Empty if the shop has not said so: then somebody is always there."""
    async with context.sessions() as db:
        return list((await load_settings(db)).hours.values())


@router.put("/hours")
async def set_hours(asked: SiteHours, context: Context) -> SiteHours:
    """Say when somebody is at a site."""
    async with context.sessions() as db:
        await settings.keep_hours(db, asked)
        await db.commit()
    return asked


@router.get("/hours/staffed")
async def staffed(
    context: Context,
    begin: Annotated[GivenTime | None, Query()] = None,
    end: Annotated[GivenTime | None, Query()] = None,
) -> list[StaffedSpan]:
    """The spans in which somebody is there, by site. By default of the next seven days."""
    begin = begin or context.clock.now()
    end = end or begin + timedelta(days=7)
    if not timedelta(0) < end - begin <= LONGEST:
        raise ApiProblem(422, f"A span of more than nothing and at most {LONGEST.days} days may be asked for.")
    async with context.sessions() as db:
        known = await load_settings(db)
    sites = sorted({"", *known.hours})
    return [StaffedSpan(site=site, begin=a, end=b) for site in sites for a, b in known.core(site).spans(begin, end)]
