"""Who is asking: people by their sessions, programs by their keys."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from math import inf
from typing import Any

from sqlalchemy import or_, select, update
from sqlalchemy.ext.asyncio import AsyncSession
from starlette.requests import HTTPConnection

from chronarch.core.access.rights import GIVEN_ROLES, Held, Right, Whereabouts
from chronarch.records import tables as t
from chronarch.records.access.holding import held_by, held_by_key
from chronarch.service.context import ServiceContext
from chronarch.service.problems import ApiProblem

COOKIE = "chronarch_session"
KEY_PREFIX = "chronarch_"


ALWAYS = datetime.max.replace(tzinfo=UTC)


@dataclass(frozen=True)
class Principal:
    """A person or a program that was let in. Exactly one of `person`, `key` and `helper` is its number."""

    name: str
    held: Held
    csrf: str = ""
    person: int = 0
    key: int = 0
    owner: int = 0
    """For a key: the number of the person whose it is; 0 for one of the shop's own."""
    helper: int = 0
    session: str = ""
    """The hash of the session token of a person."""
    shown_at: datetime = ALWAYS
    """When a person last showed who they are, real time; a key shows it each time."""
    second: bool = True
    """Whether a person has shown a second factor in this session."""
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

    @property
    def is_tender(self) -> bool:
        return Right.TENDER in self.held.places

    def may(self, right: Right, at: Whereabouts | None = None) -> bool:
        """Whether they may do something; without `at`, what is done at a machine may be done at one at least."""
        return self.held.may(right, at)

    def must(self, right: Right, at: Whereabouts | None = None) -> None:
        """Raises ApiProblem (403) where they may not."""
        if not self.may(right, at):
            raise refusal(self, right, at)


def refusal(who: Principal, right: Right, at: Whereabouts | None = None) -> ApiProblem:
    """What somebody hears who may not do something."""
    return ApiProblem(403, f"{who.held.lacks(right, at)}. Ask who manages people here.")


def hash_secret(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


def new_secret() -> str:
    return KEY_PREFIX + secrets.token_urlsafe(32)


def key_row(name: str, secret: str, role: str, now: datetime) -> dict[str, Any]:
    """The row of a key that may do what a given role may, everywhere."""
    rights = [right.value for right in Right if right in GIVEN_ROLES[role]]
    return {
        "name": name, "secret_hash": hash_secret(secret), "rights": rights, "places": [["shop", ""]],
        "created_at": now,
    }  # fmt: skip


KNOWN_FOR_S, MOST_KNOWN = 30.0, 5000
"""How long somebody is let in without asking the records, if no change of anybody's access is heard of; and how many
are remembered."""
USED_EVERY = timedelta(minutes=1)
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
        now = self._context.clock.real_now()
        async with self._context.sessions() as db:
            query = select(t.Key).where(or_(t.Key.secret_hash == secret, t.Key.old_secret_hash == secret))
            key = (await db.execute(query)).scalar_one_or_none()
            if key is None or key.revoked:
                raise ApiProblem(401, "This key is not known or was revoked; get a new one.")
            if key.secret_hash != secret and (key.old_until is None or key.old_until <= now):
                raise ApiProblem(401, "The secret of this key was changed; use the new one.")
            if key.expires_at is not None and key.expires_at <= now:
                raise ApiProblem(401, f"This key expired on {key.expires_at:%d %B %Y}; get a new one.")
            held = await held_by_key(db, key)
            await _used(db, t.Key.__table__, key, now)
        ends = [at.timestamp() for at in (key.expires_at, key.old_until if key.secret_hash != secret else None) if at]
        return Principal(key.name, held, key=key.id, owner=key.person_id or 0, tender=key.tender or ""), min(
            ends, default=inf
        )

    async def _by_session(self, token: str) -> tuple[Principal, float]:
        now = self._context.clock.real_now()
        query = (
            select(t.Session, t.Person.name)
            .join(t.Person, t.Person.id == t.Session.person_id)
            .where(t.Session.token_hash == token, t.Session.expires_at > now)
        )
        async with self._context.sessions() as db:
            found = (await db.execute(query)).first()
            if found is None:
                raise ApiProblem(401, UNKNOWN)
            session, name = found
            held = await held_by(db, session.person_id, session.second)
            await _used(db, t.Session.__table__, session, now)
        who = Principal(
            name, held, session.csrf, person=session.person_id, session=session.token_hash, shown_at=session.shown_at,
            second=session.second,
        )  # fmt: skip
        return who, session.expires_at.timestamp()


async def _used(db: AsyncSession, table: Any, row: t.Key | t.Session, now: datetime) -> None:
    """Remember that something was used, to the minute. Nobody is told: what anybody may do stays the same."""
    if row.last_at is None or now - row.last_at >= USED_EVERY:
        await db.execute(update(table).where(table.c.id == row.id).values(last_at=now))
        await db.commit()
