"""Rounds, the links that show them to helpers, and what happened while somebody was away."""

from __future__ import annotations

import secrets
from datetime import datetime, timedelta
from typing import Annotated

from fastapi import APIRouter, Header
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number, Word
from chronarch.core.states import MachineState, Outcome
from chronarch.records import queries
from chronarch.records import tables as t
from chronarch.service.access import Operator, Reader, Who, hash_secret
from chronarch.service.again import AgainRoute
from chronarch.service.problems import Refused
from chronarch.service.rounds import rounds
from chronarch.service.routes.builds import judge
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import plan as w
from chronarch.wire import shop as ws
from chronarch.wire.common import GivenTime
from chronarch.wire.people import Scope
from chronarch.wire.work import Build, Clearing

router = APIRouter(tags=["rounds"], route_class=AgainRoute)
AWAY = timedelta(hours=2)
"""Who was not seen for so long has left."""
HelperToken = Annotated[Word, Header(alias="X-Helper-Link")]


@router.get("/rounds")
async def all_rounds(who: Reader, shop: TheShop, site: Word | None = None) -> w.Rounds:
    """What hands must do, what costs most first; of one site when it is named."""
    async with shop.sessions() as db:
        return await rounds(shop, db, site)


# Helpers -----------------------------------------------------------------------------------------------------------


def _helper(row: t.HelperLink, shop: Shop) -> ws.Helper:
    return ws.Helper(
        id=row.id, name=row.name, site=row.site, created_by=row.created_by, expires_at=row.expires_at,
        revoked=row.revoked, expired=row.expires_at <= shop.clock.real_now(),
    )  # fmt: skip


@router.get("/helpers")
async def helpers(who: Operator, shop: TheShop) -> list[ws.Helper]:
    """The links that were handed on, newest first."""
    async with shop.sessions() as db:
        rows = (await db.execute(select(t.HelperLink).order_by(t.HelperLink.id.desc()).limit(100))).scalars()
        return [_helper(row, shop) for row in rows]


@router.post("/helpers", status_code=201)
async def make_helper(order: ws.HelperOrder, who: Operator, shop: TheShop) -> ws.NewHelper:
    """Make an address that shows the rounds of one site without an account, until it expires or is revoked."""
    token = secrets.token_urlsafe(24)
    now = shop.clock.real_now()
    async with shop.sessions() as db:
        row = t.HelperLink(
            name=order.name, site=order.site, token_hash=hash_secret(token), created_by=who.signature, created_at=now,
            expires_at=now + timedelta(hours=order.hours),
        )  # fmt: skip
        db.add(row)
        await db.commit()
    return ws.NewHelper(**_helper(row, shop).model_dump(), address=f"/help#{token}")


@router.delete("/helpers/{number:record}")
async def revoke_helper(number: Number, who: Operator, shop: TheShop) -> ws.Helper:
    """Make a link worthless from now on."""
    async with shop.sessions() as db:
        row = await db.get(t.HelperLink, number)
        if row is None:
            raise Refused(404, f"There is no helper's link {number}.")
        row.revoked = True
        await db.commit()
        return _helper(row, shop)


async def _let_in(shop: Shop, db: AsyncSession, token: str) -> t.HelperLink:
    query = select(t.HelperLink).where(t.HelperLink.token_hash == hash_secret(token))
    row = (await db.execute(query)).scalar_one_or_none()
    if row is None or row.revoked:
        raise Refused(401, "This link is not known or was revoked; ask for a new one.")
    if row.expires_at <= shop.clock.real_now():
        raise Refused(401, "This link has expired; ask for a new one.")
    return row


@router.get("/help/rounds")
async def helper_rounds(token: HelperToken, shop: TheShop) -> w.Rounds:
    """The rounds of a helper's site, and nothing else."""
    async with shop.sessions() as db:
        row = await _let_in(shop, db, token)
        return await rounds(shop, db, row.site, row.name)


@router.post("/help/builds/{number:record}/verdict")
async def helper_verdict(number: Number, order: Clearing, token: HelperToken, shop: TheShop) -> Build:
    """A helper has lifted a part off, and says what came of it."""
    async with shop.sessions() as db:
        row = await _let_in(shop, db, token)
        build = (await db.execute(queries.select_builds().where(t.Build.id == number))).first()
        if build is None or shop.fleet.find(build[1]).row.site != row.site:
            raise Refused(404, f"There is no build {number} at this site.")
    return await judge(shop, number, order, Who(row.name, Scope.OPERATE, helper=row.id))


# Since you left ----------------------------------------------------------------------------------------------------


async def _person(db: AsyncSession, who: Who) -> t.Person | None:
    return await db.get(t.Person, who.person) if who.person else None


@router.post("/me/here")
async def here(who: Reader, shop: TheShop) -> w.SinceYouLeft:
    """Somebody looks: remembers it, and tells what happened since they were last seen before being away."""
    now = shop.clock.now()
    async with shop.sessions() as db:
        person = await _person(db, who)
        if person is None:
            return await since(shop, db, None)
        if person.here_at is not None and now - person.here_at >= AWAY:
            person.left_at = person.here_at
        person.here_at = now
        left = person.left_at
        await db.commit()
        return await since(shop, db, left)


@router.post("/me/caught-up")
async def caught_up(who: Reader, shop: TheShop) -> w.SinceYouLeft:
    """What happened while away has been read."""
    async with shop.sessions() as db:
        person = await _person(db, who)
        if person is not None:
            person.left_at, person.here_at = None, shop.clock.now()
            await db.commit()
        return await since(shop, db, None)


@router.get("/since")
async def since_when(who: Reader, shop: TheShop, begin: GivenTime) -> w.SinceYouLeft:
    """What happened since a time: what ended, failed, waits, was paused, and why."""
    async with shop.sessions() as db:
        return await since(shop, db, begin)


KINDS = {Outcome.COMPLETED: "ended", Outcome.STOPPED: "stopped", Outcome.FAILED: "failed"}


async def since(shop: Shop, db: AsyncSession, left: datetime | None) -> w.SinceYouLeft:
    now = shop.clock.now()
    if left is None:
        return w.SinceYouLeft(left=None, now=now, items=[], ended=0, failed=0, waits=0, good_hours=0.0)
    items: list[w.SinceItem] = []
    query = queries.select_builds().where(t.Build.ended_at >= left).limit(400)
    for b, machine, file in await db.execute(query):
        kind = KINDS[Outcome(b.outcome)]
        why = f": {b.reason}" if b.reason and kind != "ended" else ""
        waits = " and waits to be lifted off" if b.cleared_at is None else ""
        items.append(
            w.SinceItem(at=b.ended_at, machine=machine, kind=kind, text=f"{file} {kind}{why}{waits}", build=b.id)
        )
    words = {MachineState.PAUSED: "paused", MachineState.DOWN: "down"}
    rows = await db.execute(
        select(t.Ledger, t.Machine.name, t.Machine.reason)
        .join(t.Machine, t.Machine.id == t.Ledger.machine_id)
        .where(t.Ledger.begin_at >= left, t.Ledger.begin_at <= now, t.Ledger.state.in_(list(words)))
        .limit(200)
    )
    hours = 0.0
    for l, machine, reason in rows:  # noqa: E741
        lasts = l.end_at > now
        kind = words[MachineState(l.state)]
        why = f": {reason}" if lasts and reason else ""
        text = f"{'is' if lasts else 'was'} {kind}{why}" + (
            "" if lasts else f", for {max(1, round((l.end_at - l.begin_at).total_seconds() / 60))} min"
        )
        items.append(w.SinceItem(at=l.begin_at, machine=machine, kind=kind, text=text, build=l.build_id))
    for row in await queries.ledger_between(db, left, now):
        if row.state in (MachineState.WARMING, MachineState.BUILDING):
            hours += (min(row.end_at, now) - max(row.begin_at, left)).total_seconds() / 3600
    waits_now = sum(k.row.state == MachineState.UNCLEARED for k in shop.fleet.all())
    items.sort(key=lambda i: i.at, reverse=True)
    return w.SinceYouLeft(
        left=left, now=now, items=items[:200], ended=sum(i.kind == "ended" for i in items),
        failed=sum(i.kind == "failed" for i in items), waits=waits_now, good_hours=hours,
    )  # fmt: skip
