"""What builds were made with: material, colour, nozzle and spool of each tool."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records.machines.tables import Machine, Spool
from chronarch.records.orders.tables import BuildUse


async def begin(db: AsyncSession, machine: Machine, build: int) -> None:
    """A build begins: note what is on each tool of its machine."""
    for tool, row in (await _now(db, machine)).items():
        await db.merge(BuildUse(build_id=build, tool=tool, **row))


async def end(db: AsyncSession, machine: Machine, build: int, grams: Mapping[int, float]) -> None:
    """A build has ended: note what its tools laid, and with what, as it was at last. Tools that laid nothing go."""
    there = await _now(db, machine)
    laid = {tool: used for tool, used in grams.items() if used > 0 and tool in there}
    if not laid:
        return
    await db.execute(delete(BuildUse).where(BuildUse.build_id == build, BuildUse.tool.not_in(laid)))
    for tool, used in laid.items():
        await db.merge(BuildUse(build_id=build, tool=tool, **there[tool], grams=used))


async def _now(db: AsyncSession, machine: Machine) -> dict[int, dict[str, Any]]:
    loaded = await db.execute(select(Spool.tool, Spool.id).where(Spool.machine_id == machine.id))
    spools = {tool or 0: number for tool, number in loaded}
    return {
        tool.get("number", 0): {
            "material": tool.get("material", ""), "colour": tool.get("colour", ""),
            "nozzle_mm": tool.get("nozzle_mm", 0.4), "spool_id": spools.get(tool.get("number", 0)),
        }
        for tool in machine.tools
    }  # fmt: skip
