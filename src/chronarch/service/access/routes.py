"""Sign-in and keys."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from sqlalchemy import select

from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.service.access import sign_in as access
from chronarch.service.access.sign_in import TheSignInGuard
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.permissions import Caller
from chronarch.service.principals import COOKIE, hash_secret, new_secret
from chronarch.service.problems import ApiProblem
from chronarch.wire import access as w
from chronarch.wire.common import RequestDone, fill

router = APIRouter(tags=["people"], route_class=RetryingRoute)
routers = (router,)


@router.post("/sign-in")
async def sign_in(
    asked: w.SignIn, context: Context, guard: TheSignInGuard, request: Request, response: Response
) -> w.Me:
    """Open a session; its cookie comes with the answer."""
    place = request.client.host if request.client else ""
    token, me = await access.sign_in(context, guard, asked.login, asked.password, place)
    age = int(context.config.session_hours * 3600)
    response.set_cookie(COOKIE, token, max_age=age, httponly=True, samesite="strict")
    return me


@router.post("/sign-out")
async def sign_out(who: Caller, context: Context, request: Request, response: Response) -> RequestDone:
    """Close the session this request came with."""
    await access.sign_out(context, request.cookies.get(COOKIE, ""))
    response.delete_cookie(COOKIE)
    return RequestDone(text=f"{who.name} is signed out.")


@router.get("/me")
async def me(who: Caller) -> w.Me:
    """Who is asking, and the session's CSRF token."""
    return fill(w.Me, who)


def _key(row: t.Key) -> w.Key:
    return fill(w.Key, row, tender=row.tender or "")


@router.get("/keys")
async def keys(context: Context) -> list[w.Key]:
    async with context.sessions() as db:
        return [_key(row) for row in (await db.execute(select(t.Key).order_by(t.Key.id))).scalars()]


@router.post("/keys", status_code=201)
async def make_key(asked: w.NewKey, context: Context) -> w.CreatedKey:
    """Make a key. Its secret is in this answer and nowhere else."""
    secret = new_secret()
    async with context.sessions() as db:
        row = t.Key(
            name=asked.name, secret_hash=hash_secret(secret), scope=asked.scope, created_at=context.clock.real_now()
        )
        db.add(row)
        await db.commit()
        return w.CreatedKey(**_key(row).model_dump(), secret=secret)


@router.delete("/keys/{key:record}")
async def revoke_key(key: Number, context: Context) -> w.Key:
    """Revoke a key: it opens nothing from now on."""
    async with context.sessions() as db:
        row = await db.get(t.Key, key)
        if row is None:
            raise ApiProblem(404, f"There is no key {key}; `chronarch keys list` shows all.")
        row.revoked = True
        await db.commit()
        return _key(row)
