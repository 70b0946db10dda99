"""Reading and writing the ledger's intervals."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.intervals import OPEN_END, Interval, MadeBuild
from chronarch.core.machines.states import MachineState
from chronarch.records.ledger.tables import Ledger
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build
from chronarch.wire import ledger as wm


def interval_of(row: Ledger) -> Interval:
    return Interval(row.begin_at, row.end_at, MachineState(row.state), row.build_id)


def entry_wire(machine: str, row: Ledger) -> wm.LedgerEntry:
    return wm.LedgerEntry(
        machine=machine,
        state=MachineState(row.state),
        begin=row.begin_at,
        end=None if row.end_at == OPEN_END else row.end_at,
        build=row.build_id,
    )


async def ledger_between(db: AsyncSession, begin: datetime, end: datetime) -> Sequence[Ledger]:
    """All machines' intervals that touch begin..end, oldest first."""
    found = await db.execute(
        select(Ledger).where(Ledger.begin_at < end, Ledger.end_at > begin).order_by(Ledger.machine_id, Ledger.begin_at)
    )
    return found.scalars().all()


async def builds_that_ran(
    db: AsyncSession, begin: datetime, end: datetime
) -> Sequence[tuple[int, datetime, datetime | None]]:
    """Machine, start and end of builds that touch begin..end, and of each machine's last one before."""
    week = begin - timedelta(days=7)
    rows = await db.execute(
        select(Build.machine_id, Build.started_at, Build.ended_at).where(
            Build.started_at.is_not(None), Build.started_at >= week, Build.started_at < end
        )
    )
    return [(machine, started, ended) for machine, started, ended in rows if started is not None]


async def builds_ended_between(db: AsyncSession, begin: datetime, end: datetime) -> dict[int, list[MadeBuild]]:
    """What a report needs of the builds that ended in begin..end, by machine number."""
    rows = await db.execute(
        select(Build.machine_id, Build.verdict, Build.grams).where(Build.ended_at >= begin, Build.ended_at < end)
    )
    made: dict[int, list[MadeBuild]] = {}
    for machine, verdict, grams in rows:
        made.setdefault(machine, []).append(MadeBuild(verdict or "", grams))
    return made


async def enter_state(
    db: AsyncSession, machine: Machine, at: datetime, state: MachineState, reason: str, build: int | None
) -> None:
    """Write a machine's new state into its row and the ledger: the open interval ends where the new one begins."""
    last = (
        await db.execute(
            select(Ledger).where(Ledger.machine_id == machine.id, Ledger.end_at == OPEN_END).with_for_update()
        )
    ).scalar_one_or_none()
    machine.reason = reason[:300]
    if last is not None and last.state == state and last.build_id == build:
        machine.state = state
        return
    if last is not None:
        at = max(at, last.begin_at)
        if last.begin_at == at:
            await db.delete(last)
        else:
            last.end_at = at
        await db.flush()
    machine.state, machine.since = state, at
    db.add(Ledger(machine_id=machine.id, state=state, begin_at=at, end_at=OPEN_END, build_id=build))
