"""Letting a person in, or changing what is known of them."""

from __future__ import annotations

import asyncio
import re

from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.errors import BadName
from chronarch.core.library.names import check_name
from chronarch.records import tables as t
from chronarch.records.system.leaving import LEFT
from chronarch.service.access.sign_in import hasher
from chronarch.wire.access import Scope

LONGEST, LEAST_PASSWORD = 120, 8


async def register(db: AsyncSession, login: str, name: str, password: str, scope: Scope) -> t.Person:
    """Let a person in, or give them another name, password and scope; not committed. Whoever is signed in with the old
    password is signed out. Raises BadName for a name that is somebody else's, or reads as a key's or helper's does in
    the records, and for a password that is too short."""
    login, name = check_name(login), check_name(name)
    if max(len(login), len(name)) > LONGEST:
        raise BadName(f"A login and a name may have {LONGEST} characters; choose shorter ones.")
    if len(password) < LEAST_PASSWORD:
        raise BadName(f"A password needs at least {LEAST_PASSWORD} characters.")
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
    person.name, person.password_hash, person.scope = name, await asyncio.to_thread(hasher.hash, password), scope
    await db.flush()
    await db.execute(delete(t.Session).where(t.Session.person_id == person.id))
    return person
