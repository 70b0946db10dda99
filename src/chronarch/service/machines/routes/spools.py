"""Spools."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import Right
from chronarch.core.bounds import Number
from chronarch.core.machines.states import PRODUCTIVE
from chronarch.records import tables as t
from chronarch.records.ledger.costs import work_out_again
from chronarch.records.machines import spools as records
from chronarch.records.paging import number, words
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import ManyPaged
from chronarch.service.http.views import TheViews
from chronarch.service.machines.fleet import Fleet, TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.service.whereabouts import of_machine
from chronarch.wire.common import fill
from chronarch.wire.machines import spools as w

router = APIRouter(tags=["spools"], route_class=RetryingRoute)

# Spools --------------------------------------------------------------------------------------------------------


def _spool(fleet: Fleet, s: t.Spool) -> w.Spool:
    names = {k.row.id: k.row.name for k in fleet.all()}
    return fill(w.Spool, s, machine=names.get(s.machine_id or 0))


async def _find_spool(db: AsyncSession, number: int) -> t.Spool:
    row = await db.get(t.Spool, number, with_for_update=True)
    if row is None:
        raise ApiProblem(404, f"There is no spool {number}; `chronarch spools list` shows all.")
    return row


@router.get("/spools", response_model=list[w.Spool])
async def spools(
    request: Request,
    page: ManyPaged,
    context: Context,
    fleet: TheFleet,
    views: TheViews,
    finished: bool = False,
) -> Response:
    """Spools, by material and colour; finished ones too when asked."""
    query = select(t.Spool) if finished else select(t.Spool).where(~t.Spool.finished)
    query = page.of(query, words(t.Spool.material), words(t.Spool.colour), number(t.Spool.id))
    names = {k.row.id: k.row.name for k in fleet.all()}

    async def work(db: AsyncSession) -> list[w.Spool]:
        rows = page.cut((await db.execute(query)).scalars().all(), lambda s: (s.material, s.colour, s.id))
        return [fill(w.Spool, s, machine=names.get(s.machine_id or 0)) for s in rows]

    return await views.read(request, list[w.Spool], work, context.changes.version("spools", "machines"), page)


@router.post("/spools", status_code=201)
async def add_spool(asked: w.NewSpool, context: Context, fleet: TheFleet) -> w.Spool:
    left = asked.grams_full if asked.grams_left is None else asked.grams_left
    async with context.sessions() as db:
        row = t.Spool(
            material=asked.material, colour=asked.colour, grams_full=max(asked.grams_full, left), grams_left=left,
            place=asked.place, price=asked.price, added_at=context.clock.now(),
        )  # fmt: skip
        db.add(row)
        await db.commit()
    return _spool(fleet, row)


@router.patch("/spools/{number:record}")
async def change_spool(
    number: Number, change: w.SpoolUpdate, who: Caller, context: Context, fleet: TheFleet
) -> w.Spool:
    """Correct what is left by weighing, say where it lies, or that it is used up."""
    async with context.sessions() as db:
        row = await _find_spool(db, number)
        if change.grams_left is not None:
            text = f"weighed: {change.grams_left:.0f} g"
            records.note(db, row, context.clock.now(), change.grams_left - row.grams_left, text, who.signature)
            row.grams_full = max(row.grams_full, change.grams_left)
        if change.price is not None and change.price != row.price:
            row.price = change.price
            await work_out_again(db, row.added_at)
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
        await fleet.load(db)
    return _spool(fleet, row)


@router.post("/spools/{number:record}/load")
async def load_spool(number: Number, asked: w.LoadSpool, who: Caller, context: Context, fleet: TheFleet) -> w.Spool:
    """Put a spool on a tool; what was there goes back on the shelf. Work that waits for it starts."""
    known = fleet.find(asked.machine)
    who.must(Right.OPERATE, of_machine(known.row))
    if asked.tool not in {tool.get("number", 0) for tool in known.row.tools}:
        raise ApiProblem(422, f"{known.row.name} has no tool {asked.tool}.")
    async with context.sessions() as db:
        row = await _find_spool(db, number)
        machine = await db.get_one(t.Machine, known.row.id, with_for_update=True)
        _refuse_another_while_it_builds(machine, asked.tool, row)
        await records.load(db, row, machine, asked.tool)
        await db.commit()
        await fleet.load(db)
    return _spool(fleet, row)


def _refuse_another_while_it_builds(machine: t.Machine, number: int, spool: t.Spool) -> None:
    """Refuse another filament on a tool that is laying one. Raises ApiProblem (409)."""
    tool = next(tool for tool in machine.tools if tool.get("number", 0) == number)
    on = f"{tool['colour']} {tool['material']}".strip()
    wanted = f"{spool.colour} {spool.material}".strip()
    if machine.state in PRODUCTIVE and on and on.lower() != wanted.lower():
        raise ApiProblem(
            409, f"{machine.name} is building with {on}; pause its build or wait for its end, then load {wanted}."
        )


@router.get("/spools/{number:record}/changes")
async def spool_changes(number: Number, context: Context) -> list[w.SpoolEvent]:
    """What was taken from a spool, and what weighing it said; newest first."""
    query = select(t.SpoolChange).where(t.SpoolChange.spool_id == number).order_by(t.SpoolChange.id.desc()).limit(200)
    async with context.sessions() as db:
        await _find_spool(db, number)
        return [fill(w.SpoolEvent, c) for c in (await db.execute(query)).scalars()]
