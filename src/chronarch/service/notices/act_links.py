"""Links in messages that let one person do one thing about one notice, once and for a while."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
from dataclasses import asdict, dataclass
from datetime import timedelta
from functools import cached_property
from typing import Annotated

from sqlalchemy import delete
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import NoticeAct
from chronarch.core.watching.suspicion import FailureMode
from chronarch.records import tables as t
from chronarch.records.access.holding import held_by
from chronarch.records.audit import acts_as, acts_on
from chronarch.service.context import ServiceContext, part
from chronarch.service.notices.acts import (
    AT_MACHINES,
    NoticeActs,
    Stand,
    frame_of,
    place_in,
    possible,
    sentence,
    stands,
    why_not,
)
from chronarch.service.principals import Principal
from chronarch.service.problems import ApiProblem
from chronarch.service.secrets import Secrets
from chronarch.wire.common import fill
from chronarch.wire.notices.acting import ActPreview

GOOD_FOR = timedelta(hours=12)
"""Real time."""
LONGEST = 600
NOT_OURS = "This link is not one of ours, or was cut short; open the notice in the console instead."


@dataclass(frozen=True)
class Granted:
    """What a link lets one do. `mark` is how the build stood when it was written."""

    notice: int
    person: int
    act: NoticeAct
    mark: str
    until: int
    """Real time, seconds since 1970."""


@dataclass
class ActLinks:
    """Writes and reads links. They are signed (HMAC-SHA-256), so that nothing is kept of a link until it is used."""

    context: ServiceContext
    acts: NoticeActs
    secrets: Secrets

    @cached_property
    def _key(self) -> bytes:
        return self.secrets.derived("links of messages")

    def write(self, stand: Stand, person: int, act: NoticeAct) -> str:
        """The token of a link."""
        until = int((self.context.clock.real_now() + GOOD_FOR).timestamp())
        granted = Granted(stand.notice.id, person, act, stand.mark if act in AT_MACHINES else "", until)
        body = base64.urlsafe_b64encode(json.dumps(list(asdict(granted).values())).encode()).rstrip(b"=")
        return f"{body.decode()}.{self._signature(body)}"

    def _signature(self, body: bytes) -> str:
        return base64.urlsafe_b64encode(hmac.digest(self._key, body, hashlib.sha256)).rstrip(b"=").decode()

    def read(self, token: str) -> Granted:
        """Raises ApiProblem (401, 410)."""
        body, _, signature = token[:LONGEST].partition(".")
        if not hmac.compare_digest(self._signature(body.encode()).encode(), signature.encode()):
            raise ApiProblem(401, NOT_OURS)
        notice, person, act, mark, until = json.loads(base64.urlsafe_b64decode(body + "=" * (-len(body) % 4)))
        if until < self.context.clock.real_now().timestamp():
            raise ApiProblem(410, "This link has expired; open the notice in the console instead.")
        return Granted(notice, person, NoticeAct(act), mark, until)

    async def preview(self, token: str) -> ActPreview:
        """What a link would do. Nothing is done."""
        granted = self.read(token)
        async with self.context.sessions() as db:
            stand, person, refusal = await self._look(db, granted)
            frame = await frame_of(db, stand)
        row = stand.notice
        return fill(
            ActPreview, granted, text=sentence(granted.act, stand), why_not=refusal, notice=row.id, said=row.text,
            at=row.at, machine=stand.machine, build=row.build_id, person=person.name,
            has_picture=frame is not None,
        )  # fmt: skip

    async def _look(self, db: AsyncSession, granted: Granted) -> tuple[Stand, t.Person, str]:
        """How what it is about stands, for whom it is, and why it cannot be done any more."""
        row, person = await db.get(t.Notice, granted.notice), await db.get(t.Person, granted.person)
        if row is None or person is None:
            raise ApiProblem(410, "What this link is about is not there any more.")
        stand = await stands(db, row)
        used = await db.get(t.ActUse, (granted.notice, granted.person, granted.act))
        if used is not None:
            return stand, person, "This link was used before; it works once."
        changed = granted.act in AT_MACHINES and granted.mark != stand.mark
        if changed or granted.act not in possible(stand):
            refusal = why_not(granted.act, stand)
            return stand, person, f"{refusal} What it was about has changed since." if changed else refusal
        return stand, person, ""

    async def use(self, token: str, mode: FailureMode | None = None) -> str:
        """Do what a link says, once; `mode` is what the watch has missed. Raises ApiProblem; then nothing was done, and
        it can be used again."""
        granted = self.read(token)
        acts_as(f"person {granted.person}")
        acts_on(f"notice {granted.notice}: {granted.act}")
        async with self.context.sessions() as db:
            _, person, refusal = await self._look(db, granted)
            if refusal:
                raise ApiProblem(409, refusal)
            db.add(
                t.ActUse(
                    notice_id=granted.notice, person_id=granted.person, act=granted.act,
                    at=self.context.clock.real_now(),
                )
            )  # fmt: skip
            who = Principal(person.name, await held_by(db, person.id), person=person.id)
            try:
                await db.commit()
            except IntegrityError:
                raise ApiProblem(409, "This link was used before; it works once.") from None
        try:
            return await self.acts.do(granted.notice, granted.act, who, mode)
        except ApiProblem:
            async with self.context.sessions() as db:
                mine = (t.ActUse.notice_id == granted.notice, t.ActUse.person_id == granted.person)
                await db.execute(delete(t.ActUse).where(*mine, t.ActUse.act == granted.act))
                await db.commit()
            raise

    async def picture(self, token: str) -> tuple[str, list[float] | None]:
        """The hash of the frame that shows what a link is about, empty without one; and the place in it."""
        granted = self.read(token)
        async with self.context.sessions() as db:
            row = await db.get(t.Notice, granted.notice)
            stand = await stands(db, row) if row is not None else None
            frame = await frame_of(db, stand) if stand is not None else None
        return (frame.sha256, place_in(stand)) if stand is not None and frame is not None else ("", None)


TheActLinks = Annotated[ActLinks, part(ActLinks)]
