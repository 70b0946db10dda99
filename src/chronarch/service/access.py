"""Who is asking, and what they may do: sessions for people, keys for programs."""

from __future__ import annotations

import asyncio
import hashlib
import secrets
import time
from collections import OrderedDict, deque
from dataclasses import dataclass
from datetime import timedelta
from functools import cache
from typing import Annotated

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error, InvalidHashError
from fastapi import Depends, Request
from sqlalchemy import delete, select
from starlette.requests import HTTPConnection

from chronarch.records import tables as t
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop, shop_of
from chronarch.wire.people import Me, Scope

COOKIE = "chronarch_session"
KEY_PREFIX = "chronarch_"
TRIES, TRIES_FROM_ONE_PLACE, TRIES_WITHIN_S = 10, 60, 60.0
"""So many tries an account, and an address, may have within so long."""
MOST_KNOWN = 10_000
"""Accounts and addresses that are remembered at once."""
HASHING, WAITING = 2, 20
"""So many passwords are compared at once, each takes a core and 64 MiB for a while; so many may wait for that."""
_ALLOWS = {
    Scope.READ: {Scope.READ},
    Scope.OPERATE: {Scope.READ, Scope.OPERATE},
    Scope.MAINTAIN: {Scope.READ, Scope.OPERATE, Scope.MAINTAIN},
    Scope.TENDER: {Scope.TENDER},
}
hasher = PasswordHasher()


@cache
def _nobody() -> str:
    """What a password is compared with where there is no such person, so that it takes as long."""
    return hasher.hash("nobody has this password")


@dataclass(frozen=True)
class Who:
    """A person or a program that was let in: exactly one of `person`, `key` and `helper` is its number."""

    name: str
    scope: Scope
    csrf: str = ""
    person: int = 0
    key: int = 0
    helper: int = 0
    session: str = ""
    """The hash of the session's token, of a person."""
    tender: str = ""
    """Of a tender's key: the tender it is bound to; empty before its first greeting."""

    @property
    def identity(self) -> str:
        """Who it is, whatever it is called."""
        return f"person {self.person}" if self.person else f"key {self.key}" if self.key else f"helper {self.helper}"

    @property
    def signature(self) -> str:
        """The name in the records: a person's name, which is unique, or a key's or helper's name with its number."""
        return self.name if self.person else f"{self.name} ({self.identity})"

    def may(self, scope: Scope) -> bool:
        return scope in _ALLOWS[self.scope]


def hash_secret(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


def new_secret() -> str:
    return KEY_PREFIX + secrets.token_urlsafe(32)


class Doorkeeper:
    """Slows down guessing. A try counts when it begins, so that many at once are many; one that succeeds is taken
    back."""

    def __init__(self) -> None:
        self._tries: OrderedDict[str, deque[float]] = OrderedDict()
        self._hashing = asyncio.Semaphore(HASHING)
        self._waiting = 0

    def begin(self, account: str, address: str) -> None:
        """Count a try. Raises Refused (429)."""
        for key, most in ((f"account {account}", TRIES), (f"address {address}", TRIES_FROM_ONE_PLACE)):
            tries = self._tries.setdefault(key, deque())
            self._tries.move_to_end(key)
            while tries and tries[0] < time.monotonic() - TRIES_WITHIN_S:
                tries.popleft()
            if len(tries) >= most:
                raise Refused(429, "Too many tries; wait a minute.")
            tries.append(time.monotonic())
        while len(self._tries) > MOST_KNOWN:
            self._tries.popitem(last=False)

    def succeeded(self, account: str, address: str) -> None:
        for key in (f"account {account}", f"address {address}"):
            if self._tries.get(key):
                self._tries[key].pop()

    async def verify(self, stored: str, password: str) -> bool:
        """Whether a password is the stored one; a few at a time. Raises Refused (503)."""
        if self._waiting >= WAITING:
            raise Refused(503, "Too many people sign in at this moment; try again.")
        self._waiting += 1
        try:
            async with self._hashing:
                return await asyncio.to_thread(_verify, stored, password)
        finally:
            self._waiting -= 1


def _verify(stored: str, password: str) -> bool:
    try:
        return hasher.verify(stored, password)
    except (Argon2Error, InvalidHashError):
        return False


async def sign_in(shop: Shop, login: str, password: str, address: str) -> tuple[str, Me]:
    """Open a session: its token for the cookie, and who it is. Raises Refused (401, 429, 503). No connection to the
    database is held while the password is compared."""
    async with shop.sessions() as db:
        person = (await db.execute(select(t.Person).where(t.Person.login == login))).scalar_one_or_none()
    account = str(person.id) if person else f"nobody {login.casefold()[:120]}"
    shop.door.begin(account, address)
    good = await shop.door.verify(person.password_hash if person else _nobody(), password)
    if person is None or not good:
        raise Refused(401, "Name or password is wrong.")
    shop.door.succeeded(account, address)
    token, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
    now = shop.clock.real_now()
    async with shop.sessions() as db:
        await db.execute(delete(t.Session).where(t.Session.expires_at < now))
        until = now + timedelta(hours=shop.settings.session_hours)
        db.add(t.Session(token_hash=hash_secret(token), person_id=person.id, csrf=csrf, expires_at=until))
        await db.commit()
    return token, Me(name=person.name, scope=Scope(person.scope), csrf=csrf)


async def sign_out(shop: Shop, token: str) -> None:
    async with shop.sessions() as db:
        await db.execute(delete(t.Session).where(t.Session.token_hash == hash_secret(token)))
        await db.commit()


async def identify(shop: Shop, request: HTTPConnection) -> Who:
    """Who is asking. Raises Refused (401) when nobody we know."""
    header = request.headers.get("authorization", "")
    token = request.cookies.get(COOKIE, "")
    async with shop.sessions() as db:
        if header.lower().startswith("bearer "):
            key = (
                await db.execute(select(t.Key).where(t.Key.secret_hash == hash_secret(header[7:].strip())))
            ).scalar_one_or_none()
            if key is None or key.revoked:
                raise Refused(401, "This key is not known or was revoked; get a new one.")
            return Who(key.name, Scope(key.scope), key=key.id, tender=key.tender or "")
        if token:
            found = (
                await db.execute(
                    select(t.Session, t.Person.name, t.Person.scope)
                    .join(t.Person, t.Person.id == t.Session.person_id)
                    .where(t.Session.token_hash == hash_secret(token), t.Session.expires_at > shop.clock.real_now())
                )
            ).first()
            if found:
                session = found[0]
                return Who(
                    found[1], Scope(found[2]), session.csrf, person=session.person_id, session=session.token_hash
                )
    raise Refused(401, "Sign in, or send a key as 'Authorization: Bearer KEY'.")


class Needs:
    """A dependency: lets in whoever has the scope; changes made with a session must carry its CSRF token."""

    def __init__(self, scope: Scope) -> None:
        self.scope = scope

    async def __call__(self, request: Request) -> Who:
        known: Who | None = getattr(request.state, "who", None)
        who = known or await identify(shop_of(request), request)
        if not who.may(self.scope):
            raise Refused(403, f"This key may {who.scope}; what you ask needs one that may {self.scope}.")
        changing = request.method not in ("GET", "HEAD")
        if changing and who.csrf and not secrets.compare_digest(who.csrf, request.headers.get("x-csrf-token", "")):
            raise Refused(403, "The X-CSRF-Token header is missing or wrong; sign in again.")
        return who


Reader = Annotated[Who, Depends(Needs(Scope.READ))]
Operator = Annotated[Who, Depends(Needs(Scope.OPERATE))]
Maintainer = Annotated[Who, Depends(Needs(Scope.MAINTAIN))]
TenderKey = Annotated[Who, Depends(Needs(Scope.TENDER))]
