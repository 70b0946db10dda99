"""What happened while somebody was away."""

from __future__ import annotations

from datetime import timedelta

from fastapi import APIRouter
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.principals import Principal
from chronarch.service.rounds.since import since
from chronarch.wire import rounds as w
from chronarch.wire.common import GivenTime

router = APIRouter(tags=["rounds"], route_class=RetryingRoute)

AWAY = timedelta(hours=2)
"""Somebody who was not seen for this long has been away."""


# Since you left ----------------------------------------------------------------------------------------------------


async def _person(db: AsyncSession, who: Principal) -> t.Person | None:
    return await db.get(t.Person, who.person) if who.person else None


@router.post("/me/here")
async def here(who: Caller, context: Context, fleet: TheFleet) -> w.SinceYouLeft:
    """Somebody looks. Remembers it, and tells what happened since they were last seen before being away."""
    now = context.clock.now()
    async with context.sessions() as db:
        person = await _person(db, who)
        if person is None:
            return await since(context, fleet, db, None)
        if person.here_at is not None and now - person.here_at >= AWAY:
            person.left_at = person.here_at
        person.here_at = now
        left = person.left_at
        await db.commit()
        return await since(context, fleet, db, left)


@router.post("/me/caught-up")
async def caught_up(who: Caller, context: Context, fleet: TheFleet) -> w.SinceYouLeft:
    """The person has read what happened while they were away."""
    async with context.sessions() as db:
        person = await _person(db, who)
        if person is not None:
            person.left_at, person.here_at = None, context.clock.now()
            await db.commit()
        return await since(context, fleet, db, None)


@router.get("/since")
async def since_when(context: Context, fleet: TheFleet, begin: GivenTime) -> w.SinceYouLeft:
    """What happened since a time: what ended, failed, waits, was paused, and why."""
    async with context.sessions() as db:
        return await since(context, fleet, db, begin)
