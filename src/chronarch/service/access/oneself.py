"""Who is asking, as they see themselves."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import Held
from chronarch.records import tables as t
from chronarch.records.access.holding import guarded_roles, held_by, roles_held
from chronarch.service.context import ServiceContext
from chronarch.service.principals import Principal, hash_secret
from chronarch.service.problems import ApiProblem
from chronarch.wire import access as w
from chronarch.wire.common import fill


def rights_view(held: Held) -> list[w.RightHeld]:
    return [
        w.RightHeld(right=right, places=sorted(places, key=lambda place: (place.kind, place.name)))
        for right, places in held.places.items()
    ]


async def me_of(context: ServiceContext, token: str) -> w.Me:
    """Who has just been signed in, by the token of their session."""
    async with context.sessions() as db:
        session = (await db.execute(select(t.Session).where(t.Session.token_hash == hash_secret(token)))).scalar_one()
        person = await db.get_one(t.Person, session.person_id)
        held = await held_by(db, person.id, session.second)
        wants = await _wants(db, person, session.second)
        return fill(w.Me, person, rights=rights_view(held), wants_second=wants, csrf=session.csrf)


async def _wants(db: AsyncSession, person: t.Person, second: bool) -> list[str]:
    """The roles that somebody holds and that do not count, because they have shown no second factor."""
    return [] if second else sorted(await guarded_roles(db) & await roles_held(db, person.id))


async def me(context: ServiceContext, who: Principal) -> w.Me:
    """Who is asking."""
    if not who.person:
        return w.Me(name=who.name, rights=rights_view(who.held))
    async with context.sessions() as db:
        person = await myself(db, who)
        wants = await _wants(db, person, who.second)
        return fill(w.Me, person, rights=rights_view(who.held), wants_second=wants, csrf=who.csrf)


async def myself(db: AsyncSession, who: Principal) -> t.Person:
    """The person who asks. Raises ApiProblem (409) for a key."""
    if not who.person:
        raise ApiProblem(409, "A key is nobody; sign in as a person.")
    return await db.get_one(t.Person, who.person)
