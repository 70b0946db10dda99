"""Who is asking: people by their sessions, programs by their keys."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass

from sqlalchemy import select
from starlette.requests import HTTPConnection

from chronarch.records import tables as t
from chronarch.service.context import ServiceContext
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
