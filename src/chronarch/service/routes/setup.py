"""What the shop decides of itself: hours, planning, spools, upkeep windows."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated

from fastapi import APIRouter, Query
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number
from chronarch.core.dispatch.shop import MEANING
from chronarch.core.states import PRODUCTIVE
from chronarch.records import spools as records
from chronarch.records import tables as t
from chronarch.service.access import Operator, Reader
from chronarch.service.again import AgainRoute
from chronarch.service.planning import load_settings
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import shop as w
from chronarch.wire.common import GivenTime
from chronarch.wire.work import Done

router = APIRouter(tags=["setup"], route_class=AgainRoute)
LONGEST = timedelta(days=120)


def _changed(shop: Shop, *kinds: str) -> None:
    shop.work.set()
    shop.hub.changed("setup", "plan", "jobs", "orders", *kinds)


@router.get("/planning")
async def planning(who: Reader, shop: TheShop) -> w.Planning:
    """How the shop plans."""
    async with shop.sessions() as db:
        return (await load_settings(db)).planning


@router.patch("/planning")
async def change_planning(change: w.PlanningUpdate, who: Operator, shop: TheShop) -> w.Planning:
    """Choose the strategy, say what hands take, and which reasons there are for scrap."""
    async with shop.sessions() as db:
        row = await db.get(t.Setting, "planning", with_for_update=True) or t.Setting(name="planning", value={})
        row.value = {**row.value, **change.model_dump(mode="json", exclude_none=True)}
        db.add(row)
        await db.commit()
        planning = (await load_settings(db)).planning
    _changed(shop)
    return planning


@router.get("/planning/strategies")
async def strategies(who: Reader) -> list[w.StrategyMeaning]:
    """The ways to choose the next build."""
    return [w.StrategyMeaning(strategy=s, meaning=meaning) for s, meaning in MEANING.items()]


@router.get("/hours")
async def hours(who: Reader, shop: TheShop) -> list[w.SiteHours]:
    """When hands are at each site; none for a shop that has not said: somebody is always there then."""
    async with shop.sessions() as db:
        return list((await load_settings(db)).hours.values())


@router.put("/hours")
async def set_hours(order: w.SiteHours, who: Operator, shop: TheShop) -> w.SiteHours:
    """Say when hands are at a site."""
    async with shop.sessions() as db:
        await db.merge(t.Site(name=order.site, hours=order.model_dump(mode="json")))
        await db.commit()
    _changed(shop)
    return order


@router.get("/hours/staffed")
async def staffed(
    who: Reader,
    shop: TheShop,
    begin: Annotated[GivenTime | None, Query()] = None,
    end: Annotated[GivenTime | None, Query()] = None,
) -> list[w.StaffedSpan]:
    """The spans in which somebody is there, by site; the next seven days without a span."""
    begin = begin or shop.clock.now()
    end = end or begin + timedelta(days=7)
    if not timedelta(0) < end - begin <= LONGEST:
        raise Refused(422, f"A span of more than nothing and at most {LONGEST.days} days may be asked for.")
    async with shop.sessions() as db:
        settings = await load_settings(db)
    sites = sorted({"", *settings.hours})
    return [
        w.StaffedSpan(site=site, begin=a, end=b) for site in sites for a, b in settings.core(site).spans(begin, end)
    ]


@router.get("/upkeep-windows")
async def upkeep(who: Reader, shop: TheShop) -> list[w.Upkeep]:
    """Spans in which machines may not build, from now on."""
    names = {k.row.id: k.row.name for k in shop.fleet.all()}
    query = select(t.UpkeepWindow).where(t.UpkeepWindow.end_at > shop.clock.now()).order_by(t.UpkeepWindow.begin_at)
    async with shop.sessions() as db:
        return [
            w.Upkeep(id=u.id, machine=names[u.machine_id], begin=u.begin_at, end=u.end_at, text=u.text)
            for u in (await db.execute(query)).scalars()
            if u.machine_id in names
        ]


@router.post("/upkeep-windows", status_code=201)
async def add_upkeep(order: w.UpkeepOrder, who: Operator, shop: TheShop) -> w.Upkeep:
    """Keep a machine free for upkeep: no build that would reach into the span starts there."""
    known = shop.fleet.find(order.machine)
    async with shop.sessions() as db:
        row = t.UpkeepWindow(machine_id=known.row.id, begin_at=order.begin, end_at=order.end, text=order.text)
        db.add(row)
        await db.commit()
    _changed(shop)
    return w.Upkeep(id=row.id, machine=known.row.name, begin=order.begin, end=order.end, text=order.text)


@router.delete("/upkeep-windows/{number:record}")
async def remove_upkeep(number: Number, who: Operator, shop: TheShop) -> Done:
    async with shop.sessions() as db:
        row = await db.get(t.UpkeepWindow, number)
        if row is None:
            raise Refused(404, f"There is no upkeep window {number}; it may be over.")
        await db.delete(row)
        await db.commit()
    _changed(shop)
    return Done(text="The machine may build then.")


# Spools --------------------------------------------------------------------------------------------------------


def _spool(shop: Shop, s: t.Spool) -> w.Spool:
    names = {k.row.id: k.row.name for k in shop.fleet.all()}
    return w.Spool(
        id=s.id, material=s.material, colour=s.colour, grams_full=s.grams_full, grams_left=s.grams_left,
        machine=names.get(s.machine_id or 0), tool=s.tool, place=s.place, finished=s.finished, added_at=s.added_at,
    )  # fmt: skip


async def _find_spool(db: AsyncSession, number: int) -> t.Spool:
    row = await db.get(t.Spool, number, with_for_update=True)
    if row is None:
        raise Refused(404, f"There is no spool {number}; `chronarch spools list` shows all.")
    return row


@router.get("/spools", tags=["spools"])
async def spools(who: Reader, shop: TheShop, finished: bool = False) -> list[w.Spool]:
    """Spools, by material and colour; finished ones too when asked."""
    query = select(t.Spool).order_by(t.Spool.material, t.Spool.colour, t.Spool.id)
    if not finished:
        query = query.where(~t.Spool.finished)
    async with shop.sessions() as db:
        return [_spool(shop, s) for s in (await db.execute(query)).scalars()]


@router.post("/spools", status_code=201, tags=["spools"])
async def add_spool(order: w.SpoolOrder, who: Operator, shop: TheShop) -> w.Spool:
    left = order.grams_full if order.grams_left is None else order.grams_left
    async with shop.sessions() as db:
        row = t.Spool(
            material=order.material, colour=order.colour, grams_full=max(order.grams_full, left), grams_left=left,
            place=order.place, added_at=shop.clock.now(),
        )  # fmt: skip
        db.add(row)
        await db.commit()
    _changed(shop, "spools")
    return _spool(shop, row)


@router.patch("/spools/{number:record}", tags=["spools"])
async def change_spool(number: Number, change: w.SpoolUpdate, who: Operator, shop: TheShop) -> w.Spool:
    """Correct what is left by weighing, say where it lies, or that it is finished."""
    async with shop.sessions() as db:
        row = await _find_spool(db, number)
        if change.grams_left is not None:
            text = f"weighed: {change.grams_left:.0f} g"
            records.note(db, row, shop.clock.now(), change.grams_left - row.grams_left, text, who.signature)
            row.grams_full = max(row.grams_full, change.grams_left)
        if change.place is not None:
            row.place = change.place
        if change.finished is not None:
            if change.finished and row.machine_id is not None:
                machine = await db.get_one(t.Machine, row.machine_id, with_for_update=True)
                machine.tools = [
                    {**tool, "material": "", "colour": ""} if tool.get("number", 0) == row.tool else tool
                    for tool in machine.tools
                ]
                row.machine_id = row.tool = None
            row.finished = change.finished
        await db.commit()
        await shop.fleet.load(db)
    _changed(shop, "spools")
    return _spool(shop, row)


@router.post("/spools/{number:record}/load", tags=["spools"])
async def load_spool(number: Number, order: w.LoadSpool, who: Operator, shop: TheShop) -> w.Spool:
    """Put a spool on a tool; what was there is on the shelf then. What waits for it starts."""
    known = shop.fleet.find(order.machine)
    if order.tool not in {tool.get("number", 0) for tool in known.row.tools}:
        raise Refused(422, f"{known.row.name} has no tool {order.tool}.")
    async with shop.sessions() as db:
        row = await _find_spool(db, number)
        machine = await db.get_one(t.Machine, known.row.id, with_for_update=True)
        _refuse_another_while_it_builds(machine, order.tool, row)
        await records.load(db, row, machine, order.tool)
        await db.commit()
        await shop.fleet.load(db)
    _changed(shop, "spools")
    return _spool(shop, row)


def _refuse_another_while_it_builds(machine: t.Machine, number: int, spool: t.Spool) -> None:
    """Nobody changes filament for another while it is being laid. Raises Refused (409)."""
    tool = next(tool for tool in machine.tools if tool.get("number", 0) == number)
    on = f"{tool['colour']} {tool['material']}".strip()
    wanted = f"{spool.colour} {spool.material}".strip()
    if machine.state in PRODUCTIVE and on and on.lower() != wanted.lower():
        raise Refused(
            409, f"{machine.name} is building with {on}; pause its build or wait for its end, then load {wanted}."
        )


@router.get("/spools/{number:record}/changes", tags=["spools"])
async def spool_changes(number: Number, who: Reader, shop: TheShop) -> list[w.SpoolEvent]:
    """What was taken from a spool, and what weighing it said; newest first."""
    query = select(t.SpoolChange).where(t.SpoolChange.spool_id == number).order_by(t.SpoolChange.id.desc()).limit(200)
    async with shop.sessions() as db:
        await _find_spool(db, number)
        return [w.SpoolEvent(at=c.at, grams=c.grams, text=c.text, by=c.by) for c in (await db.execute(query)).scalars()]
