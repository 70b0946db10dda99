"""Who is asking, and what they may do: sessions for people, keys for programs."""

from __future__ import annotations

import asyncio
import hashlib
import secrets
import time
from collections import defaultdict, deque
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
TRIES, TRIES_WITHIN_S = 10, 60.0
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
    """A person or a program that was let in."""

    name: str
    scope: Scope
    csrf: str = ""

    def may(self, scope: Scope) -> bool:
        return scope in _ALLOWS[self.scope]


def hash_secret(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


def new_secret() -> str:
    return KEY_PREFIX + secrets.token_urlsafe(32)


class Doorkeeper:
    """Slows down guessing: a login may fail so many times within so long."""

    def __init__(self) -> None:
        self._failures: defaultdict[str, deque[float]] = defaultdict(deque)

    def check(self, login: str) -> None:
        failures = self._failures[login.lower()]
        while failures and failures[0] < time.monotonic() - TRIES_WITHIN_S:
            failures.popleft()
        if len(failures) >= TRIES:
            raise Refused(429, "Too many tries with this name; wait a minute.")

    def failed(self, login: str) -> None:
        self._failures[login.lower()].append(time.monotonic())


def _verify(stored: str, password: str) -> bool:
    try:
        return hasher.verify(stored, password)
    except (Argon2Error, InvalidHashError):
        return False


async def sign_in(shop: Shop, login: str, password: str) -> tuple[str, Me]:
    """Open a session: its token for the cookie, and who it is. Raises Refused (401, 429)."""
    shop.door.check(login)
    async with shop.sessions() as db:
        person = (await db.execute(select(t.Person).where(t.Person.login == login))).scalar_one_or_none()
        stored = person.password_hash if person else _nobody()
        good = await asyncio.to_thread(_verify, stored, password)
        if person is None or not good:
            shop.door.failed(login)
            raise Refused(401, "Name or password is wrong.")
        token, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
        now = shop.clock.real_now()
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
            return Who(key.name, Scope(key.scope))
        if token:
            found = (
                await db.execute(
                    select(t.Session, t.Person.name, t.Person.scope)
                    .join(t.Person, t.Person.id == t.Session.person_id)
                    .where(t.Session.token_hash == hash_secret(token), t.Session.expires_at > shop.clock.real_now())
                )
            ).first()
            if found:
                return Who(found[1], Scope(found[2]), found[0].csrf)
    raise Refused(401, "Sign in, or send a key as 'Authorization: Bearer KEY'.")


class Needs:
    """A dependency: lets in whoever has the scope; changes made with a session must carry its CSRF token."""

    def __init__(self, scope: Scope) -> None:
        self._scope = scope

    async def __call__(self, request: Request) -> Who:
        who = await identify(shop_of(request), request)
        if not who.may(self._scope):
            raise Refused(403, f"This key may {who.scope}; what you ask needs one that may {self._scope}.")
        changing = request.method not in ("GET", "HEAD")
        if changing and who.csrf and not secrets.compare_digest(who.csrf, request.headers.get("x-csrf-token", "")):
            raise Refused(403, "The X-CSRF-Token header is missing or wrong; sign in again.")
        return who


Reader = Annotated[Who, Depends(Needs(Scope.READ))]
Operator = Annotated[Who, Depends(Needs(Scope.OPERATE))]
TenderKey = Annotated[Who, Depends(Needs(Scope.TENDER))]
