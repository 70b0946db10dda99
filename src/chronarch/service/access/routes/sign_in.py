"""Signing in and out, and the first person of a shop."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from chronarch.service.access import sign_in as access
from chronarch.service.access.first_run import TheFirstRun
from chronarch.service.access.oneself import me_of
from chronarch.service.access.second_factors import SecondFactors, TheSecondFactors
from chronarch.service.access.sign_in import TheSignInGuard
from chronarch.service.access.visiting import device_of, let_stay
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.permissions import Caller
from chronarch.service.principals import COOKIE
from chronarch.wire import access as w
from chronarch.wire.common import RequestDone

router = APIRouter(tags=["people"], route_class=RetryingRoute)


@router.post("/sign-in")
async def sign_in(
    asked: w.SignIn,
    context: Context,
    guard: TheSignInGuard,
    factors: TheSecondFactors,
    request: Request,
    response: Response,
) -> w.Me:
    """Open a session; its cookie comes with the answer. Who has a second factor sends its code, too."""
    return await _sign_in(asked, context, guard, factors, request, response)


async def _sign_in(
    asked: w.SignIn,
    context: ServiceContext,
    guard: access.SignInGuard,
    factors: SecondFactors,
    request: Request,
    response: Response,
) -> w.Me:
    token = await access.sign_in(
        context, guard, factors, asked.login, asked.password, asked.code, device_of(request, asked.trusted)
    )
    let_stay(response, context, token, asked.trusted)
    return await me_of(context, token)


@router.get("/first-person")
async def first_standing(first: TheFirstRun) -> w.FirstStanding:
    """Whether the shop waits for its first person."""
    return w.FirstStanding(open=await first.is_open())


@router.post("/first-person", status_code=201)
async def first_person(
    asked: w.FirstPerson,
    context: Context,
    guard: TheSignInGuard,
    factors: TheSecondFactors,
    first: TheFirstRun,
    request: Request,
    response: Response,
) -> w.Me:
    """Let the first person in, who then manages the shop, and open their session."""
    await first.enter(asked, device_of(request).address)
    signing = w.SignIn(login=asked.login, password=asked.password)
    return await _sign_in(signing, context, guard, factors, request, response)


@router.post("/sign-out")
async def sign_out(who: Caller, context: Context, request: Request, response: Response) -> RequestDone:
    """Close the session this request came with."""
    await access.sign_out(context, request.cookies.get(COOKIE, ""))
    response.delete_cookie(COOKIE)
    return RequestDone(text=f"{who.name} is signed out.")
