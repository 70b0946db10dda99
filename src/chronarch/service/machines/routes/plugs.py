"""Plugs: setting them up, their profiles, and turning machines on and off."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic_core import to_jsonable_python
from sqlalchemy import select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Named
from chronarch.core.machines.plug_address import parse_plug_address
from chronarch.core.machines.plugs import PlugProfile
from chronarch.records import tables as t
from chronarch.records.audit import asks
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import Fleet, FleetMachine, TheFleet
from chronarch.service.machines.plugs import plug_wire, turn_power
from chronarch.service.machines.reach import check_reach
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.service.sealed_access import changed, seal
from chronarch.service.secrets import Secrets, TheSecrets
from chronarch.wire.common import RequestDone
from chronarch.wire.machines import power as w

router = APIRouter(tags=["power"], route_class=RetryingRoute)
MOST_PROFILES = 200


@router.get("/plugs")
async def plugs(fleet: TheFleet) -> list[w.Plug]:
    """The plugs of all machines that have one, by machine."""
    return [plug_wire(known) for known in fleet.all() if known.plug is not None]


@router.post("/plugs", status_code=201)
async def add_plug(asked: w.NewPlug, context: Context, fleet: TheFleet, secrets: TheSecrets) -> w.Plug:
    """Say on which plug a machine hangs. Its tender is told at once if it is connected."""
    known = fleet.find(asked.machine)
    async with context.sessions() as db:
        profile = await _profile(db, asked.profile)
        row = t.Plug(machine_id=known.row.id, profile_id=profile.id, rules=to_jsonable_python(asked.rules))
        await _keep(context, row, asked, profile, secrets)
        db.add(row)
        try:
            await db.commit()
        except IntegrityError:
            raise ApiProblem(409, f"{known.row.name} hangs on a plug already; change or remove that one.") from None
        await _told(db, fleet, known)
    return plug_wire(known)


@router.get("/plugs/{machine}")
async def plug(machine: Named, fleet: TheFleet) -> w.Plug:
    return plug_wire(fleet.find(machine))


@router.patch("/plugs/{machine}")
async def change_plug(
    machine: Named, change: w.PlugChange, context: Context, fleet: TheFleet, secrets: TheSecrets
) -> w.Plug:
    """Change a machine's plug. Its password is kept only as long as the address stays."""
    known = fleet.find(machine)
    plug_wire(known)
    async with context.sessions() as db:
        row = await db.get_one(t.Plug, known.row.id, with_for_update=True)
        profile = (
            await _profile(db, change.profile) if change.profile else await db.get_one(t.PlugProfile, row.profile_id)
        )
        row.profile_id = profile.id
        if change.rules is not None:
            row.rules = to_jsonable_python(change.rules)
        await _keep(context, row, changed(row, change, w.PlugAccess, secrets), profile, secrets)
        await db.commit()
        await _told(db, fleet, known)
    return plug_wire(known)


@router.delete("/plugs/{machine}")
async def remove_plug(machine: Named, context: Context, fleet: TheFleet) -> RequestDone:
    """A machine hangs on no plug any more; it stays as it is."""
    known = fleet.find(machine)
    plug_wire(known)
    async with context.sessions() as db:
        await db.delete(await db.get_one(t.Plug, known.row.id))
        await db.commit()
        await _told(db, fleet, known)
    return RequestDone(text=f"{known.row.name} hangs on no plug any more")


@router.post("/machines/{name}/power")
async def power(name: Named, wish: w.PowerWish, who: Caller, context: Context, fleet: TheFleet) -> w.Plug:
    """Turn a machine on or off. Off is refused while it builds, stands paused or is hot, unless it is forced with a
    reason, which is recorded."""
    known = fleet.find(name)
    asks(" ".join(filter(None, ("on" if wish.on else "off", wish.reason and f"by force: {wish.reason}"))))
    await turn_power(context, fleet, known, wish, who.name)
    return plug_wire(known)


@router.get("/plug-profiles")
async def profiles(context: Context) -> list[PlugProfile]:
    """How plugs of each make are read and turned."""
    async with context.sessions() as db:
        rows = (await db.execute(select(t.PlugProfile).order_by(t.PlugProfile.name).limit(MOST_PROFILES))).scalars()
        return [w.plug_profile.validate_python(row.spec) for row in rows]


@router.put("/plug-profiles/{name}")
async def set_profile(name: Named, asked: PlugProfile, context: Context, fleet: TheFleet) -> PlugProfile:
    """Describe plugs of a make. Plugs that have this profile are asked so from now on."""
    if asked.name != name:
        raise ApiProblem(422, f"The profile is named {asked.name!r}, and the address says {name!r}.")
    async with context.sessions() as db:
        row = (await db.execute(select(t.PlugProfile).where(t.PlugProfile.name == name))).scalar_one_or_none()
        if row is None:
            row = t.PlugProfile(name=name)
            db.add(row)
        elif row.spec["kind"] != asked.kind and any(_has(known, name) for known in fleet.all()):
            raise ApiProblem(409, f"Plugs are asked by {name!r} over {row.spec['kind']}; make another profile.")
        row.spec = to_jsonable_python(asked)
        await db.commit()
        for known in fleet.all():
            if _has(known, name):
                await fleet.assign(db, known)
    return asked


@router.delete("/plug-profiles/{name}")
async def remove_profile(name: Named, context: Context) -> RequestDone:
    """Forget a profile that no plug has."""
    async with context.sessions() as db:
        row = await _profile(db, name)
        try:
            await db.delete(row)
            await db.commit()
        except IntegrityError:
            raise ApiProblem(409, f"Plugs have the profile {name!r}; give them another first.") from None
    return RequestDone(text=f"the profile {name} is removed")


def _has(known: FleetMachine, profile: str) -> bool:
    return known.plug is not None and known.plug[1] == profile


async def _profile(db: AsyncSession, name: str) -> t.PlugProfile:
    row = (await db.execute(select(t.PlugProfile).where(t.PlugProfile.name == name))).scalar_one_or_none()
    if row is None:
        raise ApiProblem(422, f"There is no plug profile named {name!r}; `chronarch plugs profiles` shows all.")
    return row


async def _keep(context: Context, row: t.Plug, asked: w.PlugAccess, profile: t.PlugProfile, secrets: Secrets) -> None:
    """Keep where a plug is: what is secret encrypted, the rest as everybody may see it. Raises ApiProblem (422)."""
    address = parse_plug_address(asked.address)
    if address.kind != profile.spec["kind"]:
        text = f"The profile {profile.name!r} is for {profile.spec['kind']}, and the address is {address.scheme}."
        raise ApiProblem(422, text)
    await check_reach(context.config, address.host, address.port, "plug")
    login, password = asked.login or address.login, asked.password or address.password
    access = w.PlugAccess(address=address.url, login=login, password=password)
    seal(row, access, address.url, secrets)


async def _told(db: AsyncSession, fleet: Fleet, known: FleetMachine) -> None:
    await fleet.load(db, known.row.name)
    await fleet.assign(db, known)
