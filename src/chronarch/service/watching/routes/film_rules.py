"""How films are made: for the shop, a machine, a file, an order or a job."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path
from pydantic_core import to_jsonable_python
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Named
from chronarch.core.watching.film_settings import FilmScope, FilmSettings
from chronarch.records import tables as t
from chronarch.records.watching import films as records
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import Fleet, TheFleet
from chronarch.service.problems import ApiProblem
from chronarch.wire.watching.films import FilmRule, film_settings

router = APIRouter(tags=["films"], route_class=RetryingRoute)
TABLES: dict[FilmScope, type[t.Base]] = {
    FilmScope.JOB: t.Job, FilmScope.ORDER: t.Order, FilmScope.FILE: t.File, FilmScope.MACHINE: t.Machine,
}  # fmt: skip
Subject = Annotated[Named, Path(description="The machine's name; the number of a job, order or file; 0 for the shop.")]


@router.get("/film-rules")
async def film_rules(context: Context) -> list[FilmRule]:
    """All rules that have been set, the shop's first."""
    async with context.sessions() as db:
        rows = (await db.execute(select(t.FilmRule).order_by(t.FilmRule.scope.desc(), t.FilmRule.subject))).scalars()
        return [await _view(db, row) for row in rows]


@router.get("/film-rules/{scope}/{subject}")
async def film_rule(scope: FilmScope, subject: Subject, context: Context, fleet: TheFleet) -> FilmRule:
    """How films of something are made, and what that was set for."""
    async with context.sessions() as db:
        number = await _number(db, fleet, scope, subject)
        found = await records.rule_for(db, await _over(db, scope, number))
        if found is None:
            return FilmRule(scope=FilmScope.SHOP, settings=FilmSettings(), own=False)
        own = (found.scope, found.subject) == (scope, number)
        return (await _view(db, found)).model_copy(update={"own": own})


@router.put("/film-rules/{scope}/{subject}")
async def set_film_rule(
    scope: FilmScope, subject: Subject, settings: FilmSettings, context: Context, fleet: TheFleet
) -> FilmRule:
    """Say how films of something are made from now on. Builds that have begun keep theirs."""
    async with context.sessions() as db:
        number = await _number(db, fleet, scope, subject)
        row = await db.merge(t.FilmRule(scope=scope, subject=number, settings=to_jsonable_python(settings)))
        await db.commit()
        return await _view(db, row)


@router.delete("/film-rules/{scope}/{subject}")
async def drop_film_rule(scope: FilmScope, subject: Subject, context: Context, fleet: TheFleet) -> FilmRule:
    """Forget a rule. Returns what holds instead."""
    async with context.sessions() as db:
        row = await db.get(t.FilmRule, (scope, await _number(db, fleet, scope, subject)))
        if row is None:
            raise ApiProblem(404, f"No rule for films of {scope} {subject} was set.")
        await db.delete(row)
        await db.commit()
    return await film_rule(scope, subject, context, fleet)


async def _view(db: AsyncSession, row: t.FilmRule) -> FilmRule:
    scope = FilmScope(row.scope)
    subject = await db.get(TABLES[scope], row.subject) if scope in TABLES else None
    name = str(getattr(subject, "name", None) or getattr(subject, "customer", None) or "")
    return FilmRule(
        scope=scope, subject=name if scope is FilmScope.MACHINE else str(row.subject), name=name,
        settings=film_settings.validate_python(row.settings),
    )  # fmt: skip


async def _over(db: AsyncSession, scope: FilmScope, subject: int) -> dict[FilmScope, int]:
    """Something and what it belongs to."""
    found = {FilmScope.SHOP: 0, scope: subject}
    if scope is FilmScope.JOB:
        job = await db.get_one(t.Job, subject)
        found |= {FilmScope.ORDER: job.order_id} if job.order_id else {}
        found |= {FilmScope.FILE: job.file_id} if job.file_id else {}
    return found


async def _number(db: AsyncSession, fleet: Fleet, scope: FilmScope, subject: str) -> int:
    """The number of a rule's subject. Raises ApiProblem (404) when there is none such."""
    if scope is FilmScope.MACHINE:
        return fleet.find(subject).row.id
    number = int(subject) if subject.isascii() and subject.isdigit() and len(subject) < 10 else -1
    if (number != 0) if scope is FilmScope.SHOP else (await db.get(TABLES[scope], number) is None):
        raise ApiProblem(404, f"There is no {scope} {subject!r}.")
    return number
