"""What has changed beyond chance: what the last pass found, a pass at once, and that somebody has seen it."""

from __future__ import annotations

from datetime import datetime

from fastapi import APIRouter
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number
from chronarch.core.ledger.change_point_kinds import CHANGE_POINTS, ChangePointKind, sentence
from chronarch.core.ledger.change_points import RATE
from chronarch.core.notices.kinds import NoticeKind
from chronarch.records import tables as t
from chronarch.records.notices.opening import close_notice
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.ledger.change_points import TheChangeFinder
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import fill
from chronarch.wire.ledger import change_points as w

router = APIRouter(tags=["report"], route_class=RetryingRoute)
MOST = 500


@router.get("/report/change-points")
async def change_points(context: Context, over: bool = False) -> w.ChangePointsReport:
    """What has changed beyond chance, as the last pass found it; `over`: also what is over, at most 500 of all."""
    async with context.sessions() as db:
        return await _report(db, over)


@router.post("/report/change-points")
async def look_now(context: Context, looking: TheChangeFinder) -> w.ChangePointsReport:
    """Look now instead of at night. Takes up to some minutes where very much was built."""
    await looking.run()
    async with context.sessions() as db:
        return await _report(db, over=False)


@router.post("/report/change-points/{number:record}/seen")
async def seen(number: Number, said: w.ChangePointSeen, who: Caller, context: Context) -> w.ChangePoint:
    """Somebody has seen it, and says what it is. Its notice is closed."""
    async with context.sessions() as db:
        row = await db.get(t.ChangePoint, number, with_for_update=True)
        if row is None:
            raise ApiProblem(404, f"There is no change point {number}; `chronarch report changed` shows what there is.")
        row.seen_by, row.seen_at, row.note = who.signature, context.clock.now(), said.note
        await close_notice(db, NoticeKind.WORTH_A_LOOK, number, row.seen_at)
        await db.commit()
        return _view(row)


async def _report(db: AsyncSession, over: bool) -> w.ChangePointsReport:
    last = (
        await db.execute(select(t.ChangePointPass).order_by(t.ChangePointPass.id.desc()).limit(1))
    ).scalar_one_or_none()
    order = (
        t.ChangePoint.over_at.is_not(None),
        t.ChangePoint.seen_at.is_not(None),
        t.ChangePoint.chance,
        t.ChangePoint.id.desc(),
    )
    query = select(t.ChangePoint).order_by(*order).limit(MOST)
    rows = (await db.execute(query if over else query.where(t.ChangePoint.over_at.is_(None)))).scalars()
    return w.ChangePointsReport(
        looked_at=last and last.at, looked_from=last and last.begin_at, series=last.series if last else 0, rate=RATE,
        change_points=[_view(row) for row in rows],
    )  # fmt: skip


def _view(row: t.ChangePoint) -> w.ChangePoint:
    kind = ChangePointKind(row.kind)
    facts = CHANGE_POINTS[kind]
    text, builds = sentence(kind, row.subject, row.before, row.after), _builds(facts.of, row.subject, row.since)
    return fill(w.ChangePoint, row, text=text, unit=facts.unit, builds=builds)


def _builds(of: str, subject: str, since: datetime) -> dict[str, str]:
    return {**({of: subject} if subject else {}), "ended_from": since.isoformat()}
