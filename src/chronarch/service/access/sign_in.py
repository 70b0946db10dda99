"""Signing in and out, and slowing down guesses of passwords."""

from __future__ import annotations

import asyncio
import secrets
import time
from collections import OrderedDict, deque
from datetime import timedelta
from functools import cache
from typing import Annotated

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error, InvalidHashError
from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import NoticeKind
from chronarch.records import tables as t
from chronarch.records.notices.opening import open_notice
from chronarch.service.context import ServiceContext, part
from chronarch.service.principals import hash_secret
from chronarch.service.problems import ApiProblem
from chronarch.wire.access import Me, Scope

TRIES, TRIES_FROM_ONE_PLACE, TRIES_WITHIN_S = 10, 60, 60.0
"""So many tries an account, and an address, may have within so long."""
MOST_KNOWN = 10_000
"""How many accounts and addresses are remembered at once."""
MOST_PLACES = 50
"""How many places are remembered of each person."""
HASHING, WAITING = 2, 20
"""So many passwords are compared at once, each takes a core and 64 MiB for a while; so many may wait for that."""
hasher = PasswordHasher()


@cache
def _nobody() -> str:
    """What a password is compared with when there is no such person, so that it takes just as long."""
    return hasher.hash("nobody has this password")


class SignInGuard:
    """Slows down guessing. A try counts when it begins, so that many tries at once count as many. A try that succeeds
    is taken back."""

    def __init__(self) -> None:
        self._tries: OrderedDict[str, deque[float]] = OrderedDict()
        self._hashing = asyncio.Semaphore(HASHING)
        self._waiting = 0

    def begin(self, account: str, address: str) -> None:
        """Count a try. Raises ApiProblem (429)."""
        for key, most in ((f"account {account}", TRIES), (f"address {address}", TRIES_FROM_ONE_PLACE)):
            tries = self._tries.setdefault(key, deque())
            self._tries.move_to_end(key)
            while tries and tries[0] < time.monotonic() - TRIES_WITHIN_S:
                tries.popleft()
            if len(tries) >= most:
                raise ApiProblem(429, "Too many tries; wait a minute.")
            tries.append(time.monotonic())
        while len(self._tries) > MOST_KNOWN:
            self._tries.popitem(last=False)

    def succeeded(self, account: str, address: str) -> None:
        for key in (f"account {account}", f"address {address}"):
            if self._tries.get(key):
                self._tries[key].pop()

    async def verify(self, stored: str, password: str) -> bool:
        """Whether a password is the stored one; a few at a time. Raises ApiProblem (503)."""
        if self._waiting >= WAITING:
            raise ApiProblem(503, "Too many people sign in at this moment; try again.")
        self._waiting += 1
        try:
            async with self._hashing:
                return await asyncio.to_thread(_verify, stored, password)
        finally:
            self._waiting -= 1


TheSignInGuard = Annotated[SignInGuard, part(SignInGuard)]


def _verify(stored: str, password: str) -> bool:
    try:
        return hasher.verify(stored, password)
    except (Argon2Error, InvalidHashError):
        return False


async def sign_in(
    context: ServiceContext, guard: SignInGuard, login: str, password: str, address: str
) -> tuple[str, Me]:
    """Open a session: its token for the cookie, and who it is. Raises ApiProblem (401, 429, 503). No connection to the
    database is held while the password is compared."""
    async with context.sessions() as db:
        person = (await db.execute(select(t.Person).where(t.Person.login == login))).scalar_one_or_none()
    account = str(person.id) if person else f"nobody {login.casefold()[:120]}"
    guard.begin(account, address)
    good = await guard.verify(person.password_hash if person else _nobody(), password)
    if person is None or not good:
        raise ApiProblem(401, "Name or password is wrong.")
    guard.succeeded(account, address)
    token, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
    now = context.clock.real_now()
    async with context.sessions() as db:
        await db.execute(delete(t.Session).where(t.Session.expires_at < now))
        until = now + timedelta(hours=context.config.session_hours)
        await _from_where(db, context, person, address)
        db.add(t.Session(token_hash=hash_secret(token), person_id=person.id, csrf=csrf, expires_at=until))
        await db.commit()
    return token, Me(name=person.name, scope=Scope(person.scope), csrf=csrf)


async def _from_where(db: AsyncSession, context: ServiceContext, person: t.Person, address: str) -> None:
    """Remember where somebody signs in from, and tell them of a place that is new; their first one is no news."""
    place, now = address[:60], context.clock.real_now()
    known = list((await db.execute(select(t.SignInPlace.place).where(t.SignInPlace.person_id == person.id))).scalars())
    if place not in known and known:
        text = (
            f"Somebody signed in as {person.login} from {place or 'an unknown place'}, where you have not been before"
        )
        await open_notice(
            db, NoticeKind.SIGN_IN, context.clock.now(), text, subject=f"{person.id} {place}", person_id=person.id
        )
    await db.merge(t.SignInPlace(person_id=person.id, place=place, last_at=now))
    if len(known) >= MOST_PLACES:
        oldest = select(t.SignInPlace).where(t.SignInPlace.person_id == person.id).order_by(t.SignInPlace.last_at)
        row = (await db.execute(oldest.limit(1))).scalar_one()
        await db.delete(row)


async def sign_out(context: ServiceContext, token: str) -> None:
    async with context.sessions() as db:
        await db.execute(delete(t.Session).where(t.Session.token_hash == hash_secret(token)))
        await db.commit()
