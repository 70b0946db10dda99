"""What is done to records that were restored: nobody knows what happened since they were copied."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select, text
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import MachineState
from chronarch.core.notices.kinds import NoticeKind
from chronarch.records.ledger.intervals import enter_state
from chronarch.records.machines.tables import Machine
from chronarch.records.notices.opening import open_notice
from chronarch.records.orders.tables import Build

LEAP = 1000
"""Numbers that were given after the copy was made are not given again: tenders, people and labels may know them."""
REASON = "the records were restored; its tender has not told yet what became of it"
_NUMBERED = """
select table_name, auto_increment from information_schema.tables
where table_schema = database() and auto_increment is not null
"""


async def begin_anew(db: AsyncSession, at: datetime) -> int:
    """Take every machine to be in doubt from a time on (shop time), until its tender has told; and let numbers leap.
    How many machines there are. Committed by whoever asks."""
    open_builds = {machine: build for machine, build in await db.execute(
        select(Build.open_machine, Build.id).where(Build.open_machine.is_not(None))
    )}  # fmt: skip
    machines = (await db.execute(select(Machine).order_by(Machine.id))).scalars().all()
    for machine in machines:
        await enter_state(db, machine, at, MachineState.OFFLINE, REASON, open_builds.get(machine.id))
        machine.unsure = 0
    about = f"The records were restored as they were at {at:%Y-%m-%d %H:%M} UTC; what was done since is not in them."
    await open_notice(db, NoticeKind.STORAGE, at, about)
    return len(machines)


async def leap(db: AsyncSession) -> None:
    """Let all numbers that the database gives leap."""
    for table, following in (await db.execute(text(_NUMBERED))).all():
        await db.execute(text(f"alter table `{table}` auto_increment = {int(following) + LEAP}"))
