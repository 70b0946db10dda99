"""Sign-in, people and keys."""

from __future__ import annotations

import json
import logging
from collections.abc import AsyncIterator
from typing import Annotated
from urllib.parse import quote

from fastapi import APIRouter, Path, Request, Response
from fastapi.responses import StreamingResponse
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.records.database import Sessions
from chronarch.records.system.leaving import LEFT, all_of, leave
from chronarch.service.access import sign_in as access
from chronarch.service.access.first_run import TheFirstRun
from chronarch.service.access.sign_in import TheSignInGuard
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.principals import COOKIE, hash_secret, new_secret
from chronarch.service.problems import ApiProblem
from chronarch.wire import access as w
from chronarch.wire.common import RequestDone, fill

router = APIRouter(tags=["people"], route_class=RetryingRoute)
routers = (router,)
log = logging.getLogger("chronarch.access")
Login = Annotated[str, Path(max_length=120)]


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


@router.get("/first-person")
async def first_standing(first: TheFirstRun) -> w.FirstStanding:
    """Whether the shop waits for its first person."""
    return w.FirstStanding(open=await first.is_open())


@router.post("/first-person", status_code=201)
async def first_person(
    asked: w.FirstPerson,
    context: Context,
    guard: TheSignInGuard,
    first: TheFirstRun,
    request: Request,
    response: Response,
) -> w.Me:
    """Let the first person in, who then maintains the shop, and open their session."""
    await first.enter(asked, request.client.host if request.client else "")
    signing = w.SignIn(login=asked.login, password=asked.password)
    return await sign_in(signing, context, guard, request, response)


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


@router.get("/people")
async def people(context: Context) -> list[w.PersonShown]:
    """Everybody who can sign in."""
    async with context.sessions() as db:
        rows = (await db.execute(select(t.Person).order_by(t.Person.name))).scalars()
        return [fill(w.PersonShown, row) for row in rows]


@router.get(
    "/people/{login}/export",
    response_class=StreamingResponse,
    responses={200: {"content": {"application/jsonl": {}}}},
)
async def all_of_person(login: Login, context: Context) -> StreamingResponse:
    """All that is kept of a person, as JSON Lines: what is their own, and all that they signed, each with its table.
    Secrets and pictures are left out."""
    async with context.sessions() as db:
        person = await _person(db, login)
    said = {"Content-Disposition": "attachment; filename*=UTF-8''" + quote(f"{person.login}.jsonl", safe="")}
    return StreamingResponse(lines_of(context.sessions, person), media_type="application/jsonl", headers=said)


@router.delete("/people/{login}")
async def remove_person(login: Login, who: Caller, context: Context, fleet: TheFleet) -> RequestDone:
    """Remove a person. What is their own goes; what they did stays, signed by somebody who left."""
    async with context.sessions() as db:
        person = await _person(db, login)
        others = select(t.Person.id).where(t.Person.scope == w.Scope.MAINTAIN, t.Person.id != person.id)
        if (await db.execute(others.limit(1))).first() is None:
            raise ApiProblem(409, f"{person.name} is the last who may maintain; let somebody else in first.")
        name = person.name
        await leave(db, person)
        await db.commit()
        await fleet.load(db)
    log.info("%s removed %s", who.signature if who.person != person.id else "somebody", f"person {person.id}")
    return RequestDone(text=f"{name} is removed; what they did is signed by {LEFT}.")


async def _person(db: AsyncSession, login: str) -> t.Person:
    """Raises ApiProblem (404)."""
    row = (await db.execute(select(t.Person).where(t.Person.login == login))).scalar_one_or_none()
    if row is None:
        raise ApiProblem(404, f"There is nobody who signs in as {login!r}; `chronarch people list` shows all.")
    return row


async def lines_of(sessions: Sessions, person: t.Person) -> AsyncIterator[bytes]:
    async for table, row in all_of(sessions, person):
        yield json.dumps({"table": table, **row}, ensure_ascii=False, default=str).encode() + b"\n"


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
