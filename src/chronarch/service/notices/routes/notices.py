"""Notices: finding them, taking one, doing something about it."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import Right
from chronarch.core.bounds import Counted, Number, Word
from chronarch.core.notices.kinds import KINDS, Gravity, NoticeAct, NoticeKind
from chronarch.core.watching.suspicion import FailureMode
from chronarch.records import tables as t
from chronarch.records.notices.opening import concerns
from chronarch.records.paging import number as by_number
from chronarch.records.word_search import all_words
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import Paged
from chronarch.service.http.views import TheViews
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.notices.acts import TheNoticeActs
from chronarch.service.notices.owners import logins
from chronarch.service.notices.views import notice_views
from chronarch.service.permissions import Caller
from chronarch.service.principals import Principal
from chronarch.service.problems import ApiProblem
from chronarch.service.whereabouts import of_number
from chronarch.wire.common import GivenTime, RequestDone
from chronarch.wire.notices import notices as w

router = APIRouter(tags=["notices"], route_class=RetryingRoute)


async def _read_to(db: AsyncSession, who: Principal) -> int | None:
    if not who.person:
        return None
    return (await db.execute(select(t.Person.notices_read).where(t.Person.id == who.person))).scalar_one()


@router.get("/notices", response_model=list[w.Notice])
async def notices(
    request: Request, page: Paged, who: Caller, context: Context, fleet: TheFleet, views: TheViews,
    open: bool = False, least: Gravity = Gravity.NOTE,
    kind: NoticeKind | None = None, machine: Word = "",
    build: Number | None = None, order: Number | None = None, search: Word = "",
    begin: GivenTime | None = None, end: GivenTime | None = None,
) -> Response:  # fmt: skip
    """Notices, newest first. `open`: only what is not over; `least`: no less grave than that; `search`: with all of
    these words."""
    query = select(t.Notice).where(concerns(who.person))
    if open:
        query = query.where(t.Notice.closed_at.is_(None))
    if least is not Gravity.NOTE:
        query = query.where(t.Notice.gravity.in_([g for g in Gravity if g.rank >= least.rank]))
    if kind is not None:
        query = query.where(t.Notice.kind == kind)
    if machine:
        query = query.where(t.Notice.machine_id == fleet.find(machine).row.id)
    if build is not None:
        query = query.where(t.Notice.build_id == build)
    if order is not None:
        query = query.where(t.Notice.order_id == order)
    if begin is not None:
        query = query.where(t.Notice.at >= begin)
    if end is not None:
        query = query.where(t.Notice.at < end)
    query = page.of(query.where(*all_words(search, t.Notice.text)), by_number(t.Notice.id, descending=True))

    async def work(db: AsyncSession) -> list[w.Notice]:
        rows = (await db.execute(query)).scalars().all()
        return await notice_views(db, fleet, page.cut(rows, lambda row: (row.id,)), await _read_to(db, who))

    state = (who.person, *context.changes.version("notices", "machines", "builds", "suspicions", "read"))
    return await views.read(request, list[w.Notice], work, state, page)


@router.get("/notices/standing")
async def standing(who: Caller, context: Context) -> w.NoticesStanding:
    """How many notices are open, by gravity, and how many of them this person has not read."""
    async with context.sessions() as db:
        read = await _read_to(db, who)
        mine = (t.Notice.closed_at.is_(None), concerns(who.person))
        rows = await db.execute(select(t.Notice.gravity, func.count()).where(*mine).group_by(t.Notice.gravity))
        counted = {str(gravity): many for gravity, many in rows}
        asks = t.Notice.gravity.in_([Gravity.ACT, Gravity.URGENT])
        fresh = select(func.count()).select_from(t.Notice).where(*mine, asks, t.Notice.id > (read or 0))
        unread = (await db.execute(fresh)).scalar_one()
    return w.NoticesStanding(**counted, unread=unread)


@router.get("/notice-kinds")
async def kinds() -> list[w.NoticeKindView]:
    """What there is to be told of."""
    return [
        w.NoticeKindView(kind=kind, gravity=f.gravity, text=f.text, counted=f.counted, acts=list(f.acts))
        for kind, f in KINDS.items()
    ]


@router.post("/notices/read")
async def read(up_to: Counted, who: Caller, context: Context) -> RequestDone:
    """This person has read all notices up to this number."""
    if not who.person:
        raise ApiProblem(409, "A key reads nothing; sign in as a person.")
    async with context.sessions() as db:
        row = await db.get_one(t.Person, who.person, with_for_update=True)
        row.notices_read = max(row.notices_read, up_to)
        await db.commit()
    context.changes.publish("read", "{}")
    return RequestDone(text="Marked as read.")


@router.get("/notices/{number:record}")
async def notice(number: Number, who: Caller, context: Context, fleet: TheFleet) -> w.Notice:
    """One notice."""
    async with context.sessions() as db:
        return await _view(db, number, who, fleet)


async def _view(db: AsyncSession, number: int, who: Principal, fleet: TheFleet) -> w.Notice:
    row = await db.get(t.Notice, number, populate_existing=True)
    if row is None or (row.person_id is not None and row.person_id != who.person):
        raise ApiProblem(404, f"There is no notice {number}; `chronarch notices list` shows the newest.")
    return (await notice_views(db, fleet, [row], await _read_to(db, who)))[0]


@router.get("/notices/{number:record}/told")
async def told(number: Number, who: Caller, context: Context, fleet: TheFleet) -> list[w.Told]:
    """Over which channels a notice was told, to whom, and how that went."""
    query = (
        select(t.Delivery, t.Channel.name, t.Channel.person_id)
        .join(t.Channel, t.Channel.id == t.Delivery.channel_id)
        .where(t.Delivery.notice_id == number)
        .order_by(t.Delivery.id)
    )
    async with context.sessions() as db:
        await _view(db, number, who, fleet)
        people = await logins(db)
        return [
            w.Told(
                channel=d.channel_id, name=name, person=people.get(person, ""), what=d.what, state=d.state,
                sent_at=d.sent_at, answer=d.answer, repeated=d.repeated,
            )
            for d, name, person in await db.execute(query)
        ]  # fmt: skip


@router.post("/notices/{number:record}/acts/{act}")
async def act(
    number: Number, act: NoticeAct, who: Caller, context: Context, fleet: TheFleet, acts: TheNoticeActs,
    mode: FailureMode | None = None,
) -> w.Notice:  # fmt: skip
    """Do something about a notice: say that one goes, pause its build, call it a false alarm … `mode`: what the watch
    has missed, where that is said."""
    async with context.sessions() as db:
        await _view(db, number, who, fleet)
    await acts.do(number, act, who, mode)
    async with context.sessions() as db:
        return await _view(db, number, who, fleet)


@router.delete("/notices/{number:record}/acts/going")
async def not_going(number: Number, who: Caller, context: Context, fleet: TheFleet, acts: TheNoticeActs) -> w.Notice:
    """Nobody goes after all."""
    await acts.give_back(number, who)
    async with context.sessions() as db:
        return await _view(db, number, who, fleet)


@router.post("/notices/{number:record}/close")
async def close(number: Number, who: Caller, context: Context, fleet: TheFleet) -> w.Notice:
    """Say that a notice is dealt with. What closes by itself once its cause is gone stays open until then."""
    async with context.sessions() as db:
        before = await _view(db, number, who, fleet)
        if before.closed_at is not None:
            raise ApiProblem(409, f"Notice {number} is over already.")
        if not before.by_hand:
            raise ApiProblem(409, f"Notice {number} closes by itself once that is no longer so; take it meanwhile.")
        row = await db.get_one(t.Notice, number, with_for_update=True)
        who.must(Right.OPERATE, await of_number(db, row.machine_id))
        row.closed_at, row.closed_by = context.clock.now(), who.signature
        await db.commit()
        return await _view(db, number, who, fleet)
