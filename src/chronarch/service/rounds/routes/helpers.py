"""Helpers' links."""

from __future__ import annotations

import secrets
from datetime import timedelta
from typing import Annotated

from fastapi import APIRouter, Header
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import NOTHING
from chronarch.core.bounds import Number, Word
from chronarch.records import tables as t
from chronarch.records.audit import acts_as
from chronarch.records.orders.builds import select_builds
from chronarch.service.background import TheBackground
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.orders.verdicts import judge
from chronarch.service.permissions import Caller
from chronarch.service.planning.planner import ThePlanner
from chronarch.service.principals import Principal, hash_secret
from chronarch.service.problems import ApiProblem
from chronarch.service.rounds.tasks import rounds
from chronarch.wire import rounds as w
from chronarch.wire.common import fill
from chronarch.wire.orders.builds import Build, Clearing

router = APIRouter(tags=["rounds"], route_class=RetryingRoute)

HelperToken = Annotated[Word, Header(alias="X-Helper-Link")]


# Helpers -----------------------------------------------------------------------------------------------------------


def _helper(row: t.HelperLink, context: ServiceContext) -> w.Helper:
    return fill(w.Helper, row, expired=row.expires_at <= context.clock.real_now())


@router.get("/helpers")
async def helpers(context: Context) -> list[w.Helper]:
    """The links that were handed out, newest first."""
    async with context.sessions() as db:
        rows = (await db.execute(select(t.HelperLink).order_by(t.HelperLink.id.desc()).limit(100))).scalars()
        return [_helper(row, context) for row in rows]


@router.post("/helpers", status_code=201)
async def make_helper(asked: w.NewHelper, who: Caller, context: Context) -> w.CreatedHelper:
    """Make an address that shows the rounds of one site without an account, until it expires or is revoked."""
    token = secrets.token_urlsafe(24)
    now = context.clock.real_now()
    async with context.sessions() as db:
        row = t.HelperLink(
            name=asked.name, site=asked.site, token_hash=hash_secret(token), created_by=who.signature, created_at=now,
            expires_at=now + timedelta(hours=asked.hours),
        )  # fmt: skip
        db.add(row)
        await db.commit()
    return w.CreatedHelper(**_helper(row, context).model_dump(), address=f"/help#{token}")


@router.delete("/helpers/{number:record}")
async def revoke_helper(number: Number, context: Context) -> w.Helper:
    """Revoke a link: it opens nothing from now on."""
    async with context.sessions() as db:
        row = await db.get(t.HelperLink, number)
        if row is None:
            raise ApiProblem(404, f"There is no helper's link {number}.")
        row.revoked = True
        await db.commit()
        return _helper(row, context)


async def _let_in(context: ServiceContext, db: AsyncSession, token: str) -> t.HelperLink:
    query = select(t.HelperLink).where(t.HelperLink.token_hash == hash_secret(token))
    row = (await db.execute(query)).scalar_one_or_none()
    if row is None or row.revoked:
        raise ApiProblem(401, "This link is not known or was revoked; ask for a new one.")
    if row.expires_at <= context.clock.real_now():
        raise ApiProblem(401, "This link has expired; ask for a new one.")
    acts_as(f"helper {row.id}")
    return row


@router.get("/help/rounds")
async def helper_rounds(
    token: HelperToken, context: Context, fleet: TheFleet, planner: ThePlanner, background: TheBackground
) -> w.Rounds:
    """The rounds of a helper's site, and nothing else."""
    async with context.sessions() as db:
        row = await _let_in(context, db, token)
    planned, now = await planner.shown(), context.clock.now()
    return await background.run(lambda db: rounds(now, fleet, planned, db, row.site, row.name))


@router.post("/help/builds/{number:record}/verdict")
async def helper_verdict(
    number: Number, asked: Clearing, token: HelperToken, context: Context, fleet: TheFleet
) -> Build:
    """A helper has lifted a part off and says how it is."""
    async with context.sessions() as db:
        row = await _let_in(context, db, token)
        build = (await db.execute(select_builds().where(t.Build.id == number))).first()
        if build is None or fleet.find(build[1]).row.site != row.site:
            raise ApiProblem(404, f"There is no build {number} at this site.")
    return await judge(context, fleet, number, asked, Principal(row.name, NOTHING, helper=row.id))
