"""Materials."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path

from chronarch.core.machines.materials import Material
from chronarch.records.machines.materials import load_materials, own_materials
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.machines.materials import remove_material, set_material
from chronarch.wire.common import RequestDone
from chronarch.wire.machines.material import KnownMaterial

router = APIRouter(tags=["machines"], route_class=RetryingRoute)
Name = Annotated[str, Path(min_length=1, max_length=60)]


@router.get("/materials")
async def materials(context: Context) -> list[KnownMaterial]:
    """All that are known: weights and presets go by them. A material that is not here weighs what PLA does."""
    async with context.sessions() as db:
        own = {one.name.casefold() for one in await own_materials(db)}
        known = (await load_materials(db)).values()
    return [KnownMaterial(material=one, own=one.name.casefold() in own) for one in known]


@router.put("/materials")
async def put_material(asked: Material, context: Context, fleet: TheFleet) -> Material:
    """Add a material, or give a usual one the shop's own figures. What was weighed before stays."""
    return await set_material(context, fleet, asked)


@router.delete("/materials/{name}")
async def drop_material(name: Name, context: Context, fleet: TheFleet) -> RequestDone:
    """Forget what the shop said of a material."""
    await remove_material(context, fleet, name)
    return RequestDone(text=f"The shop's own figures of {name} are forgotten.")
