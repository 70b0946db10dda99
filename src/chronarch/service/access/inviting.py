"""Invites: a link by which somebody becomes a person of the shop, or gets a new password. It works once."""

from __future__ import annotations

import secrets
from datetime import timedelta

from sqlalchemy import ColumnElement, delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.errors import BadName
from chronarch.records import tables as t
from chronarch.records.audit import acts_as
from chronarch.service.access.giving import check_roles, find_teams, roles_of
from chronarch.service.access.registering import join_teams, register, set_password
from chronarch.service.context import ServiceContext
from chronarch.service.principals import Principal, hash_secret
from chronarch.service.problems import ApiProblem
from chronarch.wire import access as w
from chronarch.wire.common import fill

MOST_OPEN = 200
"""How many invites may be open at once."""
KEPT_FOR = timedelta(days=90)
"""How long an invite that was taken, or has expired, is kept."""
PATH = "/join#"


async def invite(context: ServiceContext, who: Principal, asked: w.NewInvite) -> w.CreatedInvite:
    """Make an invite. Raises ApiProblem (403, 404, 409, 422)."""
    token, now = secrets.token_urlsafe(24), context.clock.real_now()
    async with context.sessions() as db:
        await db.execute(delete(t.Invite).where(t.Invite.expires_at < now - KEPT_FOR))
        if len((await db.execute(select(t.Invite.id).where(*still_open(context)))).all()) >= MOST_OPEN:
            raise ApiProblem(409, f"{MOST_OPEN} invites are open; take some back first.")
        person = await find_person(db, asked.again) if asked.again else None
        if person is not None:
            roles = await all_roles(db, person)
            await check_roles(db, who, roles)  # whoever has the link could be that person
            name, held, teams = person.name, [], []
        elif not asked.name.strip():
            raise ApiProblem(422, "Say whom the invite is for.")
        else:
            name, held, teams = asked.name.strip(), asked.roles, await find_teams(db, asked.teams)
            wide = [role for team in teams for role in await roles_of(db, team)]
            await check_roles(db, who, [*held, *wide])
        row = t.Invite(
            token_hash=hash_secret(token), name=name, mail=asked.mail, person_id=person.id if person else None,
            roles=[role.model_dump(mode="json") for role in held], teams=[team.name for team in teams],
            made_by=who.signature, made_at=now, expires_at=now + timedelta(days=asked.days),
        )  # fmt: skip
        db.add(row)
        await db.commit()
        return w.CreatedInvite(**invite_view(row).model_dump(), path=PATH + token)


def still_open(context: ServiceContext) -> tuple[ColumnElement[bool], ...]:
    """The conditions of an invite that still lets somebody in."""
    return t.Invite.taken_at.is_(None), t.Invite.expires_at > context.clock.real_now()


def invite_view(row: t.Invite) -> w.Invite:
    return fill(w.Invite, row, again=row.person_id is not None)


async def by_token(db: AsyncSession, context: ServiceContext, token: str, lock: bool = False) -> t.Invite:
    """The invite that a link means. Raises ApiProblem (404)."""
    query = select(t.Invite).where(t.Invite.token_hash == hash_secret(token), *still_open(context))
    row = (await db.execute(query.with_for_update() if lock else query)).scalar_one_or_none()
    if row is None:
        raise ApiProblem(404, "This link was used, taken back or is over; ask for another one.")
    return row


async def shown_to(context: ServiceContext, token: str) -> w.Invited:
    """What an invite says to whoever follows it. Raises ApiProblem (404)."""
    async with context.sessions() as db:
        row = await by_token(db, context, token)
        person = await db.get(t.Person, row.person_id) if row.person_id else None
    return fill(
        w.Invited, invite_view(row), shop=context.shop.name, invited_by=row.made_by,
        login=person.login if person else "",
    )  # fmt: skip


async def take(context: ServiceContext, asked: w.JoinShop) -> str:
    """Let somebody in by their invite; what they sign in with. Raises ApiProblem (404, 409, 422)."""
    async with context.sessions() as db:
        row = await by_token(db, context, asked.token, lock=True)
        try:
            person = await (_renewed(db, row, asked) if row.person_id else _joined(db, row, asked))
        except BadName as error:
            raise ApiProblem(422, str(error)) from None
        row.taken_at, row.taken_by = context.clock.real_now(), person.name
        await db.flush()
        acts_as(f"person {person.id}")
        await db.commit()
        return person.login


async def _renewed(db: AsyncSession, row: t.Invite, asked: w.JoinShop) -> t.Person:
    person = await db.get_one(t.Person, row.person_id)
    await set_password(db, person, asked.password)
    return person


async def _joined(db: AsyncSession, row: t.Invite, asked: w.JoinShop) -> t.Person:
    if not asked.login.strip():
        raise BadName("Say what you want to sign in with.")
    taken = select(t.Person.id).where(t.Person.login == asked.login.strip())
    if (await db.execute(taken)).first() is not None:
        raise ApiProblem(409, f"Somebody signs in as {asked.login!r} already; choose another one.")
    roles = [w.HeldRole.model_validate(one) for one in row.roles]
    person = await register(
        db, asked.login, asked.name or row.name, asked.password, [(role.role, role.at) for role in roles]
    )
    person.mail = asked.mail or row.mail
    teams = (await db.execute(select(t.Team).where(t.Team.name.in_(row.teams)))).scalars().all()
    await join_teams(db, person, teams)
    return person


async def find_person(db: AsyncSession, login: str) -> t.Person:
    """Raises ApiProblem (404)."""
    row = (await db.execute(select(t.Person).where(t.Person.login == login))).scalar_one_or_none()
    if row is None:
        raise ApiProblem(404, f"There is nobody who signs in as {login!r}; `chronarch people list` shows all.")
    return row


async def all_roles(db: AsyncSession, person: t.Person) -> list[w.HeldRole]:
    """What a person holds, by themselves and by their teams."""
    mine = (
        select(t.Team).join(t.TeamMember, t.TeamMember.team_id == t.Team.id).where(t.TeamMember.person_id == person.id)
    )
    teams = (await db.execute(mine)).scalars().all()
    return [*await roles_of(db, person), *[role for team in teams for role in await roles_of(db, team)]]
