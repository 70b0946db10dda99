"""People: what they hold, what is kept of them, and their leaving."""

from __future__ import annotations

import json
import logging
from collections import defaultdict
from collections.abc import AsyncIterator, Sequence
from typing import Annotated, Any
from urllib.parse import quote

from fastapi import APIRouter, Path, Response
from fastapi.responses import StreamingResponse
from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import undefer

from chronarch.core.access.rights import Right
from chronarch.records import tables as t
from chronarch.records.access.holding import rights_by_role
from chronarch.records.database import Sessions
from chronarch.records.system.leaving import LEFT, all_of, leave
from chronarch.service.access.giving import check_roles, check_somebody_manages, find_teams, role_view, roles_of
from chronarch.service.access.inviting import all_roles, find_person
from chronarch.service.access.registering import hold, join_teams
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire import access as w
from chronarch.wire.common import RequestDone, fill

router = APIRouter(tags=["people"], route_class=RetryingRoute)
log = logging.getLogger("chronarch.access")
Login = Annotated[str, Path(max_length=120)]
JPEG: dict[int | str, dict[str, Any]] = {200: {"content": {"image/jpeg": {}}}}


@router.get("/people")
async def people(context: Context) -> list[w.PersonShown]:
    """Everybody who can sign in, and what they may do."""
    async with context.sessions() as db:
        rows = (await db.execute(select(t.Person).order_by(t.Person.name))).scalars().all()
        return await _views(db, rows)


async def _views(db: AsyncSession, rows: Sequence[t.Person]) -> list[w.PersonShown]:
    rights = await rights_by_role(db)
    teams = {row.id: row.name for row in (await db.execute(select(t.Team).order_by(t.Team.name))).scalars()}
    own, of_teams = defaultdict[int, list[w.HeldRole]](list), defaultdict[int, list[w.HeldRole]](list)
    for held in (await db.execute(select(t.RoleHeld).order_by(t.RoleHeld.id))).scalars():
        if held.person_id is not None:
            own[held.person_id].append(role_view(held))
        elif held.team_id is not None:
            of_teams[held.team_id].append(role_view(held))
    memberships = defaultdict[int, list[int]](list)
    for member in (await db.execute(select(t.TeamMember))).scalars():
        memberships[member.person_id].append(member.team_id)

    def may(person: int) -> list[Right]:
        held = [*own[person], *(role for team in memberships[person] for role in of_teams[team])]
        had = {right for role in held for right in rights.get(role.role, ())}
        return [right for right in Right if right in had]

    return [
        fill(
            w.PersonShown, row, roles=own[row.id], rights=may(row.id),
            teams=[name for number, name in teams.items() if number in memberships[row.id]],
        )
        for row in rows
    ]  # fmt: skip


@router.put("/people/{login}/roles")
async def set_roles(login: Login, asked: w.PersonRoles, who: Caller, context: Context) -> w.PersonShown:
    """Say which roles a person holds and which teams they are in; what is not named they lose. Nobody gives or takes
    what they do not have themselves."""
    async with context.sessions() as db:
        person = await find_person(db, login)
        teams = await find_teams(db, asked.teams)
        of_teams = [role for team in teams for role in await roles_of(db, team)]
        await check_roles(db, who, [*asked.roles, *of_teams], await all_roles(db, person))
        await hold(db, person, [(role.role, role.at) for role in asked.roles])
        await join_teams(db, person, teams)
        await check_somebody_manages(db)
        await db.commit()
        return (await _views(db, [person]))[0]


@router.get("/people/{login}/picture", response_class=Response, responses=JPEG)
async def picture(login: Login, context: Context) -> Response:
    """A person's picture, a small square JPEG."""
    query = select(t.Person).where(t.Person.login == login).options(undefer(t.Person.picture))
    async with context.sessions() as db:
        row = (await db.execute(query)).scalar_one_or_none()
    if row is None or row.picture is None:
        raise ApiProblem(404, f"There is no picture of {login!r}.")
    return Response(row.picture, media_type="image/jpeg", headers={"Cache-Control": "private, max-age=86400"})


@router.get("/people/{login}/sessions")
async def sessions(login: Login, context: Context) -> list[w.SessionShown]:
    """Where a person is signed in."""
    async with context.sessions() as db:
        person = await find_person(db, login)
        theirs = select(t.Session).where(t.Session.person_id == person.id)
        theirs = theirs.where(t.Session.expires_at > context.clock.real_now())
        rows = (await db.execute(theirs.order_by(t.Session.last_at.desc(), t.Session.id))).scalars()
        return [fill(w.SessionShown, row) for row in rows]


@router.delete("/people/{login}/sessions")
async def end_sessions(login: Login, who: Caller, context: Context) -> RequestDone:
    """Sign a person out everywhere."""
    async with context.sessions() as db:
        person = await find_person(db, login)
        await check_roles(db, who, await all_roles(db, person))
        await db.execute(delete(t.Session).where(t.Session.person_id == person.id))
        await db.commit()
    return RequestDone(text=f"{person.name} is signed out everywhere.")


@router.get(
    "/people/{login}/export",
    response_class=StreamingResponse,
    responses={200: {"content": {"application/jsonl": {}}}},
)
async def all_of_person(login: Login, context: Context) -> StreamingResponse:
    """All that is kept of a person, as JSON Lines: what is their own, and all that they signed, each with its table.
    Secrets and pictures are left out."""
    async with context.sessions() as db:
        person = await find_person(db, login)
    said = {"Content-Disposition": "attachment; filename*=UTF-8''" + quote(f"{person.login}.jsonl", safe="")}
    return StreamingResponse(lines_of(context.sessions, person), media_type="application/jsonl", headers=said)


async def lines_of(sessions: Sessions, person: t.Person) -> AsyncIterator[bytes]:
    async for table, row in all_of(sessions, person):
        yield json.dumps({"table": table, **row}, ensure_ascii=False, default=str).encode() + b"\n"


@router.delete("/people/{login}")
async def remove_person(login: Login, who: Caller, context: Context, fleet: TheFleet) -> RequestDone:
    """Remove a person. What is their own goes; what they did stays, signed by somebody who left."""
    async with context.sessions() as db:
        person = await find_person(db, login)
        await check_roles(db, who, [], await all_roles(db, person))
        await check_somebody_manages(db, but=person)
        name = person.name
        await leave(db, person)
        await db.commit()
        await fleet.load(db)
    log.info("%s removed %s", who.signature if who.person != person.id else "somebody", f"person {person.id}")
    return RequestDone(text=f"{name} is removed; what they did is signed by {LEFT}.")
