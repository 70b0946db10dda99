"""What one sees and sets of oneself."""

from __future__ import annotations

import asyncio
from zoneinfo import ZoneInfo

from fastapi import APIRouter, Request
from sqlalchemy import select

from chronarch.core.bounds import Number
from chronarch.core.errors import BadName
from chronarch.records import tables as t
from chronarch.service.access import oneself
from chronarch.service.access.portraits import portrait
from chronarch.service.access.registering import set_password
from chronarch.service.access.sign_in import TheSignInGuard
from chronarch.service.access.visiting import device_of
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.openapi import body
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.library.pictures import receive_picture
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire import access as w
from chronarch.wire.common import RequestDone, fill

router = APIRouter(tags=["people"], route_class=RetryingRoute)


@router.get("/me")
async def me(who: Caller, context: Context) -> w.Me:
    """Who is asking, what they may do, and the session's CSRF token."""
    return await oneself.me(context, who)


@router.patch("/me")
async def change_me(asked: w.MeChange, who: Caller, context: Context) -> w.Me:
    """Change one's mail address, time zone or theme."""
    if asked.zone:
        _check_zone(asked.zone)
    async with context.sessions() as db:
        row = await oneself.myself(db, who)
        for name, value in asked.model_dump(exclude_none=True).items():
            setattr(row, name, value)
        await db.commit()
    return await oneself.me(context, who)


def _check_zone(zone: str) -> None:
    try:
        ZoneInfo(zone)
    except (KeyError, OSError, ValueError):
        raise ApiProblem(422, f"There is no time zone {zone!r}; for example Europe/Berlin.") from None


@router.put("/me/picture", openapi_extra=body("image/jpeg", "image/png"))
async def set_picture(request: Request, who: Caller, context: Context, store: TheContentStore) -> w.Me:
    """Set one's picture, JPEG or PNG; its middle is kept, small."""
    received = await receive_picture(store, request)
    try:
        small = await asyncio.to_thread(portrait, received.path)
    finally:
        received.path.unlink(missing_ok=True)
    async with context.sessions() as db:
        row = await oneself.myself(db, who)
        row.picture, row.pictured_at = small, context.clock.real_now()
        await db.commit()
    return await oneself.me(context, who)


@router.delete("/me/picture")
async def remove_picture(who: Caller, context: Context) -> w.Me:
    """Take one's picture away."""
    async with context.sessions() as db:
        row = await oneself.myself(db, who)
        row.picture, row.pictured_at = None, None
        await db.commit()
    return await oneself.me(context, who)


@router.post("/me/password")
async def change_password(
    asked: w.NewPassword, who: Caller, context: Context, guard: TheSignInGuard, request: Request
) -> RequestDone:
    """Choose another password, and end one's other sessions."""
    async with context.sessions() as db:
        stored = (await oneself.myself(db, who)).password_hash
    address = device_of(request).address
    guard.begin(str(who.person), address, familiar=True)
    if not await guard.verify(stored, asked.old):
        raise ApiProblem(403, "That is not the password you have now.")
    guard.succeeded(str(who.person), address, familiar=True)
    async with context.sessions() as db:
        try:
            await set_password(db, await oneself.myself(db, who), asked.new, but=who.session)
        except BadName as error:
            raise ApiProblem(422, str(error)) from None
        await db.commit()
    return RequestDone(text="The password is changed, and your other sessions are ended.")


@router.get("/me/sessions")
async def sessions(who: Caller, context: Context) -> list[w.SessionShown]:
    """Where one is signed in; the last used first."""
    async with context.sessions() as db:
        now = context.clock.real_now()
        mine = select(t.Session).where(t.Session.person_id == who.person, t.Session.expires_at > now)
        rows = (await db.execute(mine.order_by(t.Session.last_at.desc(), t.Session.id))).scalars()
        return [fill(w.SessionShown, row, this=row.token_hash == who.session) for row in rows]


@router.delete("/me/sessions")
async def end_others(who: Caller, context: Context) -> RequestDone:
    """End all of one's sessions but this one."""
    async with context.sessions() as db:
        mine = select(t.Session).where(t.Session.person_id == who.person, t.Session.token_hash != who.session)
        rows = (await db.execute(mine)).scalars().all()
        for row in rows:
            await db.delete(row)
        await db.commit()
    return RequestDone(text=f"Sessions ended: {len(rows)}.")


@router.delete("/me/sessions/{number:record}")
async def end_session(number: Number, who: Caller, context: Context) -> RequestDone:
    """End one of one's sessions."""
    async with context.sessions() as db:
        row = await db.get(t.Session, number)
        if row is None or row.person_id != who.person:
            raise ApiProblem(404, f"You have no session {number}; it may have ended already.")
        await db.delete(row)
        await db.commit()
    return RequestDone(text=f"The session on {row.device or 'a device'} is ended.")
