"""Reads one machine's ledger whole and proves it, from one state of the database."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger import proof
from chronarch.core.ledger.intervals import Interval
from chronarch.core.machines.states import MachineState
from chronarch.records.ledger.tables import Energy, Ledger, LedgerDay, LedgerMonth, TimeSum
from chronarch.records.machines.tables import Machine, SpoolChange
from chronarch.records.orders.tables import Build


@dataclass(frozen=True)
class MachineProof:
    """What was found of one machine, and of how much: `grams` were laid by its builds, `wh` drawn."""

    faults: tuple[proof.LedgerFault, ...]
    intervals: int
    builds: int
    grams: float
    wh: float


async def prove(db: AsyncSession, machine: int) -> MachineProof:
    """Prove the ledger of a machine. All is read as it was at one moment, so that what ends meanwhile does not
    matter."""
    await db.connection(execution_options={"isolation_level": "REPEATABLE READ"})
    rows = await db.execute(
        select(Ledger.begin_at, Ledger.end_at, Ledger.state, Ledger.build_id)
        .where(Ledger.machine_id == machine)
        .order_by(Ledger.begin_at, Ledger.end_at)
    )
    rolled_to = (await db.execute(select(Machine.ledger_rolled_to).where(Machine.id == machine))).scalar_one()
    ledger = [Interval(begin, end, MachineState(state), build) for begin, end, state, build in rows]
    columns = select(Build.id, Build.started_at, Build.ended_at, Build.grams).where(Build.machine_id == machine)
    builds = [proof.RecordedBuild(*row) for row in await db.execute(columns.order_by(Build.id))]
    days, months = [await _sums(db, table, machine) for table in (LedgerDay, LedgerMonth)]
    used = (
        select(SpoolChange.build_id, -func.sum(SpoolChange.grams))
        .join(Build, Build.id == SpoolChange.build_id)
        .where(Build.machine_id == machine)
        .group_by(SpoolChange.build_id)
    )
    taken = {build: float(grams) for build, grams in (await db.execute(used)).tuples() if build is not None}
    drawn = (await db.execute(select(Energy.build_id, Energy.day, Energy.wh).where(Energy.machine_id == machine))).all()
    found = [
        *proof.cover_faults(ledger),
        *proof.build_faults(ledger, builds, rolled_to),
        *proof.day_faults(ledger, days),
        *proof.month_faults(days, months),
        *proof.gram_faults(builds, taken),
        *proof.energy_faults(builds, [(build, day, wh) for build, day, wh in drawn]),
    ]
    return MachineProof(
        tuple(found), len(ledger), len(builds), sum(b.grams for b in builds), sum(wh for _, _, wh in drawn)
    )


async def _sums(db: AsyncSession, table: type[TimeSum], machine: int) -> dict[proof.DayState, int]:
    query = select(table.day, table.state, table.microseconds).where(table.machine_id == machine)
    return {(day, state): int(microseconds) for day, state, microseconds in await db.execute(query) if microseconds}
