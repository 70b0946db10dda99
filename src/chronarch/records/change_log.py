"""The change log: what changes records writes a row of it, in the same transaction.

A table says with `__change__` which kind of change its rows are, and with `__subject__` which column names the row.
Numbers are given out under a lock that is held until the commit, so that they become visible in order: whoever has read
up to a number has missed nothing before it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import BigInteger, String, delete, event, func, insert, select, text
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import Mapped, ORMExecuteState, Session, mapped_column

from chronarch.records.base import Base, UtcTime

MOST_NAMED = 50
"""A transaction that changes more rows of a kind says only that there are many."""
MANY = ""
KEPT_FOR = timedelta(days=1)
_CHANGES, _WRITTEN, _NOTICED = "changes", "written", "noticed"
"""Keys of a session's `info`: what has changed, what the log has of it, and whom to tell."""


@dataclass(frozen=True)
class LoggedChange:
    """One row of the log; `subject` is empty where many rows of the kind have changed."""

    number: int
    kind: str
    subject: str


Noticed = Callable[[Sequence[LoggedChange]], None]
"""Who hears of what a transaction has written to the log, once it is committed."""


class Change(Base):
    """One row of the change log: records of a kind have changed, and which one."""

    __tablename__ = "change_log"
    number: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    at: Mapped[datetime] = mapped_column(UtcTime, server_default=func.utc_timestamp(6), index=True)
    """Real time."""
    kind: Mapped[str] = mapped_column(String(24))
    subject: Mapped[str] = mapped_column(String(80))


class ChangeCounter(Base):
    """The newest number of the change log; its one row is locked while a change is committed."""

    __tablename__ = "change_counter"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    number: Mapped[int] = mapped_column(BigInteger)


class LoggedSession(Session):
    """A session that writes the change log. `info["noticed"]` gets what each commit wrote to it."""


def _note(session: Session, kind: str | None, subject: str) -> None:
    if kind is not None:
        session.info.setdefault(_CHANGES, {}).setdefault(kind, set()).add(subject)


def _subject_of(row: Any) -> str:
    return str(getattr(row, getattr(type(row), "__subject__", "id"), MANY) or MANY)[:80]


@event.listens_for(LoggedSession, "after_flush")
def _flushed(session: Session, context: object) -> None:
    for row in (*session.new, *session.deleted, *(r for r in session.dirty if session.is_modified(r))):
        _note(session, getattr(type(row), "__change__", None), _subject_of(row))


@event.listens_for(LoggedSession, "do_orm_execute")
def _executed(state: ORMExecuteState) -> None:
    if (state.is_update or state.is_delete or state.is_insert) and state.bind_mapper is not None:
        _note(state.session, getattr(state.bind_mapper.class_, "__change__", None), MANY)


@event.listens_for(LoggedSession, "before_commit")
def _committing(session: Session) -> None:
    session.flush()
    changes: dict[str, set[str]] = session.info.pop(_CHANGES, {})
    rows = [
        {"kind": kind, "subject": subject}
        for kind, subjects in sorted(changes.items())
        for subject in (sorted(subjects) if len(subjects) <= MOST_NAMED and MANY not in subjects else [MANY])
    ]
    if not rows:
        return
    taken = {"many": len(rows)}
    counted = session.execute(text("update change_counter set number = last_insert_id(number + :many)"), taken)
    last: int = counted.lastrowid  # type: ignore[attr-defined]
    first = last - len(rows) + 1
    session.execute(insert(Change.__table__), [{"number": first + n, **row} for n, row in enumerate(rows)])  # type: ignore[arg-type]
    session.info[_WRITTEN] = [LoggedChange(first + n, **row) for n, row in enumerate(rows)]


@event.listens_for(LoggedSession, "after_commit")
def _committed(session: Session) -> None:
    written = session.info.pop(_WRITTEN, None)
    if written and _NOTICED in session.info:
        session.info[_NOTICED](written)


@event.listens_for(LoggedSession, "after_rollback")
def _undone(session: Session) -> None:
    session.info.pop(_CHANGES, None)
    session.info.pop(_WRITTEN, None)


def session_info(noticed: Noticed | None) -> dict[str, Any]:
    """What a session is made with, so that `noticed` hears of what it commits."""
    return {_NOTICED: noticed} if noticed is not None else {}


async def changes_after(db: AsyncSession, number: int, most: int) -> list[LoggedChange]:
    """The changes after a number, oldest first, `most` at most."""
    query = select(Change.number, Change.kind, Change.subject).where(Change.number > number)
    rows = await db.execute(query.order_by(Change.number).limit(most))
    return [LoggedChange(*row) for row in rows]


async def span(db: AsyncSession) -> tuple[int, int]:
    """The number before the oldest row that is kept, and the newest number."""
    newest: int = (await db.execute(text("select number from change_counter"))).scalar_one()
    oldest = (await db.execute(select(func.min(Change.number)))).scalar()
    return (newest if oldest is None else oldest - 1), newest


async def forget_old(db: AsyncSession) -> None:
    """Remove rows that nobody will ask for any more; committed here."""
    kept_from = func.timestampadd(text("second"), -KEPT_FOR.total_seconds(), func.utc_timestamp())
    await db.execute(delete(Change.__table__).where(Change.at < kept_from))  # type: ignore[arg-type]
    await db.commit()
