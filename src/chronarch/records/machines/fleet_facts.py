"""What machines tell of themselves: firmware and stored settings, each from when it was so."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.control.firmware_info import FirmwareInfo
from chronarch.records.machines.tables import MachineFirmware, MachineSettings

MOST_SETTINGS = 300
MOST_KEPT = 50
"""So many times what a machine tells differs are kept."""


async def settings_told(db: AsyncSession, machine: int, at: datetime, values: dict[str, float]) -> None:
    """Keep what a machine has stored, if that has changed; committed by whoever asks."""
    values = dict(list(values.items())[:MOST_SETTINGS])
    table = MachineSettings
    query = select(table).where(table.machine_id == machine, table.at <= at).order_by(table.at.desc())
    query = query.limit(MOST_KEPT + 1)
    rows = (await db.execute(query)).scalars().all()
    if rows and rows[0].values == values:
        rows[0].told_at = max(at, rows[0].told_at)
        return
    if len(rows) > MOST_KEPT:
        await db.delete(rows[-1])
    await db.merge(table(machine_id=machine, at=at, told_at=at, values=values))


async def firmware_told(db: AsyncSession, machine: int, at: datetime, said: FirmwareInfo) -> None:
    """Keep what a machine says of itself, if that has changed; committed by whoever asks."""
    table = MachineFirmware
    query = select(table).where(table.machine_id == machine).order_by(table.at.desc()).limit(MOST_KEPT + 1)
    rows = (await db.execute(query)).scalars().all()
    new = (said.firmware[:200], dict(list(said.words.items())[:50]), dict(list(said.capabilities.items())[:200]))
    if rows and (rows[0].firmware, rows[0].words, rows[0].capabilities) == new:
        return
    if len(rows) > MOST_KEPT:
        await db.delete(rows[-1])
    await db.merge(table(machine_id=machine, at=at, firmware=new[0], words=new[1], capabilities=new[2]))
