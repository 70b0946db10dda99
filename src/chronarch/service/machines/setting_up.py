"""Setting machines and models up."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from pydantic_core import to_jsonable_python
from sqlalchemy import select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.control.actions import check_model
from chronarch.core.ledger.intervals import OPEN_END
from chronarch.core.machines.address import Address, parse_address
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState
from chronarch.core.machines.tools import Tool
from chronarch.records import tables as t
from chronarch.records.machines import spools
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.machines.reach import check_reach
from chronarch.service.problems import ApiProblem
from chronarch.wire.machines import machine as w
from chronarch.wire.machines.model import machine_model


async def add_machine(context: ServiceContext, fleet: Fleet, asked: w.NewMachine, tender: str) -> FleetMachine:
    """Add a machine to a tender, which is told at once if it is connected. Raises ApiProblem (409, 422)."""
    address = parse_address(asked.link)
    if address.host:
        await check_reach(context.config, address.host, address.port, "link")
    async with context.sessions() as db:
        model = await _check_new(db, asked, tender)
        row = (await db.execute(select(t.Tender).where(t.Tender.name == tender))).scalar_one_or_none()
        if row is None:
            row = t.Tender(name=tender)
            db.add(row)
            await db.flush()
        now = context.clock.now()
        machine = t.Machine(
            name=asked.name,
            model_id=model.id,
            tender_id=row.id,
            link=asked.link,
            device=device_of(address, tender),
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
            raise ApiProblem(409, _taken(asked.name)) from None
        await fleet.load(db, asked.name)
        known = fleet.find(asked.name)
        await fleet.assign(db, known)
    return known


def device_of(address: Address, tender: str) -> str:
    """What no two machines share: a port belongs to a computer, so each tender has its own."""
    return f"{tender} {address.device_key}" if address.scheme.at == "device" else address.device_key


async def check_new(context: ServiceContext, fleet: Fleet, asked: w.NewMachine, tender: str) -> None:
    """Whether such a machine can be added. Raises ApiProblem (409, 422)."""
    async with context.sessions() as db:
        await _check_new(db, asked, tender)
    if any(known.row.name.casefold() == asked.name.casefold() for known in fleet.all()):
        raise ApiProblem(409, _taken(asked.name))


async def _check_new(db: AsyncSession, asked: w.NewMachine, tender: str) -> t.Model:
    model = await _model(db, asked.model)
    await _free(db, parse_address(asked.link), tender)
    return model


async def _model(db: AsyncSession, name: str) -> t.Model:
    model = (await db.execute(select(t.Model).where(t.Model.name == name))).scalar_one_or_none()
    if model is None:
        raise ApiProblem(422, f"There is no model named {name!r}; add the model first.")
    return model


async def _free(db: AsyncSession, address: Address, tender: str, but: int = 0) -> None:
    """Raises ApiProblem (409) where an address is another machine's."""
    query = select(t.Machine.name).where(t.Machine.device == device_of(address, tender), t.Machine.id != but)
    holder = (await db.execute(query)).scalar_one_or_none()
    if holder is not None:
        raise ApiProblem(409, f"{address.shown} is {holder}'s link already; one device has one link.")


def _taken(name: str) -> str:
    return f"There is a machine named {name!r} already; choose another name."


async def change_machine(context: ServiceContext, fleet: Fleet, name: str, change: w.MachineChange) -> FleetMachine:
    """Change a machine, and tell its tender what it has to know. Raises ApiProblem (404, 422)."""
    known = fleet.find(name)
    anew = change.link is not None or change.model is not None
    if anew and known.brief is not None:
        raise ApiProblem(409, f"A build is on {known.row.name}; it gets another link or model once its bed is clear.")
    address = parse_address(change.link) if change.link is not None else None
    if address is not None and address.host:
        await check_reach(context.config, address.host, address.port, "link")
    async with context.sessions() as db:
        row = await db.get_one(t.Machine, known.row.id, with_for_update=True)
        if address is not None:
            await _free(db, address, known.tender, known.row.id)
            row.link, row.device = address.text, device_of(address, known.tender)
        if change.model is not None:
            model = await _model(db, change.model)
            row.model_id, row.releases_left = model.id, int(model.spec.get("releases", 0))
        if change.intake is not None:
            row.intake = change.intake
        if change.tools is not None:
            row.tools = [_kept(tool) for tool in change.tools]
            await _set_spools(db, row, change.tools)
        for name_ in ("site", "place", "pools", "tags", "reversed_axes"):
            if getattr(change, name_) is not None:
                setattr(row, name_, getattr(change, name_))
        await db.commit()
        await fleet.load(db, row.name)
        if anew or change.reversed_axes is not None:
            await fleet.assign(db, known)
    return known


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


async def all_models(db: AsyncSession) -> list[MachineModel]:
    """By name."""
    rows = (await db.execute(select(t.Model).order_by(t.Model.name))).scalars()
    return [machine_model.validate_python(row.spec) for row in rows]


async def add_model(context: ServiceContext, asked: MachineModel) -> None:
    """Raises ApiProblem (409), ValueError."""
    check_model(asked)
    async with context.sessions() as db:
        db.add(t.Model(name=asked.name, spec=to_jsonable_python(asked)))
        try:
            await db.commit()
        except IntegrityError:
            raise ApiProblem(409, f"There is a model named {asked.name!r} already; choose another name.") from None


async def change_model(context: ServiceContext, fleet: Fleet, name: str, asked: MachineModel) -> None:
    """Change the figures of a model, and tell the tenders. Raises ApiProblem (404, 422), ValueError."""
    check_model(asked)
    async with context.sessions() as db:
        row = (await db.execute(select(t.Model).where(t.Model.name == name).with_for_update())).scalar_one_or_none()
        if row is None:
            raise ApiProblem(404, f"There is no model named {name!r}; `chronarch models list` shows all.")
        if asked.name != name:
            raise ApiProblem(422, f"The model's name stays {name!r}; add another model for another name.")
        row.spec = to_jsonable_python(asked)
        await db.commit()
        await fleet.load(db)
        for known in fleet.all():
            if known.model.name == name:
                await fleet.assign(db, known)
