"""Invites: made and taken back by who manages people, followed by whoever has the link."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Header, Request, Response
from sqlalchemy import select

from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.service.access import inviting
from chronarch.service.access.inviting import invite_view, still_open
from chronarch.service.access.oneself import me_of
from chronarch.service.access.sign_in import TheSignInGuard, open_session
from chronarch.service.access.visiting import device_of, let_stay
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire import access as w
from chronarch.wire.common import RequestDone

router = APIRouter(tags=["people"], route_class=RetryingRoute)
Token = Annotated[str, Header(alias="X-Invite", max_length=200, description="What the link has after the #.")]


@router.get("/invites")
async def invites(context: Context) -> list[w.Invite]:
    """The invites that still let somebody in, the newest first."""
    query = select(t.Invite).where(*still_open(context)).order_by(t.Invite.id.desc())
    async with context.sessions() as db:
        return [invite_view(row) for row in (await db.execute(query)).scalars()]


@router.post("/invites", status_code=201)
async def invite(asked: w.NewInvite, who: Caller, context: Context) -> w.CreatedInvite:
    """Invite somebody, or have somebody who is here choose a new password. The link is in this answer and nowhere
    else."""
    return await inviting.invite(context, who, asked)


@router.delete("/invites/{number:record}")
async def take_back(number: Number, context: Context) -> RequestDone:
    """Take an invite back: its link opens nothing from now on."""
    async with context.sessions() as db:
        row = await db.get(t.Invite, number)
        if row is None or row.taken_at is not None:
            raise ApiProblem(404, f"There is no open invite {number}; `chronarch people invites` shows them.")
        await db.delete(row)
        await db.commit()
    return RequestDone(text=f"The invite for {row.name} is taken back.")


@router.get("/invited")
async def invited(token: Token, context: Context, guard: TheSignInGuard, request: Request) -> w.Invited:
    """What an invite says, to whoever has its link."""
    address = device_of(request).address
    guard.begin("an invite", address, familiar=True)
    found = await inviting.shown_to(context, token)
    guard.succeeded("an invite", address, familiar=True)
    return found


@router.post("/invited", status_code=201)
async def join(
    asked: w.JoinShop, context: Context, guard: TheSignInGuard, request: Request, response: Response
) -> w.Me:
    """Follow an invite: become a person of the shop, or get a new password, and be signed in."""
    device = device_of(request)
    guard.begin("an invite", device.address, familiar=True)
    login = await inviting.take(context, asked)
    guard.succeeded("an invite", device.address, familiar=True)
    async with context.sessions() as db:
        person = await inviting.find_person(db, login)
    token = await open_session(context, person, device, second=False)
    let_stay(response, context, token, device.trusted)
    return await me_of(context, token)
