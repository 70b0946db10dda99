"""The state of the fleet: firmware and what machines have stored."""

from __future__ import annotations

import asyncio
from typing import Annotated

from fastapi import APIRouter, Query
from sqlalchemy import select

from chronarch.core.control import actions
from chronarch.core.errors import CoreError
from chronarch.core.machines.states import MachineState
from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import Fleet, FleetMachine, TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.service.upkeep.fleet_state import fleet_state
from chronarch.wire.common import RequestDone
from chronarch.wire.control import commands as c
from chronarch.wire.upkeep import fleet_state as w

router = APIRouter(tags=["upkeep"], route_class=RetryingRoute)
WITHIN_S = 60.0
AT_ONCE = 20


@router.get("/fleet-state")
async def state(context: Context, fleet: TheFleet) -> list[w.FleetOfModel]:
    """By model: which firmware each machine has and should have, what it can do, and which of the values that the
    machines have stored are not the same on all."""
    async with context.sessions() as db:
        return await fleet_state(db, fleet)


@router.put("/fleet-state/firmware")
async def want(asked: w.FirmwareWish, who: Caller, context: Context) -> RequestDone:
    """The firmware that the shop wants on all machines of a model, as they say it."""
    async with context.sessions() as db:
        model = (await db.execute(select(t.Model.id).where(t.Model.name == asked.model))).scalar()
        if model is None:
            raise ApiProblem(404, f"There is no model {asked.model}; `chronarch models list` shows them.")
        row = await db.get(t.WantedFirmware, model)
        if row is not None and not asked.firmware:
            await db.delete(row)
        elif asked.firmware:
            now = context.clock.now()
            await db.merge(t.WantedFirmware(model_id=model, firmware=asked.firmware, set_by=who.signature, set_at=now))
        await db.commit()
    text = f"{asked.model}: {asked.firmware} is wanted." if asked.firmware else f"{asked.model}: any firmware will do."
    return RequestDone(text=text)


@router.post("/fleet-state/settings")
async def ask_settings(
    who: Caller, fleet: TheFleet,
    model: Annotated[str, Query(max_length=300, description="Only machines of this model.")] = "",
    machine: Annotated[str, Query(max_length=300, description="Only this machine.")] = "",
) -> w.AskedSettings:  # fmt: skip
    """Ask machines what they have stored: those with nothing to do now, 20 at once."""
    some = [fleet.find(machine)] if machine else [one for one in fleet.all() if model in ("", one.model.name)]
    turns = asyncio.Semaphore(AT_ONCE)

    async def ask(known: FleetMachine) -> str:
        async with turns:
            return await _ask(fleet, known, who.signature)

    whys = await asyncio.gather(*(ask(known) for known in some))
    found = list(zip(some, whys, strict=True))
    return w.AskedSettings(
        told=[known.row.name for known, why in found if not why],
        not_asked=[w.NotAsked(machine=known.row.name, why=why) for known, why in found if why],
    )


async def _ask(fleet: Fleet, known: FleetMachine, by: str) -> str:
    """Why a machine did not tell; empty where it did."""
    if known.row.state != MachineState.IDLE or known.brief is not None:
        return f"it is {known.row.state}; it is asked when it is idle"
    try:
        await fleet.command(known, c.Act(action=actions.ReadSettings()), by, WITHIN_S)
    except (ApiProblem, CoreError) as error:
        return str(error)
    return ""
