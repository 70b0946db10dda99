"""Keys for programs: one's own, and the shop's."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import timedelta

from fastapi import APIRouter
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import WHOLE_SHOP, Place, PlaceKind, Right
from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.records.access.holding import read_rights, rights_by_role
from chronarch.service.access.giving import check_rights
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.permissions import Caller
from chronarch.service.principals import Principal, hash_secret, new_secret
from chronarch.service.problems import ApiProblem
from chronarch.wire import access as w
from chronarch.wire.common import fill

router = APIRouter(tags=["people"], route_class=RetryingRoute)
MOST_KEYS = 1000
MOST_OWN = 50
"""How many keys a shop, and a person, may have."""


@router.get("/keys")
async def keys(who: Caller, context: Context) -> list[w.Key]:
    """One's own keys; all of them for who manages people."""
    query = select(t.Key).order_by(t.Key.id)
    if not who.may(Right.MANAGE_PEOPLE):
        query = query.where(t.Key.person_id == _person(who))
    async with context.sessions() as db:
        return await _views(db, (await db.execute(query)).scalars())


@router.post("/keys", status_code=201)
async def make_key(asked: w.NewKey, who: Caller, context: Context) -> w.CreatedKey:
    """Make a key, for oneself or for the shop. Its secret is in this answer and nowhere else."""
    if not asked.own:
        who.must(Right.MANAGE_PEOPLE)
    elif not who.person:
        raise ApiProblem(409, "A key has no keys of its own; sign in as a person.")
    secret, now = new_secret(), context.clock.real_now()
    async with context.sessions() as db:
        known = await rights_by_role(db)
        if asked.role is not None and asked.role not in known:
            raise ApiProblem(404, f"There is no role {asked.role!r}; `chronarch roles list` shows all.")
        if (asked.role is None) == (asked.rights is None):
            raise ApiProblem(422, "Say what the key may do: the name of a role, or rights.")
        rights = known[asked.role] if asked.role is not None else frozenset(asked.rights or ())
        if Right.TENDER in rights and (len(rights) > 1 or asked.own):
            raise ApiProblem(422, "The key of a tender is the shop's, and does nothing else.")
        places = [place.at for place in asked.places] or [WHOLE_SHOP]
        for place in places:
            check_rights(who, rights, place)
        await _check_room(db, who if asked.own else None)
        row = t.Key(
            name=asked.name, secret_hash=hash_secret(secret), person_id=who.person if asked.own else None,
            rights=[right.value for right in Right if right in rights], created_at=now,
            places=[[place.kind, place.name] for place in places],
            expires_at=now + timedelta(days=asked.days) if asked.days else None,
        )  # fmt: skip
        db.add(row)
        await db.commit()
        (shown,) = await _views(db, [row])
        return w.CreatedKey(**shown.model_dump(), secret=secret)


@router.post("/keys/{key:record}/change")
async def change_secret(key: Number, asked: w.KeyChange, who: Caller, context: Context) -> w.CreatedKey:
    """Give a key another secret; the one before opens for some hours more, so that nothing stops meanwhile."""
    secret, now = new_secret(), context.clock.real_now()
    async with context.sessions() as db:
        row = await _find(db, key, who)
        if row.person_id is None or row.person_id != _person(who):
            for kind, name in row.places:  # whoever has the secret may do what the key may
                check_rights(who, read_rights(row.rights), Place(PlaceKind(kind), name))
        if row.revoked:
            raise ApiProblem(409, f"Key {key} is revoked; make another one.")
        until = now + timedelta(hours=asked.overlap_hours)
        row.old_secret_hash, row.old_until = (row.secret_hash, until) if asked.overlap_hours else (None, None)
        row.secret_hash = hash_secret(secret)
        await db.commit()
        (shown,) = await _views(db, [row])
        return w.CreatedKey(**shown.model_dump(), secret=secret)


@router.delete("/keys/{key:record}")
async def revoke_key(key: Number, who: Caller, context: Context) -> w.Key:
    """Revoke a key: it opens nothing from now on."""
    async with context.sessions() as db:
        row = await _find(db, key, who)
        row.revoked = True
        await db.commit()
        (shown,) = await _views(db, [row])
        return shown


def _person(who: Principal) -> int:
    return who.person or who.owner


async def _find(db: AsyncSession, key: int, who: Principal) -> t.Key:
    """A key that somebody may change: their own, or any for who manages people and has its rights. Raises ApiProblem
    (403, 404)."""
    row = await db.get(t.Key, key)
    if row is None or row.person_id is None or row.person_id != _person(who):
        who.must(Right.MANAGE_PEOPLE)
    if row is None:
        raise ApiProblem(404, f"There is no key {key}; `chronarch keys list` shows all.")
    return row


async def _check_room(db: AsyncSession, who: Principal | None) -> None:
    query, most = select(func.count()).select_from(t.Key).where(~t.Key.revoked), MOST_KEYS
    if who is not None:
        query, most = query.where(t.Key.person_id == who.person), MOST_OWN
    if (await db.execute(query)).scalar_one() >= most:
        raise ApiProblem(409, f"There are {most} keys already; revoke one first.")


async def _views(db: AsyncSession, rows: Iterable[t.Key]) -> list[w.Key]:
    names = {number: name for number, name in await db.execute(select(t.Person.id, t.Person.name))}
    return [
        fill(
            w.Key, row, owner=names.get(row.person_id or 0, ""), tender=row.tender or "",
            rights=[right for right in Right if right in read_rights(row.rights)],
            places=[Place(PlaceKind(kind), name) for kind, name in row.places],
        )
        for row in rows
    ]  # fmt: skip
