"""The shop's materials: the usual ones, and what the records have in their place or besides."""

from __future__ import annotations

from dataclasses import fields

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.materials import USUAL_MATERIALS, Material, Materials
from chronarch.records.machines import tables as t

_FIELDS = tuple(field.name for field in fields(Material))


async def own_materials(db: AsyncSession) -> list[Material]:
    """What the shop has said of materials itself, by name."""
    rows = (await db.execute(select(t.Material).order_by(t.Material.name))).scalars()
    return [Material(**{name: getattr(row, name) for name in _FIELDS}) for row in rows]


async def load_materials(db: AsyncSession) -> Materials:
    """What holds for each."""
    return Materials(USUAL_MATERIALS.values(), await own_materials(db))
