"""Who is asking: people by their sessions, programs by their keys."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass
from math import inf

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


KNOWN_FOR_S, MOST_KNOWN = 30.0, 5000
"""How long somebody is let in without asking the records, if no change of anybody's access is heard of; and how many
are remembered."""
UNKNOWN = "Sign in, or send a key as 'Authorization: Bearer KEY'."


class Callers:
    """Tells who is asking. Whoever was let in a moment ago is known without asking the records again, until anybody's
    access changes."""

    def __init__(self, context: ServiceContext) -> None:
        self._context = context
        self._known: dict[str, tuple[Principal, float]] = {}
        """By the hash of what they show: who it is, and until when that holds, real time in s."""
        self._version: tuple[int, ...] = ()

    async def identify(self, request: HTTPConnection) -> Principal:
        """Who is asking. Raises ApiProblem (401) when nobody we know."""
        header = request.headers.get("authorization", "")
        by_key = header[:7].lower() == "bearer "
        shown = header[7:].strip() if by_key else request.cookies.get(COOKIE, "")
        if not shown:
            raise ApiProblem(401, UNKNOWN)
        now, version = self._context.clock.real_now().timestamp(), self._context.changes.version("access")
        if version != self._version or len(self._known) >= MOST_KNOWN:
            self._version, self._known = version, {}
        secret = f"{by_key} {hash_secret(shown)}"
        who, until = self._known.get(secret, (None, 0.0))
        if who is None or now >= until:
            who, ends = await (self._by_key if by_key else self._by_session)(hash_secret(shown))
            if self._version == version == self._context.changes.version("access"):
                self._known[secret] = who, min(ends, now + KNOWN_FOR_S)
        return who

    async def _by_key(self, secret: str) -> tuple[Principal, float]:
        async with self._context.sessions() as db:
            key = (await db.execute(select(t.Key).where(t.Key.secret_hash == secret))).scalar_one_or_none()
        if key is None or key.revoked:
            raise ApiProblem(401, "This key is not known or was revoked; get a new one.")
        return Principal(key.name, Scope(key.scope), key=key.id, tender=key.tender or ""), inf

    async def _by_session(self, token: str) -> tuple[Principal, float]:
        query = (
            select(t.Session, t.Person.name, t.Person.scope)
            .join(t.Person, t.Person.id == t.Session.person_id)
            .where(t.Session.token_hash == token, t.Session.expires_at > self._context.clock.real_now())
        )
        async with self._context.sessions() as db:
            found = (await db.execute(query)).first()
        if found is None:
            raise ApiProblem(401, UNKNOWN)
        session, name, scope = found
        who = Principal(name, Scope(scope), session.csrf, person=session.person_id, session=session.token_hash)
        return who, session.expires_at.timestamp()
