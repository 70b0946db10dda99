"""Letting a person in, or changing what is known of them."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Sequence

from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import WHOLE_SHOP, GivenRole, Place
from chronarch.core.errors import BadName
from chronarch.core.library.names import check_name
from chronarch.records import tables as t
from chronarch.records.system.leaving import LEFT
from chronarch.service.access.passwords import check_password
from chronarch.service.access.sign_in import hasher

LONGEST = 120
RoleFor = tuple[str, Place]
"""A role by its name, and what it is held for."""


async def register(
    db: AsyncSession, login: str, name: str, password: str, roles: Sequence[RoleFor] | None = None
) -> t.Person:
    """Let a person in, or give them another name and password, and these roles if any are given; not committed.
    Whoever is signed in with the old password is signed out. Raises BadName for a name that is somebody else's, or
    reads as a key's or helper's does in the records, and for a password that is weak."""
    login, name = check_name(login), check_name(name)
    if max(len(login), len(name)) > LONGEST:
        raise BadName(f"A login and a name may have {LONGEST} characters; choose shorter ones.")
    if name.casefold() == LEFT:
        raise BadName(f"{LEFT!r} is how the records name whoever is not here any more; choose another name.")
    if re.search(r"\((key|helper) \d+\)$", name):
        raise BadName(f"{name!r} is how the records name a key or a helper; choose another name.")
    other = await db.execute(select(t.Person.login).where(t.Person.name == name, t.Person.login != login))
    if (taken := other.scalar()) is not None:
        raise BadName(f"{taken} is called {name!r} already; the records tell people by their names. Add something.")
    person = (await db.execute(select(t.Person).where(t.Person.login == login))).scalar_one_or_none()
    if person is None:
        person = t.Person(login=login, name=name)
        db.add(person)
    person.name = name
    await set_password(db, person, password)
    if roles is not None:
        await hold(db, person, roles)
    return person


async def set_password(db: AsyncSession, person: t.Person, password: str, but: str = "") -> None:
    """Give somebody a password, and end their sessions but one (by the hash of its token); not committed. Raises
    BadName."""
    await asyncio.to_thread(check_password, password, (person.login, person.name, person.mail or ""))
    person.password_hash = await asyncio.to_thread(hasher.hash, password)
    await db.flush()
    await db.execute(delete(t.Session).where(t.Session.person_id == person.id, t.Session.token_hash != but))


async def hold(db: AsyncSession, holder: t.Person | t.Team, roles: Sequence[RoleFor]) -> None:
    """Have a person or a team hold these roles and no others; not committed."""
    await db.flush()
    column = t.RoleHeld.person_id if isinstance(holder, t.Person) else t.RoleHeld.team_id
    await db.execute(delete(t.RoleHeld).where(column == holder.id))
    for role, place in dict.fromkeys(roles):
        db.add(t.RoleHeld(**{column.key: holder.id}, role=role, place_kind=place.kind, place=place.name))
    await db.flush()


async def join_teams(db: AsyncSession, person: t.Person, teams: Sequence[t.Team]) -> None:
    """Have a person be in these teams and no others; not committed."""
    await db.flush()
    await db.execute(delete(t.TeamMember).where(t.TeamMember.person_id == person.id))
    db.add_all([t.TeamMember(team_id=team.id, person_id=person.id) for team in teams])
    await db.flush()


MANAGES: tuple[RoleFor, ...] = ((GivenRole.MANAGER, WHOLE_SHOP),)
"""What the first person of a shop holds."""
