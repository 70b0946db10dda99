"""Opening, closing and finding notices. What opens one does so in the transaction that also writes what it is about."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any

from sqlalchemy import or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import AT_ONCE, KINDS, Gravity, NoticeCause, NoticeKind
from chronarch.records.notices.tables import Notice
from chronarch.records.orders.tables import Build, Job

LONGEST = 2000


async def open_notice(
    db: AsyncSession, kind: NoticeKind, at: datetime, text: str, *, subject: object = "",
    gravity: Gravity | None = None, **about: Any,
) -> Notice:  # fmt: skip
    """Open a notice. `subject` names what it is open for; while one is open for the same, that one is returned and says
    what is new. `about` are its further columns. What is simply said is closed at once."""
    facts = KINDS[kind]
    cause = NoticeCause(kind, str(subject)).key if subject != "" else ""
    if cause and (row := await open_for(db, cause)) is not None:
        row.text = text[:LONGEST]
        return row
    if about.get("build_id") is not None:
        of_build = select(Job.order_id).join(Build, Build.job_id == Job.id).where(Build.id == about["build_id"])
        about["order_id"] = (await db.execute(of_build)).scalar()
    row = Notice(at=at, kind=kind, gravity=gravity or facts.gravity, text=text[:LONGEST], cause=cause, **about)
    if facts.open_for == AT_ONCE or (facts.open_for and gravity is Gravity.NOTE):
        row.closed_at = at
    db.add(row)
    return row


async def open_for(db: AsyncSession, cause: str) -> Notice | None:
    """The notice that is open for a cause."""
    return (await db.execute(select(Notice).where(Notice.open_cause == cause))).scalar_one_or_none()


async def close_notice(db: AsyncSession, kind: NoticeKind, subject: object, at: datetime) -> None:
    """Close what is open for a cause that is gone."""
    row = await open_for(db, NoticeCause(kind, str(subject)).key)
    if row is not None:
        row.closed_at = at


async def said_before(db: AsyncSession, causes: Iterable[str]) -> set[str]:
    """Those of some causes that there was ever a notice of."""
    wanted = list(causes)
    if not wanted:
        return set()
    return set((await db.execute(select(Notice.cause).where(Notice.cause.in_(wanted)).distinct())).scalars())


def concerns(person: int) -> Any:
    """Whether a notice may concern a person: what is about another one alone does not."""
    return or_(Notice.person_id.is_(None), Notice.person_id == person)
