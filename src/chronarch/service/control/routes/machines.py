"""Having a machine do something by hand."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Body, Query
from sqlalchemy import select

from chronarch.core.access.rights import Right
from chronarch.core.bounds import Named
from chronarch.core.control import actions as h
from chronarch.core.control.action_wording import adjustment
from chronarch.core.machines.bed_mesh import BedMesh
from chronarch.core.machines.materials import USUAL_MATERIALS, Materials
from chronarch.core.machines.states import WORKING, MachineState
from chronarch.records import tables as t
from chronarch.records.audit import asks
from chronarch.records.machines.materials import load_materials
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import Fleet, FleetMachine, TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.principals import Principal
from chronarch.service.problems import ApiProblem
from chronarch.service.whereabouts import of_machine
from chronarch.wire.common import RequestDone
from chronarch.wire.control import actions as w
from chronarch.wire.control import commands as c
from chronarch.wire.machines.bed_mesh import BedLevel
from chronarch.wire.machines.machine import OutOfWork

router = APIRouter(tags=["machines"], route_class=RetryingRoute)
HANDS_WITHIN_S = 310.0


@router.post("/machines/{name}/take-out")
async def take_out(name: Named, asked: OutOfWork, who: Caller, fleet: TheFleet) -> RequestDone:
    """Take an idle machine out of work (state `service`)."""
    known = fleet.find(name)
    await fleet.command(known, c.TakeOut(reason=asked.reason or f"taken out by {who.signature}"))
    return RequestDone(text=f"{known.row.name} is in service.")


@router.post("/machines/{name}/put-back")
async def put_back(name: Named, fleet: TheFleet) -> RequestDone:
    """Give a machine back to work after service or a fault; or once the bed is clear of a build that the records do
    not know, because they were restored."""
    known = fleet.find(name)
    strange = known.row.strange_build
    if strange is not None and known.row.state == MachineState.UNCLEARED:
        await fleet.command(known, c.Clear(build=strange))
    else:
        await fleet.command(known, c.PutBack())
    return RequestDone(text=f"{known.row.name} is back.")


@router.post("/machines/{name}/emergency-stop")
async def emergency_stop(name: Named, fleet: TheFleet) -> RequestDone:
    """Halt a machine before everything else. Its build is lost."""
    known = fleet.find(name)
    await fleet.command(known, c.EmergencyStop())
    return RequestDone(text=f"{known.row.name} was halted.")


@router.post("/machines/{name}/do")
async def do(
    name: Named, action: Annotated[w.Action, Body()], who: Caller, fleet: TheFleet, context: Context
) -> w.ActionDone:  # fmt: skip
    """Have a machine do something. Answers once the machine has done it. While a build runs, only actions meant for a
    running build are possible. Sending a line, or running a guarded sequence, needs the right to send lines."""
    known = fleet.find(name)
    asks(adjustment(action))
    _may(action, known, who)
    async with context.sessions() as db:
        materials = await load_materials(db)
    h.check(action, known.model, standing(fleet, known, materials))
    reply = await fleet.command(known, c.Act(action=action), who.signature, HANDS_WITHIN_S)
    return w.ActionDone(text=f"{known.row.name}: {adjustment(action)}.", said=reply.said)


def _may(action: h.Action, known: FleetMachine, who: Principal) -> None:
    """Raises ApiProblem (403) when this takes more than the right to operate."""
    deep = isinstance(action, h.SendLine)
    if isinstance(action, h.RunSequence):
        deep = h.find_sequence(known.model, action.sequence).guarded
    if deep:
        who.must(Right.SEND_LINES, of_machine(known.row))


def standing(fleet: Fleet, known: FleetMachine, materials: Materials = USUAL_MATERIALS) -> h.MachineSituation:
    """What `actions.check` must know of a machine, from what was last heard of it."""
    sample = known.sample
    if sample is None or not fleet.reachable(known):
        raise ApiProblem(503, f"The tender {known.tender} of {known.row.name} is not connected; try again when it is.")
    state = MachineState(known.row.state)
    moment = (
        h.Activity.PAUSED
        if state is MachineState.PAUSED
        else h.Activity.BUILDING
        if state in WORKING
        else h.Activity.FREE
    )
    nozzle = sample.reading.nozzle.measured_c if sample.reading else None
    laden = known.brief is not None or known.row.state in (MachineState.COOLING, MachineState.UNCLEARED)
    return h.MachineSituation(moment, nozzle, sample.hands.position_mm, laden, materials)


@router.get("/machines/{name}/level-maps")
async def level_maps(
    name: Named, context: Context, fleet: TheFleet, limit: Annotated[int, Query(ge=1, le=100)] = 20
) -> list[BedLevel]:
    """How level the bed was, newest first."""
    known = fleet.find(name)
    query = select(t.BedMesh).where(t.BedMesh.machine_id == known.row.id).order_by(t.BedMesh.at.desc()).limit(limit)
    async with context.sessions() as db:
        rows = (await db.execute(query)).scalars().all()
    found = []
    for row in rows:
        measured = BedMesh(tuple(tuple(r) for r in row.rows))
        found.append(
            BedLevel(
                at=row.at, rows=row.rows, range_mm=measured.range_mm, mean_mm=measured.mean_mm,
                deviation_mm=measured.deviation_mm,
            )
        )  # fmt: skip
    return found
