"""Rights, roles and teams."""

from __future__ import annotations

from collections import Counter, defaultdict
from typing import Annotated

from fastapi import APIRouter, Path
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import GIVEN_ROLES, RIGHTS, WHOLE_SHOP, Right
from chronarch.core.errors import BadName
from chronarch.core.library.names import check_name
from chronarch.records import tables as t
from chronarch.records.access.holding import read_rights, rights_by_role
from chronarch.service.access.giving import check_rights, check_roles, check_somebody_manages, role_view, roles_of
from chronarch.service.access.registering import hold
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire import access as w
from chronarch.wire.common import RequestDone

router = APIRouter(tags=["people"], route_class=RetryingRoute)
MOST_MADE = 100
"""How many roles, and how many teams, a shop may make."""
RoleNamed = Annotated[str, Path(max_length=40)]
TeamNamed = Annotated[str, Path(max_length=60)]


@router.get("/rights")
async def rights() -> list[w.RightShown]:
    """All that somebody may be let do."""
    return [w.RightShown(right=right, reach=m.reach, words=m.words, text=m.text) for right, m in RIGHTS.items()]


# Roles ----------------------------------------------------------------------------------------------------------------


@router.get("/roles")
async def roles(context: Context) -> list[w.RoleShown]:
    """The roles that are given, and those that the shop has made."""
    async with context.sessions() as db:
        held = Counter((await db.execute(select(t.RoleHeld.role))).scalars())
        known = await rights_by_role(db)
    names = [*GIVEN_ROLES, *sorted(set(known) - set(GIVEN_ROLES))]
    return [_view(name, known[name], held[name]) for name in names]


def _view(name: str, had: frozenset[Right], held_by: int) -> w.RoleShown:
    return w.RoleShown(name=name, rights=[r for r in Right if r in had], given=name in GIVEN_ROLES, held_by=held_by)


@router.put("/roles/{name}")
async def set_role(name: RoleNamed, asked: w.RoleRights, who: Caller, context: Context) -> w.RoleShown:
    """Make a role, or say anew what it lets one do."""
    name = _checked(name)
    if name in GIVEN_ROLES:
        raise ApiProblem(409, f"Every shop has {name!r} as it is; make another role.")
    async with context.sessions() as db:
        row = await db.get(t.Role, name, with_for_update=True)
        check_rights(who, {*asked.rights} ^ {*(read_rights(row.rights) if row else ())}, WHOLE_SHOP)
        if row is None:
            await _check_room(db, t.Role)
            row = t.Role(name=name, made_by=who.signature)
            db.add(row)
        row.rights = list(asked.rights)
        await check_somebody_manages(db)
        held = await _held_by(db, name)
        await db.commit()
    return _view(name, frozenset(asked.rights), held)


@router.delete("/roles/{name}")
async def remove_role(name: RoleNamed, who: Caller, context: Context) -> RequestDone:
    """Remove a role that nobody holds."""
    async with context.sessions() as db:
        row = await db.get(t.Role, name, with_for_update=True)
        if row is None:
            given = f"Every shop has {name!r}." if name in GIVEN_ROLES else f"There is no role {name!r}."
            raise ApiProblem(404, f"{given} `chronarch roles list` shows those that the shop has made.")
        check_rights(who, read_rights(row.rights), WHOLE_SHOP)
        if held := await _held_by(db, name):
            raise ApiProblem(409, f"People or teams that hold {name!r}: {held}. Take it from them first.")
        await db.delete(row)
        await db.commit()
    return RequestDone(text=f"The role {name} is removed.")


async def _held_by(db: AsyncSession, name: str) -> int:
    query = select(func.count()).select_from(t.RoleHeld).where(t.RoleHeld.role == name)
    return (await db.execute(query)).scalar_one()


async def _check_room(db: AsyncSession, kind: type[t.Role] | type[t.Team]) -> None:
    if (await db.execute(select(func.count()).select_from(kind))).scalar_one() >= MOST_MADE:
        raise ApiProblem(409, f"There are {MOST_MADE} already; remove one first.")


def _checked(name: str) -> str:
    try:
        return check_name(name)
    except BadName as error:
        raise ApiProblem(422, str(error)) from None


# Teams ----------------------------------------------------------------------------------------------------------------


@router.get("/teams")
async def teams(context: Context) -> list[w.TeamShown]:
    """The teams: what they hold, and who is in them."""
    async with context.sessions() as db:
        rows = (await db.execute(select(t.Team).order_by(t.Team.name))).scalars().all()
        held, members = defaultdict[int, list[w.HeldRole]](list), defaultdict[int, list[str]](list)
        wanted = select(t.RoleHeld).where(t.RoleHeld.team_id.is_not(None)).order_by(t.RoleHeld.id)
        for one in (await db.execute(wanted)).scalars():
            held[one.team_id or 0].append(role_view(one))
        joined = select(t.TeamMember.team_id, t.Person.login).join(t.Person, t.Person.id == t.TeamMember.person_id)
        for team, login in await db.execute(joined.order_by(t.Person.name)):
            members[team].append(login)
    return [w.TeamShown(name=row.name, roles=held[row.id], members=members[row.id]) for row in rows]


@router.put("/teams/{name}")
async def set_team(name: TeamNamed, asked: w.TeamSet, who: Caller, context: Context) -> w.TeamShown:
    """Make a team, or say anew what it holds and who is in it."""
    name = _checked(name)
    async with context.sessions() as db:
        row = (await db.execute(select(t.Team).where(t.Team.name == name).with_for_update())).scalar_one_or_none()
        before = await roles_of(db, row) if row else []
        await check_roles(db, who, [*asked.roles, *before])  # whoever joins or goes gets or loses all of it
        found = (await db.execute(select(t.Person).where(t.Person.login.in_(asked.members)))).scalars().all()
        if missing := {*asked.members} - {person.login for person in found}:
            raise ApiProblem(404, f"There is nobody who signs in as {sorted(missing)[0]!r}.")
        if row is None:
            await _check_room(db, t.Team)
            row = t.Team(name=name)
            db.add(row)
        await hold(db, row, [(role.role, role.at) for role in asked.roles])
        for member in (await db.execute(select(t.TeamMember).where(t.TeamMember.team_id == row.id))).scalars():
            await db.delete(member)
        await db.flush()
        db.add_all([t.TeamMember(team_id=row.id, person_id=person.id) for person in found])
        await check_somebody_manages(db)
        shown = await roles_of(db, row)
        await db.commit()
    return w.TeamShown(name=name, roles=shown, members=[p.login for p in sorted(found, key=lambda p: p.name)])


@router.delete("/teams/{name}")
async def remove_team(name: TeamNamed, who: Caller, context: Context) -> RequestDone:
    """Remove a team: those in it lose what it holds."""
    async with context.sessions() as db:
        row = (await db.execute(select(t.Team).where(t.Team.name == name).with_for_update())).scalar_one_or_none()
        if row is None:
            raise ApiProblem(404, f"There is no team {name!r}; `chronarch teams list` shows all.")
        await check_roles(db, who, [], await roles_of(db, row))
        for kind, column in ((t.TeamMember, t.TeamMember.team_id), (t.RoleHeld, t.RoleHeld.team_id)):
            for one in (await db.execute(select(kind).where(column == row.id))).scalars():
                await db.delete(one)
        await db.delete(row)
        await check_somebody_manages(db)
        await db.commit()
    return RequestDone(text=f"The team {name} is removed.")
