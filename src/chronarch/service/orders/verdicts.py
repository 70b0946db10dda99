"""Verdicts: what became of a build, counted."""

from __future__ import annotations

import logging

from chronarch.core.machines.states import BuildState, MachineState
from chronarch.core.orders.judging import judged
from chronarch.records import tables as t
from chronarch.records.orders import orders
from chronarch.records.orders.jobs import copies_of
from chronarch.service.context import ServiceContext
from chronarch.service.control.builds import build_view
from chronarch.service.machines.fleet import Fleet
from chronarch.service.principals import Principal
from chronarch.service.problems import ApiProblem
from chronarch.wire.control.commands import Clear
from chronarch.wire.orders import builds as w

log = logging.getLogger("chronarch.builds")


async def judge(context: ServiceContext, fleet: Fleet, number: int, asked: w.Clearing, who: Principal) -> w.Build:
    """Write down a verdict and that the bed is clear, and tell the machine. Raises ApiProblem (404, 409, 422)."""
    async with context.sessions() as db:
        build = await db.get(t.Build, number)
        if build is None:
            raise ApiProblem(404, f"There is no build {number}; `chronarch builds list` shows the newest.")
        # The machine first, as its events and its releases lock them: in one order nobody waits for ever.
        machine = await db.get_one(t.Machine, build.machine_id, with_for_update=True)
        await db.refresh(build, with_for_update=True)
        if build.verdict is not None:
            raise ApiProblem(409, f"Build {number} has its verdict already: {build.verdict}, by {build.judged_by}.")
        lifted = build.cleared_at is not None
        if build.state != BuildState.ENDED or (machine.state == MachineState.COOLING and not lifted):
            doing = (
                "has not ended yet" if build.state != BuildState.ENDED else "has ended, but its bed is still too hot"
            )
            raise ApiProblem(409, f"Build {number} {doing}; {machine.name} is {machine.state}. Clear it afterwards.")
        job = await db.get_one(
            t.Job, build.job_id, with_for_update=True
        )  # two verdicts at once count one after the other
        before = (await copies_of(db, [job]))[job.id]
        build.verdict, build.good_pieces = judged(number, build.pieces, asked.verdict, asked.good, asked.reason)
        build.scrap_reason, build.judged_by = asked.reason, who.signature
        build.cleared_at = build.cleared_at or context.clock.now()
        if not lifted:
            machine.release_stuck = ""
            machine.releases_left = known_releases(fleet, machine.name)
        await orders.settle(db, job, before, context.clock.now())
        await db.commit()
        name = machine.name
    known = fleet.find(name)
    if not lifted:
        try:
            await fleet.command(known, Clear(build=number))
        except ApiProblem as error:
            log.warning("%s hears later that its bed is clear: %s", name, error)
    async with context.sessions() as db:
        await fleet.load(db, name)
        wire = await build_view(db, number)
    return wire


def known_releases(fleet: Fleet, machine: str) -> int:
    """How many parts in a row a machine may release, counted from the beginning because somebody was there."""
    return fleet.find(machine).model.releases
