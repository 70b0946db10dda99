"""Spools: what is loaded where, counted down by use, corrected by weighing."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records.machines.tables import Machine, Spool, SpoolChange


async def loaded_on(db: AsyncSession, machine: int, tool: int) -> Spool | None:
    """The spool on a machine's tool."""
    query = select(Spool).where(Spool.machine_id == machine, Spool.tool == tool).with_for_update()
    return (await db.execute(query)).scalar_one_or_none()


async def unload(db: AsyncSession, machine: Machine, tool: int) -> Spool | None:
    """Put what is on a tool back on the shelf."""
    spool = await loaded_on(db, machine.id, tool)
    if spool is not None:
        spool.machine_id = spool.tool = None
        await db.flush()
    return spool


async def load(db: AsyncSession, spool: Spool, machine: Machine, tool: int) -> None:
    """Put a spool on a tool, wherever it was before. The row of the machine says so too."""
    before = await loaded_on(db, machine.id, tool)
    if before is not None and before.id != spool.id:
        before.machine_id = before.tool = None
        await db.flush()
    if spool.machine_id is not None and (spool.machine_id, spool.tool) != (machine.id, tool):
        other = await db.get_one(Machine, spool.machine_id, with_for_update=True)
        other.tools = [_bare(t) if t.get("number", 0) == spool.tool else t for t in other.tools]
    spool.machine_id, spool.tool, spool.finished = machine.id, tool, False
    wears = {"material": spool.material, "colour": spool.colour}
    machine.tools = [{**t, **wears} if t.get("number", 0) == tool else t for t in machine.tools]
    await db.flush()


def _bare(tool: dict[str, object]) -> dict[str, object]:
    return {**tool, "material": "", "colour": ""}


def note(
    db: AsyncSession, spool: Spool, at: datetime, grams: float, text: str, by: str, build: int | None = None
) -> None:
    """Change what is left on a spool, and write down why; `build` is the one that took it."""
    spool.grams_left = max(0.0, spool.grams_left + grams)
    db.add(SpoolChange(spool_id=spool.id, at=at, grams=grams, text=text[:300], by=by[:120], build_id=build))


async def use(db: AsyncSession, machine: Machine, grams: Mapping[int, float], at: datetime, build: int) -> None:
    """Take what a build laid down with each tool from the spool on it."""
    for tool, used in sorted(grams.items()):
        spool = await loaded_on(db, machine.id, tool) if used > 0 else None
        if spool is not None:
            note(db, spool, at, -min(used, spool.grams_left), f"build {build} on {machine.name}", machine.name, build)
