"""What follows of a suspicion: for the shop, a machine or a job."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path
from pydantic_core import to_jsonable_python
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Named
from chronarch.core.watching.watch_rules import WatchRule, WatchScope
from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import Fleet, TheFleet
from chronarch.service.problems import ApiProblem
from chronarch.wire.watching.watch import WatchRuleView, watch_rule

router = APIRouter(tags=["watch"], route_class=RetryingRoute)
Subject = Annotated[Named, Path(description="The machine's name; the number of a job; 0 for the shop.")]


@router.get("/watch-rules")
async def watch_rules(context: Context, fleet: TheFleet) -> list[WatchRuleView]:
    """All rules that have been set, the shop's first."""
    async with context.sessions() as db:
        order = t.WatchSetting.scope.desc(), t.WatchSetting.subject
        return [_view(fleet, row) for row in (await db.execute(select(t.WatchSetting).order_by(*order))).scalars()]


@router.get("/watch-rules/{scope}/{subject}")
async def watch_rule_of(scope: WatchScope, subject: Subject, context: Context, fleet: TheFleet) -> WatchRuleView:
    """What holds for something, and what that was set for."""
    async with context.sessions() as db:
        number = await _number(db, fleet, scope, subject)
        row = await db.get(t.WatchSetting, (scope, number))
        if row is not None:
            return _view(fleet, row)
        shop = await db.get(t.WatchSetting, (WatchScope.SHOP, 0))
    rule = watch_rule.validate_python(shop.rule) if shop else WatchRule()
    return WatchRuleView(scope=WatchScope.SHOP, rule=rule, own=False)


@router.put("/watch-rules/{scope}/{subject}")
async def set_watch_rule(
    scope: WatchScope, subject: Subject, rule: WatchRule, context: Context, fleet: TheFleet
) -> WatchRuleView:
    """Say what follows of suspicions about something from now on."""
    async with context.sessions() as db:
        number = await _number(db, fleet, scope, subject)
        row = await db.merge(t.WatchSetting(scope=scope, subject=number, rule=to_jsonable_python(rule)))
        await db.commit()
        return _view(fleet, row)


@router.delete("/watch-rules/{scope}/{subject}")
async def drop_watch_rule(scope: WatchScope, subject: Subject, context: Context, fleet: TheFleet) -> WatchRuleView:
    """Forget a rule. Returns what holds instead."""
    async with context.sessions() as db:
        row = await db.get(t.WatchSetting, (scope, await _number(db, fleet, scope, subject)))
        if row is None:
            raise ApiProblem(404, f"Nothing was set about the watch for {scope} {subject}.")
        await db.delete(row)
        await db.commit()
    return await watch_rule_of(scope, subject, context, fleet)


def _view(fleet: Fleet, row: t.WatchSetting) -> WatchRuleView:
    scope, subject = WatchScope(row.scope), str(row.subject)
    if scope is WatchScope.MACHINE:
        subject = next((k.row.name for k in fleet.all() if k.row.id == row.subject), subject)
    return WatchRuleView(scope=scope, subject=subject, rule=watch_rule.validate_python(row.rule))


async def _number(db: AsyncSession, fleet: Fleet, scope: WatchScope, subject: str) -> int:
    """The number of a rule's subject. Raises ApiProblem (404) when there is none such."""
    if scope is WatchScope.MACHINE:
        return fleet.find(subject).row.id
    number = int(subject) if subject.isascii() and subject.isdigit() and len(subject) < 10 else -1
    if (number != 0) if scope is WatchScope.SHOP else (await db.get(t.Job, number) is None):
        raise ApiProblem(404, f"There is no {scope} {subject!r}.")
    return number
