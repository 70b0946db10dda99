"""Second factors: one's own, and which roles want one."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Request, Response
from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.records.access.holding import guarded_roles, rights_by_role
from chronarch.service.access.giving import check_roles
from chronarch.service.access.inviting import all_roles, find_person
from chronarch.service.access.oneself import me, me_of, myself
from chronarch.service.access.passkeys import Site, ThePasskeys
from chronarch.service.access.second_factors import TheSecondFactors
from chronarch.service.access.sign_in import TheSignInGuard, open_session
from chronarch.service.access.visiting import device_of, let_stay
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.permissions import Caller
from chronarch.service.principals import Principal
from chronarch.service.problems import ApiProblem
from chronarch.wire import access as w
from chronarch.wire.common import RequestDone

router = APIRouter(tags=["people"], route_class=RetryingRoute)
Login = Annotated[str, Path(max_length=120)]


async def _myself(context: Context, who: Principal) -> t.Person:
    async with context.sessions() as db:
        return await myself(db, who)


@router.get("/me/second-factors")
async def mine(who: Caller, context: Context, factors: TheSecondFactors) -> w.SecondFactorsShown:
    """One's second factors, how many recovery codes are left, and which of one's roles want a second factor."""
    await _myself(context, who)
    return await factors.shown(who.person)


@router.post("/me/second-factors/app", status_code=201)
async def add_app(asked: w.FactorName, who: Caller, context: Context, factors: TheSecondFactors) -> w.NewApp:
    """Begin with an app that shows codes: its secret, which is in this answer and nowhere else."""
    return await factors.add_app(await _myself(context, who), asked.name)


@router.post("/me/second-factors/{number:record}/confirmed")
async def confirm(
    number: Number, asked: w.FactorCode, who: Caller, context: Context, factors: TheSecondFactors,
    guard: TheSignInGuard, request: Request,
) -> w.SecondFactorAdded:  # fmt: skip
    """An app shows its first code: from now on it is asked for. The first factor comes with recovery codes."""
    await _myself(context, who)
    guard.begin(str(who.person), device_of(request).address, familiar=True)
    added = await factors.confirm(who.person, number, asked.code, who.session)
    guard.succeeded(str(who.person), device_of(request).address, familiar=True)
    return added


@router.post("/me/second-factors/passkey/begin")
async def begin_passkey(who: Caller, context: Context, passkeys: ThePasskeys, request: Request) -> w.PasskeyOptions:
    """What a browser makes a passkey from."""
    return await passkeys.begin_adding(await _myself(context, who), Site.of(request))


@router.post("/me/second-factors/passkey", status_code=201)
async def add_passkey(
    asked: w.NewPasskey, who: Caller, context: Context, passkeys: ThePasskeys, request: Request
) -> w.SecondFactorAdded:
    """Keep the passkey that a browser has made."""
    await _myself(context, who)
    return await passkeys.add(who.person, asked, Site.of(request), who.session)


@router.delete("/me/second-factors/{number:record}")
async def remove(number: Number, who: Caller, context: Context, factors: TheSecondFactors) -> w.SecondFactorsShown:
    """Take one of one's second factors away."""
    await _myself(context, who)
    await factors.remove(who.person, number)
    return await factors.shown(who.person)


@router.post("/me/recovery-codes", status_code=201)
async def new_codes(who: Caller, context: Context, factors: TheSecondFactors) -> w.SecondFactorAdded:
    """Other recovery codes; those before count no more."""
    async with context.sessions() as db:
        await myself(db, who)
        codes = await factors.new_recovery_codes(db, who.person)
        await db.commit()
    return w.SecondFactorAdded(recovery_codes=codes)


# Showing who one is ---------------------------------------------------------------------------------------------------


@router.post("/me/shown")
async def show(
    asked: w.Shown, who: Caller, context: Context, factors: TheSecondFactors, passkeys: ThePasskeys,
    guard: TheSignInGuard, request: Request,
) -> w.Me:  # fmt: skip
    """Show again who one is, by password (and code) or by a passkey: what is dangerous is possible for half an hour."""
    person, address = await _myself(context, who), device_of(request).address
    guard.begin(str(person.id), address, familiar=True)
    if asked.credential:
        if (await passkeys.owner(asked.credential, Site.of(request))).id != person.id:
            raise ApiProblem(403, "This passkey is somebody else's.")
        second = True
    else:
        if not await guard.verify(person.password_hash, asked.password):
            raise ApiProblem(403, "That is not your password.")
        second = await factors.check(person, asked.code, status=403)
    guard.succeeded(str(person.id), address, familiar=True)
    async with context.sessions() as db:
        mine = update(t.Session).where(t.Session.token_hash == who.session)
        await db.execute(mine.values(shown_at=context.clock.real_now(), second=second))
        await db.commit()
    return await me(context, who)


@router.post("/sign-in/passkey/begin")
async def begin_sign_in(passkeys: ThePasskeys, request: Request) -> w.PasskeyOptions:
    """What a browser asks a passkey with."""
    return passkeys.begin(Site.of(request))


@router.post("/sign-in/passkey")
async def sign_in_by_passkey(
    asked: w.PasskeySignIn, context: Context, passkeys: ThePasskeys, guard: TheSignInGuard, request: Request,
    response: Response,
) -> w.Me:  # fmt: skip
    """Open a session with a passkey alone."""
    device = device_of(request, asked.trusted)
    guard.begin("a passkey", device.address, familiar=True)
    person = await passkeys.owner(asked.credential, Site.of(request))
    guard.succeeded("a passkey", device.address, familiar=True)
    token = await open_session(context, person, device, second=True)
    let_stay(response, context, token, asked.trusted)
    return await me_of(context, token)


# For others -----------------------------------------------------------------------------------------------------------


@router.delete("/people/{login}/second-factors")
async def forget(login: Login, who: Caller, context: Context, factors: TheSecondFactors) -> RequestDone:
    """Somebody has lost their second factors: they sign in without, and add others."""
    async with context.sessions() as db:
        person = await find_person(db, login)
        await check_roles(db, who, await all_roles(db, person))
    await factors.remove(person.id)
    return RequestDone(text=f"{person.name} signs in without a second factor until they add one.")


@router.get("/guarded-roles")
async def guarded(context: Context) -> w.GuardedRoles:
    """The roles that count only where a second factor was shown."""
    async with context.sessions() as db:
        return w.GuardedRoles(roles=sorted(await guarded_roles(db)))


@router.put("/guarded-roles")
async def guard_roles(asked: w.GuardedRoles, who: Caller, context: Context) -> w.GuardedRoles:
    """Say which roles count only where a second factor was shown. Who sets it has shown theirs: nobody locks themselves
    out."""
    async with context.sessions() as db:
        await _check_guard(db, asked, who)
        for row in (await db.execute(select(t.GuardedRole))).scalars():
            await db.delete(row)
        await db.flush()
        db.add_all([t.GuardedRole(role=role) for role in sorted(set(asked.roles))])
        await db.commit()
        return w.GuardedRoles(roles=sorted(set(asked.roles)))


async def _check_guard(db: AsyncSession, asked: w.GuardedRoles, who: Principal) -> None:
    known = await rights_by_role(db)
    if unknown := sorted(set(asked.roles) - set(known)):
        raise ApiProblem(404, f"There is no role {unknown[0]!r}; `chronarch roles list` shows all.")
    if who.person and not who.second:
        raise ApiProblem(409, "Add a second factor of your own first; without one you would lock yourself out.")
