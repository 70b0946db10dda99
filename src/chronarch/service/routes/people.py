"""Sign-in, keys and the shop's clock."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from sqlalchemy import select

from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.service import access
from chronarch.service.access import COOKIE, Maintainer, Reader, hash_secret, new_secret
from chronarch.service.again import AgainRoute
from chronarch.service.problems import Refused
from chronarch.service.shop import TheShop
from chronarch.wire import people as w
from chronarch.wire.work import Done

router = APIRouter(tags=["people"], route_class=AgainRoute)


@router.post("/sign-in")
async def sign_in(order: w.SignIn, shop: TheShop, request: Request, response: Response) -> w.Me:
    """Open a session; its cookie comes with the answer."""
    token, me = await access.sign_in(shop, order.login, order.password, request.client.host if request.client else "")
    age = int(shop.settings.session_hours * 3600)
    response.set_cookie(COOKIE, token, max_age=age, httponly=True, samesite="strict")
    return me


@router.post("/sign-out")
async def sign_out(who: Reader, shop: TheShop, request: Request, response: Response) -> Done:
    """Close the session this request came with."""
    await access.sign_out(shop, request.cookies.get(COOKIE, ""))
    response.delete_cookie(COOKIE)
    return Done(text=f"{who.name} is signed out.")


@router.get("/me")
async def me(who: Reader) -> w.Me:
    """Who is asking, and the session's CSRF token."""
    return w.Me(name=who.name, scope=who.scope, csrf=who.csrf)


@router.get("/shop")
async def the_shop(who: Reader, shop: TheShop) -> w.Shop:
    """The shop's name and its time."""
    return w.Shop(name=shop.settings.shop, now=shop.clock.now(), rate=shop.clock.rate)


def _key(row: t.Key) -> w.Key:
    return w.Key(
        id=row.id, name=row.name, scope=w.Scope(row.scope), created_at=row.created_at, revoked=row.revoked,
        tender=row.tender or "",
    )  # fmt: skip


@router.get("/keys")
async def keys(who: Maintainer, shop: TheShop) -> list[w.Key]:
    async with shop.sessions() as db:
        return [_key(row) for row in (await db.execute(select(t.Key).order_by(t.Key.id))).scalars()]


@router.post("/keys", status_code=201)
async def make_key(order: w.KeyOrder, who: Maintainer, shop: TheShop) -> w.NewKey:
    """Make a key; its secret is in this answer and nowhere else."""
    secret = new_secret()
    async with shop.sessions() as db:
        row = t.Key(
            name=order.name, secret_hash=hash_secret(secret), scope=order.scope, created_at=shop.clock.real_now()
        )
        db.add(row)
        await db.commit()
        return w.NewKey(**_key(row).model_dump(), secret=secret)


@router.delete("/keys/{key:record}")
async def revoke_key(key: Number, who: Maintainer, shop: TheShop) -> w.Key:
    """Make a key worthless from now on."""
    async with shop.sessions() as db:
        row = await db.get(t.Key, key)
        if row is None:
            raise Refused(404, f"There is no key {key}; `chronarch keys list` shows all.")
        row.revoked = True
        await db.commit()
        return _key(row)
