"""Finding machines, and having them join."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path

from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.finding import TheMachineFinder
from chronarch.service.machines.fleet import TheFleet
from chronarch.wire.machines import finding as w
from chronarch.wire.machines import machine as wm

router = APIRouter(tags=["machines"], route_class=RetryingRoute)
JoinId = Annotated[str, Path(pattern="^[0-9a-f]{32}$")]


@router.post("/machines-found")
async def find_machines(wish: w.FindWish, finder: TheMachineFinder) -> w.Looked:
    """Look for machines from where a tender runs: on its networks, at its serial ports, and at a broker."""
    return await finder.find(wish)


@router.post("/machines-found/greet")
async def greet_machine(wish: w.GreetWish, finder: TheMachineFinder) -> w.Found:
    """Ask what is at an address. Nothing is moved or heated; a board at a serial port may start anew."""
    return await finder.greet(wish)


@router.post("/joins", status_code=201)
async def begin_join(wish: w.JoinWish, finder: TheMachineFinder) -> w.Join:
    """Have a machine show a code on its display, or wait for its own click, so that none is taken by mistake."""
    return await finder.begin(wish)


@router.get("/joins/{join}")
async def join_standing(join: JoinId, finder: TheMachineFinder) -> w.Join:
    """How a join stands: whether somebody has clicked."""
    return finder.find_join(join).shown()


@router.post("/joins/{join}/confirmed", status_code=201)
async def confirm_join(
    join: JoinId, said: w.JoinConfirmed, finder: TheMachineFinder, fleet: TheFleet
) -> wm.MachineDetail:
    """The machine joins the shop, with the code that its display shows, or once it was clicked."""
    return fleet.detail(await finder.confirm(join, said))
