"""Keeps `Job.open`: whatever changes a job or its builds writes it anew in the same transaction."""

from __future__ import annotations

from sqlalchemy import and_, event, func, select, update
from sqlalchemy.orm import Session

from chronarch.core.orders.states import Verdict
from chronarch.records.orders.tables import Build, Job

_CHANGED = "jobs"
"""Key of a session's `info`: the jobs that it has changed."""
_GOOD = (
    select(func.coalesce(func.sum(func.coalesce(Build.good_pieces, Build.pieces)), 0))
    .where(Build.job_id == Job.id, Build.verdict == Verdict.GOOD)
    .scalar_subquery()
)
IS_OPEN = and_(~Job.withdrawn, Job.copies > Job.from_stock + _GOOD)


def _flushed(session: Session, context: object) -> None:
    for row in (*session.new, *session.dirty):
        if isinstance(row, Job | Build):
            session.info.setdefault(_CHANGED, set()).add(row.id if isinstance(row, Job) else row.job_id)


def _committing(session: Session) -> None:
    session.flush()
    jobs = session.info.pop(_CHANGED, None)
    if not jobs:
        return
    # Only what is wrong is locked: whoever takes a copy of a job shares its row with others.
    wrong = session.execute(select(Job.id, IS_OPEN).where(Job.id.in_(jobs), Job.open != IS_OPEN)).all()
    for number, is_open in wrong:
        session.execute(
            update(Job).where(Job.id == number).values(open=bool(is_open)).execution_options(synchronize_session=False)
        )


def _undone(session: Session) -> None:
    session.info.pop(_CHANGED, None)


def keep_open_jobs(sessions: type[Session]) -> None:
    """Have the sessions of a class do so."""
    for name, listener in (("after_flush", _flushed), ("before_commit", _committing), ("after_rollback", _undone)):
        event.listen(sessions, name, listener)
