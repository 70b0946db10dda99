"""Who is asking, and what they may do: sessions for people, keys for programs."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass
from typing import Annotated

from fastapi import Depends, Request
from sqlalchemy import select
from starlette.requests import HTTPConnection

from chronarch.records import tables as t
from chronarch.service.context import ServiceContext, part_of
from chronarch.service.problems import ApiProblem
from chronarch.wire.access import Scope

COOKIE = "chronarch_session"
KEY_PREFIX = "chronarch_"
_ALLOWS = {
    Scope.READ: {Scope.READ},
    Scope.OPERATE: {Scope.READ, Scope.OPERATE},
    Scope.MAINTAIN: {Scope.READ, Scope.OPERATE, Scope.MAINTAIN},
    Scope.TENDER: {Scope.TENDER},
}


@dataclass(frozen=True)
class Principal:
    """A person or a program that was let in. Exactly one of `person`, `key` and `helper` is its number."""

    name: str
    scope: Scope
    csrf: str = ""
    person: int = 0
    key: int = 0
    helper: int = 0
    session: str = ""
    """The hash of the session token of a person."""
    tender: str = ""
    """For the key of a tender: the tender that it is bound to; empty before its first greeting."""

    @property
    def identity(self) -> str:
        """Who it is, independent of names."""
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


async def identify(context: ServiceContext, request: HTTPConnection) -> Principal:
    """Who is asking. Raises ApiProblem (401) when nobody we know."""
    header = request.headers.get("authorization", "")
    token = request.cookies.get(COOKIE, "")
    async with context.sessions() as db:
        if header.lower().startswith("bearer "):
            key = (
                await db.execute(select(t.Key).where(t.Key.secret_hash == hash_secret(header[7:].strip())))
            ).scalar_one_or_none()
            if key is None or key.revoked:
                raise ApiProblem(401, "This key is not known or was revoked; get a new one.")
            return Principal(key.name, Scope(key.scope), key=key.id, tender=key.tender or "")
        if token:
            found = (
                await db.execute(
                    select(t.Session, t.Person.name, t.Person.scope)
                    .join(t.Person, t.Person.id == t.Session.person_id)
                    .where(t.Session.token_hash == hash_secret(token), t.Session.expires_at > context.clock.real_now())
                )
            ).first()
            if found:
                session = found[0]
                return Principal(
                    found[1], Scope(found[2]), session.csrf, person=session.person_id, session=session.token_hash
                )
    raise ApiProblem(401, "Sign in, or send a key as 'Authorization: Bearer KEY'.")


class RequireScope:
    """A dependency that lets in whoever has the scope. A change made with a session must carry its CSRF token."""

    def __init__(self, scope: Scope) -> None:
        self.scope = scope

    async def __call__(self, request: Request) -> Principal:
        known: Principal | None = getattr(request.state, "who", None)
        who = known or await identify(part_of(request, ServiceContext), request)
        if not who.may(self.scope):
            raise ApiProblem(403, f"This key may {who.scope}; what you ask needs one that may {self.scope}.")
        changing = request.method not in ("GET", "HEAD")
        if changing and who.csrf and not secrets.compare_digest(who.csrf, request.headers.get("x-csrf-token", "")):
            raise ApiProblem(403, "The X-CSRF-Token header is missing or wrong; sign in again.")
        return who


Reader = Annotated[Principal, Depends(RequireScope(Scope.READ))]
Operator = Annotated[Principal, Depends(RequireScope(Scope.OPERATE))]
Maintainer = Annotated[Principal, Depends(RequireScope(Scope.MAINTAIN))]
TenderKey = Annotated[Principal, Depends(RequireScope(Scope.TENDER))]
