"""Machines: setting them up, and how they are now."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request, Response
from sqlalchemy import select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Named
from chronarch.core.ledger.intervals import OPEN_END
from chronarch.core.machines.address import parse_address
from chronarch.core.machines.states import MachineState
from chronarch.core.machines.tools import Tool
from chronarch.records import tables as t
from chronarch.records.machines import spools
from chronarch.service.context import Context, part_of
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.machines.machine_list import MachineList
from chronarch.service.machines.reach import check_reach
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import Label
from chronarch.wire.machines import machine as w

router = APIRouter(tags=["machines"], route_class=RetryingRoute)


@router.get("/machines", response_model=list[w.Machine])
async def machines(request: Request) -> Response:
    """All machines as they are now, by name."""
    # Asked for most often of all: a dependency would add a third to the time that an answer takes.
    return await part_of(request, MachineList).answer(request)


@router.post("/machines", status_code=201)
async def add_machine(
    asked: w.NewMachine,
    context: Context,
    fleet: TheFleet,
    tender: Annotated[Label, Query(min_length=1)] = "tender",
) -> w.MachineDetail:
    """Add a machine to a tender, which is told at once if it is connected."""
    address = parse_address(asked.link)
    if address.host:
        await check_reach(context.config, address.host, address.port, "link")
    async with context.sessions() as db:
        model = (await db.execute(select(t.Model).where(t.Model.name == asked.model))).scalar_one_or_none()
        if model is None:
            raise ApiProblem(422, f"There is no model named {asked.model!r}; add the model first.")
        row = (await db.execute(select(t.Tender).where(t.Tender.name == tender))).scalar_one_or_none()
        if row is None:
            row = t.Tender(name=tender)
            db.add(row)
            await db.flush()
        now = context.clock.now()
        device = address.device_key
        if address.scheme.at == "device":
            device = f"{tender} {device}"  # a port belongs to a computer, so each tender has its own
        holder = (await db.execute(select(t.Machine.name).where(t.Machine.device == device))).scalar_one_or_none()
        if holder is not None:
            raise ApiProblem(409, f"{address.shown} is {holder}'s link already; one device has one link.")
        machine = t.Machine(
            name=asked.name,
            model_id=model.id,
            tender_id=row.id,
            link=asked.link,
            device=device,
            intake=asked.intake,
            tools=[_kept(tool) for tool in asked.tools],
            site=asked.site,
            place=asked.place,
            pools=asked.pools,
            tags=asked.tags,
            releases_left=int(model.spec.get("releases", 0)),
            state=MachineState.IDLE,
            since=now,
        )
        db.add(machine)
        try:
            await db.flush()
            db.add(t.Ledger(machine_id=machine.id, state=MachineState.IDLE, begin_at=now, end_at=OPEN_END))
            await db.commit()
        except IntegrityError:
            raise ApiProblem(409, f"There is a machine named {asked.name!r} already; choose another name.") from None
        await fleet.load(db, asked.name)
        known = fleet.find(asked.name)
        await fleet.assign(db, known)
    return fleet.detail(known)


@router.get("/machines/{name}")
async def machine(name: Named, fleet: TheFleet) -> w.MachineDetail:
    return fleet.detail(fleet.find(name))


@router.patch("/machines/{name}")
async def change_machine(name: Named, change: w.MachineChange, context: Context, fleet: TheFleet) -> w.MachineDetail:
    """Change a machine's intake, what is loaded on its tools, where it stands, its pools and tags."""
    known = fleet.find(name)
    async with context.sessions() as db:
        row = await db.get_one(t.Machine, known.row.id, with_for_update=True)
        if change.intake is not None:
            row.intake = change.intake
        if change.tools is not None:
            row.tools = [_kept(tool) for tool in change.tools]
            await _set_spools(db, row, change.tools)
        for name_ in ("site", "place", "pools", "tags"):
            if getattr(change, name_) is not None:
                setattr(row, name_, getattr(change, name_))
        await db.commit()
        await fleet.load(db, row.name)
    return fleet.detail(known)


def _kept(tool: Tool) -> dict[str, Any]:
    """A tool as the machine's row has it; what is left on its spool is the spool's."""
    return {name: value for name, value in asdict(tool).items() if name not in ("spool", "grams")}


async def _set_spools(db: AsyncSession, row: t.Machine, tools: list[Tool]) -> None:
    """A tool loaded by number has that spool. If something else is said to be loaded, the spool that was there is back
    on the shelf."""
    for tool in tools:
        if tool.spool is not None:
            spool = await db.get(t.Spool, tool.spool)
            if spool is None:
                raise ApiProblem(422, f"There is no spool {tool.spool}; `chronarch spools list` shows all.")
            await spools.load(db, spool, row, tool.number)
            continue
        on = await spools.loaded_on(db, row.id, tool.number)
        if on is not None and (on.material, on.colour) != (tool.material, tool.colour):
            await spools.unload(db, row, tool.number)
