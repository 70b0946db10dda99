"""Builds under way: finding one, and having its machine do something."""

from __future__ import annotations

from typing import Any

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import BuildState
from chronarch.records import tables as t
from chronarch.records.orders.builds import builds_wire, select_builds
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.problems import ApiProblem
from chronarch.wire.control.commands import BuildCommand
from chronarch.wire.orders import builds as w


async def find_build(db: AsyncSession, number: int) -> Any:
    row = (await db.execute(select_builds().where(t.Build.id == number))).first()
    if row is None:
        raise ApiProblem(404, f"There is no build {number}; `chronarch builds list` shows the newest.")
    return row


async def build_view(db: AsyncSession, number: int) -> w.Build:
    """A build as the wire shows it. Raises ApiProblem (404)."""
    (wire,) = await builds_wire(db, [(await find_build(db, number))[0]])
    return wire


async def running(context: ServiceContext, fleet: Fleet, number: int, what: str) -> tuple[t.Build, FleetMachine]:
    """A build that has not ended, and its machine. Raises ApiProblem (404, 409)."""
    async with context.sessions() as db:
        row = await find_build(db, number)
    if row[0].state == BuildState.ENDED:
        raise ApiProblem(409, f"Build {number} has ended; there is nothing to {what}.")
    return row[0], fleet.find(row[1])


async def have_done(context: ServiceContext, fleet: Fleet, number: int, command: BuildCommand, by: str) -> w.Build:
    """Have the machine of a build do something. Returns the build as it is afterwards."""
    _, known = await running(context, fleet, number, command.kind.replace("_", " "))
    await fleet.command(known, command.model_copy(update={"build": number}), by)
    async with context.sessions() as db:
        return await build_view(db, number)
