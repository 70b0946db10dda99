"""Machines: setting them up, and how they are now."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response

from chronarch.core.access.rights import Right
from chronarch.core.bounds import Named
from chronarch.service.context import Context, part_of
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines import setting_up
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.machines.machine_list import MachineList
from chronarch.service.permissions import Caller
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
    return fleet.detail(await setting_up.add_machine(context, fleet, asked, tender))


@router.get("/machines/{name}")
async def machine(name: Named, fleet: TheFleet) -> w.MachineDetail:
    return fleet.detail(fleet.find(name))


@router.patch("/machines/{name}")
async def change_machine(
    name: Named, change: w.MachineChange, who: Caller, context: Context, fleet: TheFleet
) -> w.MachineDetail:
    """Change a machine's intake, what is loaded on its tools, where it stands, its pools and tags. All but its intake
    and what is loaded needs the right to set up the shop."""
    if change.model_fields_set - {"intake", "tools"}:
        who.must(Right.SET_UP)
    return fleet.detail(await setting_up.change_machine(context, fleet, name, change))
