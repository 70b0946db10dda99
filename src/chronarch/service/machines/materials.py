"""The shop's own materials, of which tenders hear at once: they heat for them."""

from __future__ import annotations

from dataclasses import asdict, replace

from sqlalchemy import func, select

from chronarch.core.machines.materials import USUAL_MATERIALS, Material
from chronarch.records import tables as t
from chronarch.records.machines.materials import load_materials
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet
from chronarch.service.problems import ApiProblem

MOST = 500


async def set_material(context: ServiceContext, fleet: Fleet, asked: Material) -> Material:
    """Say what a material is: one of the shop's own, or a usual one with other figures. Raises ApiProblem (409)."""
    async with context.sessions() as db:
        usual = USUAL_MATERIALS.get(asked.name)
        row = await db.get(t.Material, asked.name, with_for_update=True)
        if row is None and (await db.execute(select(func.count()).select_from(t.Material))).scalar_one() >= MOST:
            raise ApiProblem(409, f"There are {MOST} materials, and more are not kept; remove one first.")
        name = row.name if row is not None else usual.name if usual is not None else asked.name
        kept = replace(asked, name=name)
        await db.merge(t.Material(**asdict(kept)))
        await db.commit()
    await _tell(context, fleet)
    return kept


async def remove_material(context: ServiceContext, fleet: Fleet, name: str) -> None:
    """Forget what the shop said of a material: a usual one is as usual again. Raises ApiProblem (404)."""
    async with context.sessions() as db:
        row = await db.get(t.Material, name, with_for_update=True)
        if row is None:
            about = "is as usual already" if name in await load_materials(db) else "is not known"
            raise ApiProblem(404, f"The material {name!r} {about}; `chronarch materials list` shows all.")
        await db.delete(row)
        await db.commit()
    await _tell(context, fleet)


async def _tell(context: ServiceContext, fleet: Fleet) -> None:
    async with context.sessions() as db:
        for known in fleet.all():
            await fleet.assign(db, known)
