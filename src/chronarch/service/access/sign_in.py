"""Signing in and out, and slowing down guesses of passwords."""

from __future__ import annotations

import asyncio
import secrets
import time
from collections import OrderedDict, deque
from dataclasses import dataclass
from datetime import timedelta
from functools import cache
from typing import Annotated

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error, InvalidHashError
from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import NoticeKind
from chronarch.records import tables as t
from chronarch.records.audit import acts_as, acts_on
from chronarch.records.notices.opening import open_notice
from chronarch.service.access.devices import device_words
from chronarch.service.access.second_factors import SecondFactors
from chronarch.service.context import ServiceContext, part
from chronarch.service.principals import hash_secret
from chronarch.service.problems import ApiProblem

TRIES, TRIES_FROM_ONE_PLACE, TRIES_WITHIN_S = 10, 60, 60.0
"""So many tries an account, and an address, may have within so long."""
MOST_KNOWN = 10_000
"""How many accounts and addresses are remembered at once."""
MOST_SESSIONS = 50
"""How many sessions of a person are kept; the one that was used longest ago ends."""
TRUSTED_FOR = timedelta(days=90)
"""How long a device of one's own stays signed in."""
MOST_PLACES = 50
"""How many places are remembered of each person."""
HASHING, WAITING = 2, 20
"""So many passwords are compared at once, each takes a core and 64 MiB for a while; so many may wait for that."""
hasher = PasswordHasher()


@cache
def _nobody() -> str:
    """What a password is compared with when there is no such person, so that it takes just as long."""
    return hasher.hash("nobody has this password")


def _counted(account: str, address: str, familiar: bool) -> tuple[tuple[str, int], ...]:
    """What a try counts for, and the most of each. Whoever guesses from elsewhere does not lock out those who come from
    where they have been before: each such place counts for itself."""
    whose = f"account {account} from {address}" if familiar else f"account {account}"
    return (whose, TRIES), (f"address {address}", TRIES_FROM_ONE_PLACE)


class SignInGuard:
    """Slows down guessing. A try counts when it begins, so that many tries at once count as many. A try that succeeds
    is taken back."""

    def __init__(self) -> None:
        self._tries: OrderedDict[str, deque[float]] = OrderedDict()
        self._hashing = asyncio.Semaphore(HASHING)
        self._waiting = 0

    def begin(self, account: str, address: str, familiar: bool = False) -> None:
        """Count a try; `familiar`: somebody has signed in to the account from there before. Raises ApiProblem (429)."""
        for key, most in _counted(account, address, familiar):
            tries = self._tries.setdefault(key, deque())
            self._tries.move_to_end(key)
            while tries and tries[0] < time.monotonic() - TRIES_WITHIN_S:
                tries.popleft()
            if len(tries) >= most:
                raise ApiProblem(429, "Too many tries; wait a minute.")
            tries.append(time.monotonic())
        while len(self._tries) > MOST_KNOWN:
            self._tries.popitem(last=False)

    def succeeded(self, account: str, address: str, familiar: bool = False) -> None:
        for key, _ in _counted(account, address, familiar):
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


@dataclass(frozen=True)
class Device:
    """What somebody signs in with: the address that they come from, what their browser says that it is, and whether it
    is their own."""

    address: str
    agent: str = ""
    trusted: bool = False


async def sign_in(
    context: ServiceContext, guard: SignInGuard, factors: SecondFactors, login: str, password: str, code: str,
    device: Device,
) -> str:  # fmt: skip
    """Open a session: its token for the cookie. Who has a second factor shows a code as well. Raises ApiProblem (401,
    429, 503). No connection to the database is held while the password is compared."""
    async with context.sessions() as db:
        person = (await db.execute(select(t.Person).where(t.Person.login == login))).scalar_one_or_none()
        familiar = person is not None and await _knows(db, person, device.address)
    if person is not None:
        acts_on(f"people/person {person.id}")
    account = str(person.id) if person else f"nobody {login.casefold()[:120]}"
    guard.begin(account, device.address, familiar)
    good = await guard.verify(person.password_hash if person else _nobody(), password)
    if person is None or not good:
        raise ApiProblem(401, "Name or password is wrong.")
    second = await factors.check(person, code)
    guard.succeeded(account, device.address, familiar)
    return await open_session(context, person, device, second)


async def open_session(context: ServiceContext, person: t.Person, device: Device, second: bool) -> str:
    """Open a session of somebody who has shown who they are, with a second factor or without: its token."""
    acts_as(f"person {person.id}")
    token, now = secrets.token_urlsafe(32), context.clock.real_now()
    async with context.sessions() as db:
        await db.execute(delete(t.Session).where(t.Session.expires_at < now))
        await _from_where(db, context, person, device.address)
        db.add(
            t.Session(
                token_hash=hash_secret(token), person_id=person.id, csrf=secrets.token_urlsafe(24), made_at=now,
                last_at=now, expires_at=now + lasts(context, device.trusted), place=device.address[:60],
                device=device_words(device.agent), trusted=device.trusted, second=second, shown_at=now,
            )
        )  # fmt: skip
        await _end_the_oldest(db, person)
        await db.commit()
    return token


def lasts(context: ServiceContext, trusted: bool) -> timedelta:
    """How long a session lasts."""
    return TRUSTED_FOR if trusted else timedelta(hours=context.config.session_hours)


async def _end_the_oldest(db: AsyncSession, person: t.Person) -> None:
    await db.flush()
    mine = select(t.Session).where(t.Session.person_id == person.id).order_by(t.Session.last_at.desc(), t.Session.id)
    for row in (await db.execute(mine.offset(MOST_SESSIONS))).scalars():
        await db.delete(row)


async def _knows(db: AsyncSession, person: t.Person, address: str) -> bool:
    place = (t.SignInPlace.person_id == person.id, t.SignInPlace.place == address[:60])
    return (await db.execute(select(t.SignInPlace.place).where(*place))).first() is not None


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
