"""Idempotency-Key: a request that is sent twice is carried out once and answered twice in the same way."""

from __future__ import annotations

import hashlib
from collections.abc import Awaitable, Callable
from datetime import timedelta

from fastapi import Response
from pydantic import BaseModel
from sqlalchemy import delete
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import tables as t
from chronarch.records.audit import done_before
from chronarch.service.context import ServiceContext
from chronarch.service.problems import ApiProblem

KEPT_FOR = timedelta(days=3)
RUNNING = 0


def fingerprint(*parts: str) -> str:
    """What makes two requests the same."""
    return hashlib.sha256("\n".join(parts).encode()).hexdigest()


Work = Callable[["Note"], Awaitable[tuple[int, BaseModel]]]
Note = Callable[[AsyncSession, str], Awaitable[None]]
Resume = Callable[[str], Awaitable[tuple[int, BaseModel]]]


async def once(
    context: ServiceContext, who: str, key: str | None, request: str, work: Work, resume: Resume | None = None
) -> Response:
    """Carry out `work`, or answer as before. Raises ApiProblem (409, 422).

    `work` may leave a note in the same transaction that does it. If the service stops before it answers, the same
    request finds that note again, and `resume` says from it what became of the work.
    """
    if not key:
        return _answer(*await work(_no_note))
    if len(key) > 120:
        raise ApiProblem(400, "An Idempotency-Key may have 120 characters; use a shorter one.")
    now = context.clock.real_now()
    async with context.sessions() as db:
        await db.execute(delete(t.Answered).where(t.Answered.at < now - KEPT_FOR))
        db.add(t.Answered(who=who, key=key, request=request, status=RUNNING, body="", at=now))
        try:
            await db.commit()
        except IntegrityError:
            await db.rollback()
            before = await db.get(t.Answered, (who, key))
            if before is None:
                raise ApiProblem(409, "The same request was just refused; send it again.") from None
            if before.request == request and before.status == RUNNING and before.body and resume is not None:
                return await _finish(context, who, key, await resume(before.body))
            return _again(before, request)

    async def note(db: AsyncSession, text: str) -> None:
        (await db.get_one(t.Answered, (who, key))).body = text

    try:
        answer = await work(note)
    except BaseException:
        async with context.sessions() as db:
            await db.execute(delete(t.Answered).where(t.Answered.who == who, t.Answered.key == key))
            await db.commit()
        raise
    return await _finish(context, who, key, answer)


async def _no_note(db: AsyncSession, text: str) -> None:
    """Without a key nobody will ask again."""


async def forget_unfinished(context: ServiceContext) -> None:
    """When the service starts: work that had begun and left no note did not happen."""
    async with context.sessions() as db:
        await db.execute(delete(t.Answered).where(t.Answered.status == RUNNING, t.Answered.body == ""))
        await db.commit()


async def _finish(context: ServiceContext, who: str, key: str, answer: tuple[int, BaseModel]) -> Response:
    async with context.sessions() as db:
        row = await db.get_one(t.Answered, (who, key))
        row.status, row.body = answer[0], answer[1].model_dump_json()
        await db.commit()
    return _answer(*answer)


def _answer(status: int, body: BaseModel) -> Response:
    return Response(body.model_dump_json(), status, media_type="application/json")


def _again(before: t.Answered, request: str) -> Response:
    done_before()
    if before.request != request:
        raise ApiProblem(422, "This Idempotency-Key came with another request before; use a new key for a new request.")
    if before.status == RUNNING:
        text = "The first request with this Idempotency-Key is still being worked on; ask again in a moment."
        raise ApiProblem(409, text)
    headers = {"Idempotent-Replay": "true"}
    return Response(before.body, before.status, media_type="application/json", headers=headers)
