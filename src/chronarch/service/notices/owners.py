"""Whose a channel or a rule is, and who may change it."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ColumnElement, or_, select, true
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import Right
from chronarch.records import tables as t
from chronarch.service.principals import Principal
from chronarch.service.problems import ApiProblem


async def owner_of(db: AsyncSession, who: Principal, person: str | None) -> int | None:
    """The number of the person that is meant by `person`; None for the shop. Raises ApiProblem (403, 404)."""
    if person is None:
        found = who.person or None
    elif person:
        row = (await db.execute(select(t.Person).where(t.Person.login == person))).scalar_one_or_none()
        if row is None:
            raise ApiProblem(404, f"There is nobody who signs in as {person!r}.")
        found = row.id
    else:
        found = None
    check_owner(who, found)
    return found


def check_owner(who: Principal, owner: int | None) -> None:
    """Everybody sets what reaches themselves; who operates machines sets what reaches the shop, who sets up the shop
    everything. Raises ApiProblem (403)."""
    if who.may(Right.SET_UP) or (owner is not None and owner == who.person):
        return
    if owner is None and who.held.everywhere(Right.OPERATE):
        return
    raise ApiProblem(403, "What reaches somebody else is theirs to set; who sets up the shop can do it too.")


def mine(who: Principal, column: Any) -> ColumnElement[bool]:
    """A condition: what somebody may see, their own and the shop's, or all for a key that sets up the shop."""
    if who.may(Right.SET_UP) and not who.person:
        return true()
    return or_(column.is_(None), column == who.person)


async def logins(db: AsyncSession) -> dict[int | None, str]:
    """What people sign in with, by their number."""
    return {n: login for n, login in await db.execute(select(t.Person.id, t.Person.login))}
