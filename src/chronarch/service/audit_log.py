"""Each request that changes something, and each refusal, leaves an entry in the audit."""

from __future__ import annotations

import logging
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass

from fastapi import Request
from sqlalchemy import insert, select
from sqlalchemy.exc import SQLAlchemyError

from chronarch.records import tables as t
from chronarch.records.audit import Act, doing, entry_of
from chronarch.service.context import ServiceContext, part_of
from chronarch.service.permissions import RULES, SIGNING_IN
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import SHOW_YOURSELF

REFUSED = frozenset({401, 403})
MOST_REFUSED, REFUSED_WITHIN_S = 60, 60.0
"""How many refusals are told in so many real seconds: whoever guesses does not fill the audit."""
log = logging.getLogger("chronarch.service")


@dataclass
class AuditLog:
    """Writes the entries that no change of a row has written."""

    context: ServiceContext
    _refused: int = 0
    _since_s: float = 0.0

    @asynccontextmanager
    async def telling(self, act: Act) -> AsyncIterator[Act]:
        """Do something within this; once it is done it is told, with or without rows."""
        with doing(act):
            yield act
        if act.plainly and not act.written:
            await self.write(act)

    async def write(self, act: Act, status: int = 0) -> None:
        """Tell of something without rows; `status` is that with which it was refused. What was done stays done though
        this cannot be written."""
        if status and not self.may_refuse():
            return
        try:
            async with self.context.sessions() as db:
                await db.execute(insert(t.AuditEntry.__table__), [entry_of(act, status=status)])  # type: ignore[arg-type]
                await db.commit()
            act.written = True
        except SQLAlchemyError as error:
            log.error("%s by %s is not in the audit: %s", act.act, act.who or "somebody", str(error).splitlines()[0])

    def may_refuse(self) -> bool:
        """Whether one more refusal is told now."""
        now_s = self.context.clock.monotonic_s()
        if now_s - self._since_s > REFUSED_WITHIN_S:
            self._refused, self._since_s = 0, now_s
        self._refused += 1
        return self._refused <= MOST_REFUSED

    async def person(self, login: str) -> str:
        """The identity of the person with a login, so that the audit has no login; empty without one."""
        async with self.context.sessions() as db:
            number = (await db.execute(select(t.Person.id).where(t.Person.login == login))).scalar_one_or_none()
        return f"person {number}" if number else ""


@asynccontextmanager
async def audited(request: Request, path: str) -> AsyncIterator[Act | None]:
    """Carry out a request within this; `path` is that of its route. Gives what is told of it, None for nothing."""
    if not RULES[request.method, path].told:
        yield None
        return
    audit = part_of(request, AuditLog)
    named = {k: str(v) for k, v in request.path_params.items()}
    if "login" in named:
        named["login"] = await audit.person(named["login"])
    address = request.client.host if request.client else ""
    act = Act(
        part_of(request, ServiceContext).clock.real_now(), "", f"{request.method} {path}", _subject(path, named),
        address, request.headers.get("user-agent", ""),
    )  # fmt: skip
    try:
        async with audit.telling(act):
            yield act
    except ApiProblem as error:
        told = error.status in REFUSED and error.kind != SHOW_YOURSELF and (act.who or path in SIGNING_IN)
        if told and not act.written:
            await audit.write(act, error.status)
        raise


def _subject(path: str, named: dict[str, str]) -> str:
    """What a request is about: its address up to the last name in it."""
    steps = path.strip("/").split("/")
    last = max((n for n, step in enumerate(steps) if "{" in step), default=0)
    return "/".join(named.get(step.strip("{}"), step) if "{" in step else step for step in steps[: last + 1])
