"""Plugs: what their tenders must know of them, and turning them."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import Gravity, NoticeKind
from chronarch.records import tables as t
from chronarch.records.notices.opening import open_notice
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.problems import ApiProblem
from chronarch.service.sealed_access import opened_or_shown
from chronarch.service.secrets import Secrets
from chronarch.wire.common import fill
from chronarch.wire.control.commands import TurnPower
from chronarch.wire.machines import power as w

LONGEST_TURN_S = 40.0
"""Real seconds that turning may take, beside the fan's run-on."""


async def setup_of(db: AsyncSession, secrets: Secrets, machine: int) -> w.PlugSetup | None:
    """A machine's plug as its tender knows it; None without one, or when its secrets are lost."""
    query = select(t.Plug, t.PlugProfile).join(t.PlugProfile, t.PlugProfile.id == t.Plug.profile_id)
    row = (await db.execute(query.where(t.Plug.machine_id == machine))).first()
    if row is None:
        return None
    access = opened_or_shown(row[0], w.PlugAccess, secrets)
    rules = w.power_rules.validate_python(row[0].rules)
    return w.PlugSetup(access=access, profile=w.plug_profile.validate_python(row[1].spec), rules=rules)


def plug_wire(known: FleetMachine) -> w.Plug:
    """A machine's plug as people see it. Raises ApiProblem (404) when it has none."""
    if known.plug is None:
        raise ApiProblem(404, f"{known.row.name} hangs on no plug; add one with `chronarch plugs add`.")
    row, profile = known.plug
    rules = w.power_rules.validate_python(row.rules)
    power = known.sample.power if known.sample else None
    return fill(
        w.Plug, row, machine=known.row.name, profile=profile, address=row.shown, rules=rules, power=power
    )  # fmt: skip


async def turn_power(
    context: ServiceContext, fleet: Fleet, known: FleetMachine, wish: w.PowerWish, by: str, *, by_itself: bool = False
) -> None:
    """Have a machine's plug turned. Returns once it says so. Raises ApiProblem (404, 409, 503)."""
    plug = plug_wire(known)
    rate = context.clock.rate
    within_s = LONGEST_TURN_S + (0.0 if wish.on or wish.force else plug.rules.run_on_s / rate)
    await fleet.command(known, TurnPower(on=wish.on, force=wish.force), by, within_s)
    now = context.clock.now()
    known.woken_at = now if wish.on else None
    async with context.sessions() as db:
        row = await db.get(t.Plug, known.row.id, with_for_update=True)
        if row is not None:
            row.off_by_itself = by_itself and not wish.on
        if wish.force:
            build = known.brief.id if known.brief and known.brief.outcome is None else None
            text = f"{by} turned {known.row.name} off although it was {known.row.state}: {wish.reason}"
            about = {"machine_id": known.row.id, "build_id": build}
            await open_notice(db, NoticeKind.POWER, now, text, gravity=Gravity.ACT, **about)
        await db.commit()
        await fleet.load(db, known.row.name)
