"""Prices, and what builds, parts and orders cost."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from fastapi import APIRouter
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number, Word
from chronarch.core.ledger import costs as core
from chronarch.core.orders.states import Verdict
from chronarch.core.time_range import TimeRange
from chronarch.records import tables as t
from chronarch.records.ledger.costs import cost_facts, cost_of, kept_costs, load_prices, rate_of, work_out_again
from chronarch.records.orders import orders as order_records
from chronarch.service.context import Context
from chronarch.service.control.builds import find_build
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.ledger.costs import keep_cost_settings, load_cost_settings, places_of
from chronarch.service.ledger.prices import set_price
from chronarch.service.ledger.quoting import WayToMake, any_of_part, load_quoting
from chronarch.service.library.content_facts import TheContentFacts
from chronarch.service.library.finding import find_part
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.orders.waiting_jobs import WaitingJob, jobs_as_they_are
from chronarch.service.permissions import Caller
from chronarch.service.planning.planner import Planner, ThePlanner
from chronarch.service.planning.settings import load_settings
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import RequestDone, fill
from chronarch.wire.ledger import costs as w

router = APIRouter(tags=["costs"], route_class=RetryingRoute)


@router.get("/costs/settings")
async def cost_settings(context: Context) -> w.CostSettings:
    """The currency, the smallest amount that people pay in, and the margin of prices."""
    async with context.sessions() as db:
        return await load_cost_settings(db)


@router.put("/costs/settings")
async def set_cost_settings(asked: w.CostSettings, context: Context) -> w.CostSettings:
    """Set them. Another currency converts nothing: prices are what they were, in the new one."""
    async with context.sessions() as db:
        await keep_cost_settings(db, asked)
        await db.commit()
    return asked


@router.get("/costs/rates")
async def rates(context: Context) -> list[w.CostRate]:
    """All prices, each from when it holds, the newest of each first."""
    order = t.CostRate.kind, t.CostRate.subject, t.CostRate.since.desc()
    async with context.sessions() as db:
        return [_rate(row) for row in (await db.execute(select(t.CostRate).order_by(*order))).scalars()]


@router.post("/costs/rates", status_code=201)
async def set_rate(asked: w.NewRate, who: Caller, context: Context) -> w.CostRate:
    """Set a price from a time on; it takes the place of one that was set from the very same time. The costs of builds
    that began since then are worked out anew."""
    async with context.sessions() as db:
        row = await set_price(db, asked, who.signature, context.clock.now())
        await db.commit()
        return _rate(row)


@router.delete("/costs/rates/{number}")
async def forget_rate(number: Number, context: Context) -> RequestDone:
    """Take a price away. The one before it holds on, and costs are worked out anew."""
    async with context.sessions() as db:
        row = await db.get(t.CostRate, number, with_for_update=True)
        if row is None:
            raise ApiProblem(404, f"There is no price {number}; `chronarch costs rates` shows them.")
        await work_out_again(db, row.since)
        await db.delete(row)
        await db.commit()
    return RequestDone(text=f"The price of {row.subject or row.kind} is taken away.")


def _rate(row: t.CostRate) -> w.CostRate:
    hours = [w.HoursPrice(begin=begin, end=end, price=price) for begin, end, price in rate_of(row).hours]
    return fill(w.CostRate, row, hours=hours, machine=row.made_of and w.MachineHour.model_validate(row.made_of))


@router.get("/builds/{number:record}/cost")
async def build_cost(number: Number, context: Context, fleet: TheFleet) -> w.BuildCost:
    """What a build cost, or has cost up to now."""
    async with context.sessions() as db:
        build = (await find_build(db, number))[0]
        settings = await load_cost_settings(db)
        cost = (await kept_costs(db, [number])).get(number)
        if cost is None:
            planning = await load_settings(db)
            facts = await cost_facts(db, [build], places_of(fleet, planning), planning.planning.clear_min)
            prices = await load_prices(db)
            cost = prices.cost(facts[number]) if number in facts else core.Cost({})
    good = (build.pieces if build.good_pieces is None else build.good_pieces) if build.verdict == Verdict.GOOD else 0
    each = core.rounded(cost.total / good, settings.step) if good else None
    return w.BuildCost(
        build=number,
        currency=settings.currency,
        cost=_shown(cost, settings.step),
        good_pieces=good,
        per_good_piece=each,
    )


@router.get("/parts/{which}/cost")
async def part_cost(which: Word, context: Context, fleet: TheFleet, facts: TheContentFacts) -> w.PartCosts:
    """What a part should cost from each of its files on each model that can make it, the cheapest way first."""
    async with context.sessions() as db:
        part = await find_part(db, which)
        wish = await any_of_part(db, facts, part)
        quoting = await load_quoting(db, fleet, context.clock.now(), [wish])
        settings = await load_cost_settings(db)
    return w.PartCosts(
        part=part.name, currency=settings.currency, ways=[_way(way, settings.step) for way in quoting.ways(wish)]
    )


def _way(way: WayToMake, step: Decimal) -> w.PartCost:
    low, high = way.scrap_range
    return w.PartCost(
        file=way.variant.name, revision=way.variant.revision, model=way.model, pieces=way.variant.pieces,
        takes_s=way.takes_s, each=_shown(way.each, step), scrap=core.rounded(way.scrap_each, step),
        scrap_share=float(way.expected_scrap), low=low, high=high, judged=way.judged,
    )  # fmt: skip


@router.get("/orders/{number:record}/cost")
async def order_cost(
    number: Number, context: Context, fleet: TheFleet, facts: TheContentFacts, planner: ThePlanner
) -> w.OrderCost:
    """What an order should cost, for what it may be offered, and what it has cost up to now, with the scrap."""
    async with context.sessions() as db:
        if await db.get(t.Order, number) is None:
            raise ApiProblem(404, f"There is no order {number}; `chronarch orders list --all` shows all.")
        jobs = (await order_records.jobs_of(db, [number]))[number]
        wishes = await jobs_as_they_are(db, facts, jobs)
        quoting = await load_quoting(db, fleet, context.clock.now(), wishes)
        settings = await load_cost_settings(db)
        real = await _real(db, [job.id for job in jobs])
    step = settings.step
    best = {wish.job.id: next(iter(quoting.ways(wish)), None) for wish in wishes}
    quoted, quoted_each = core.shown([_quoted(wish, best[wish.job.id]) for wish in wishes], step)
    spent, spent_each = core.shown([core.added(cost for cost, _ in real.get(wish.job.id, [])) for wish in wishes], step)
    price = core.price(quoted.total, settings.margin, step)
    prices = core.shared(price, [cost.total for cost in quoted_each], step) if quoted.total else None
    lines = []
    for n, wish in enumerate(wishes):
        builds, offered = real.get(wish.job.id, []), prices[n] if prices else None
        lines.append(_line(wish, best[wish.job.id], quoted_each[n], offered, spent_each[n], builds, step))
    return w.OrderCost(
        order=number, currency=settings.currency, margin=settings.margin, lines=lines, quoted=_cost(quoted),
        quoted_scrap=sum((line.quoted_scrap for line in lines), Decimal(0)), real=_cost(spent),
        scrap=sum((line.scrap for line in lines), Decimal(0)), price=price, ready=await _ready(planner, jobs),
    )  # fmt: skip


async def _ready(planner: Planner, jobs: Sequence[t.Job]) -> TimeRange | None:
    """When all of it is complete, if what is held of it is released now."""
    wanted = [job.id for job in jobs if job.open]
    if not wanted:
        return None
    held = any(job.held for job in jobs if job.open)
    plan = await planner.released(wanted) if held else await planner.shown()
    return plan.forecast.together(wanted, None, set(wanted) - plan.waiting.keys()).when


Builds = list[tuple[core.Cost, bool]]
"""Costs of builds, and whether each was scrap."""


async def _real(db: AsyncSession, jobs: list[int]) -> dict[int, Builds]:
    """What the builds of jobs cost, of those whose bed is clear."""
    query = select(t.Build.job_id, t.Build.verdict, t.BuildCost).join(t.BuildCost, t.BuildCost.build_id == t.Build.id)
    found: dict[int, Builds] = {}
    for job, verdict, row in await db.execute(query.where(t.Build.job_id.in_(jobs))):
        found.setdefault(job, []).append((cost_of(row), verdict == Verdict.SCRAP))
    return found


def _quoted(wish: WaitingJob, best: WayToMake | None) -> core.Cost:
    return core.Cost({}) if best is None else core.times(best.each, _wanted(wish))


def _wanted(wish: WaitingJob) -> int:
    return max(0, wish.copies.wanted - wish.job.from_stock)


def _line(
    wish: WaitingJob, best: WayToMake | None, quoted: core.Cost, price: Decimal | None, real: core.Cost, builds: Builds,
    step: Decimal,
) -> w.CostLine:  # fmt: skip
    scrap = sum((cost.total for cost, was_scrap in builds if was_scrap), Decimal(0))
    return w.CostLine(
        job=wish.job.id, name=wish.name, quantity=wish.copies.wanted, made=wish.copies.good,
        quoted=_cost(quoted) if best else None, made_on=best.model if best else "", price=price if best else None,
        quoted_scrap=core.rounded(best.scrap_each * _wanted(wish), step) if best else Decimal(0),
        real=_cost(real), scrap=core.rounded(scrap, step),
    )  # fmt: skip


def _cost(cost: core.Cost) -> w.Cost:
    return w.Cost(parts=dict(cost.parts), total=cost.total, unpriced=sorted(cost.unpriced))


def _shown(cost: core.Cost, step: Decimal) -> w.Cost:
    return _cost(core.shown([cost], step)[0])
