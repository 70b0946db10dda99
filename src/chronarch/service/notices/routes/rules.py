"""What people want to hear of."""

from __future__ import annotations

from datetime import datetime, timedelta
from functools import partial

from fastapi import APIRouter
from pydantic_core import to_jsonable_python
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number
from chronarch.core.notices.notice_rules import NoticeRule, matches
from chronarch.records import tables as t
from chronarch.records.notices.opening import concerns
from chronarch.service.background import TheBackground
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import Fleet, TheFleet
from chronarch.service.notices.notice_router import NoticeRouter, TheNoticeRouter
from chronarch.service.notices.owners import check_owner, logins, mine, owner_of
from chronarch.service.notices.views import notice_views
from chronarch.service.permissions import Caller
from chronarch.service.planning.settings import load_settings
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import RequestDone
from chronarch.wire.notices import rules as w

router = APIRouter(tags=["notices"], route_class=RetryingRoute)
MOST_RULES = 50
LOOK_BACK = timedelta(days=7)
MOST_LOOKED_AT, MOST_SHOWN = 5000, 20


@router.get("/notice-rules")
async def rules(who: Caller, context: Context) -> list[w.NoticeRuleView]:
    """The rules of who asks and of the shop; all of them for a maintainer's key."""
    query = select(t.NoticeRule).where(mine(who, t.NoticeRule.person_id)).order_by(t.NoticeRule.id)
    async with context.sessions() as db:
        people = await logins(db)
        return [_view(row, people, who) for row in (await db.execute(query)).scalars()]


@router.post("/notice-rules", status_code=201)
async def add_rule(asked: w.NewNoticeRule, who: Caller, context: Context) -> w.NoticeRuleView:
    """Add a rule. Somebody without any hears on the page of what asks for hands."""
    async with context.sessions() as db:
        owner = await owner_of(db, who, asked.person)
        await _check(db, asked.rule, owner)
        many = select(func.count()).select_from(t.NoticeRule).where(t.NoticeRule.person_id == owner)
        if (await db.execute(many)).scalar_one() >= MOST_RULES:
            raise ApiProblem(409, f"There are {MOST_RULES} rules already; change one of them.")
        row = t.NoticeRule(person_id=owner, rule=to_jsonable_python(asked.rule))
        db.add(row)
        await db.commit()
        return _view(row, await logins(db), who)


@router.put("/notice-rules/{number:record}")
async def change_rule(number: Number, rule: NoticeRule, who: Caller, context: Context) -> w.NoticeRuleView:
    """Have a rule say something else."""
    async with context.sessions() as db:
        row = await _row(db, number, who)
        await _check(db, rule, row.person_id)
        row.rule = to_jsonable_python(rule)
        await db.commit()
        return _view(row, await logins(db), who)


@router.delete("/notice-rules/{number:record}")
async def remove_rule(number: Number, who: Caller, context: Context) -> RequestDone:
    async with context.sessions() as db:
        await db.delete(await _row(db, number, who))
        await db.commit()
    return RequestDone(text=f"Rule {number} is removed.")


@router.post("/notice-rules/try")
async def try_rule(
    asked: w.NewNoticeRule, who: Caller, context: Context, fleet: TheFleet, router: TheNoticeRouter,
    background: TheBackground,
) -> w.RuleTrial:  # fmt: skip
    """What a rule would have told in the week before now. Nothing is kept."""
    async with context.sessions() as db:
        owner = await owner_of(db, who, asked.person)
    return await background.run(partial(_trial, asked.rule, owner, context.clock.now(), fleet, router))


async def _trial(
    rule: NoticeRule, owner: int | None, now: datetime, fleet: Fleet, router: NoticeRouter, db: AsyncSession
) -> w.RuleTrial:
    planning, machines = await load_settings(db), router.machines()
    query = select(t.Notice).where(t.Notice.at > now - LOOK_BACK, concerns(owner or 0))
    rows = (await db.execute(query.order_by(t.Notice.id.desc()).limit(MOST_LOOKED_AT))).scalars().all()
    would: list[t.Notice] = []
    moments: set[object] = set()
    for row in rows:
        facts = router.facts(row, machines)
        at = router.when(rule, facts, row.at, planning) if matches(rule, facts) else None
        if at is not None:
            would.append(row)
            moments.add(at if at > row.at else (at, row.id))  # what is told at once is a message of its own
    newest = await notice_views(db, fleet, would[:MOST_SHOWN], None)
    return w.RuleTrial(since=now - LOOK_BACK, notices=len(would), messages=len(moments), newest=newest)


def _view(row: t.NoticeRule, people: dict[int | None, str], who: Caller) -> w.NoticeRuleView:
    return w.NoticeRuleView(
        id=row.id, person=people.get(row.person_id, ""), mine=bool(who.person) and row.person_id == who.person,
        rule=w.notice_rule.validate_python(row.rule),
    )  # fmt: skip


async def _row(db: AsyncSession, number: int, who: Caller) -> t.NoticeRule:
    row = await db.get(t.NoticeRule, number)
    if row is None:
        raise ApiProblem(404, f"There is no rule {number}; `chronarch notices rules` shows all.")
    check_owner(who, row.person_id)
    return row


async def _check(db: AsyncSession, rule: NoticeRule, owner: int | None) -> None:
    """Refuse (422) a rule that leads nowhere."""
    wanted = {*rule.channels, *(step.channel for step in rule.next_steps if step.channel is not None)}
    rows = {row.id: row for row in (await db.execute(select(t.Channel).where(t.Channel.id.in_(wanted)))).scalars()}
    for number in sorted(wanted):
        if number not in rows or rows[number].person_id != owner:
            raise ApiProblem(
                422, f"There is no channel {number} of the same person; `chronarch channels list` shows all."
            )
    known = {login.casefold() for login in (await logins(db)).values()}
    for step in rule.next_steps:
        if step.person and step.person.casefold() not in known:
            raise ApiProblem(422, f"There is nobody who signs in as {step.person!r} to be told next.")
    if owner is None and not rule.channels:
        raise ApiProblem(422, "A rule of the shop names the channels that it tells over.")
